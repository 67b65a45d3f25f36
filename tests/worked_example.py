"""The short example worked through, once for all processes that are forked after it."""

from __future__ import annotations

import functools
import tempfile
from pathlib import Path

from drover.core.examples import example
from drover.core.footage.reader import ClipReader
from drover.core.footage_types import ClipInfo
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.recipe import read_recipe
from drover.core.result_store import ResultStore
from drover.core.run import ClipRun, run_clip
from drover.core.types import Truth


@functools.cache
def short_info() -> ClipInfo:
    with ClipReader(example("gap-short").clip) as reader:
        return reader.info


@functools.cache
def short_truth() -> Truth:
    return read_truth(example("gap-short").truth, frame_count=short_info().frame_count)


@functools.cache
def short_work() -> tuple[ClipRun, dict[str, bytes]]:
    """What came of it, and the files of a store that knows it from then on."""
    chosen = example("gap-short")
    crossings, recipe = read_crossings(chosen.crossings), read_recipe(chosen.recipe)
    with tempfile.TemporaryDirectory() as folder:
        store = ResultStore(Path(folder))
        run = run_clip(short_info(), recipe, truth=short_truth(), true_crossings=crossings, store=store)
        files = {str(path.relative_to(folder)): path.read_bytes() for path in Path(folder).rglob("*") if path.is_file()}
    return run, files


def filled_store(folder: Path) -> ResultStore:
    """A store of its own in which the short example is known."""
    for name, data in short_work()[1].items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)
    return ResultStore(folder)
