"""What the commands are made of: opening, running, linking boxes, reporting, and the window's start."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import typer

from drover.cli.progress import shown_progress
from drover.cli.stopping import asked_to_stop
from drover.cli.tables import print_count_table, print_score_table
from drover.core.count.zones import zone_totals
from drover.core.edits.edit import Edit, read_edits
from drover.core.errors import DroverError
from drover.core.examples import example
from drover.core.footage.opened import open_footage
from drover.core.footage_types import ClipInfo
from drover.core.formats.box_import import read_box_file
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.recipe import Recipe, read_recipe
from drover.core.result_store import ResultStore
from drover.core.run import ClipRun, run_clip
from drover.core.run_files import write_run
from drover.core.simulate.names import MOVING_NAMES, SCENE_NAMES, WORLD_NAMES
from drover.core.types import Crossings, Detections, Truth

__all__ = ["corrections_of", "draw_scene", "headless_demo", "link_boxes", "report", "run_one", "size_of"]

MOST_FRAMES = 2_000_000  # of boxes without footage: a day at 23 frames/s
MOST_ALARMS = 20  # printed; the table has them all


def draw_scene(
    name: str, out: Path, options: dict[str, float], progress: Callable[[int, int], None]
) -> tuple[int, int]:
    """Draw a scene of the farm or another world into a folder; how many frames and actors it has.

    Raises
    ------
    DroverError
        When there is none of that name, or it has no such option.
    """
    from drover.core.simulate.farm import build_scene
    from drover.core.simulate.moving.scene import write_moving
    from drover.core.simulate.moving.scenes import build_moving
    from drover.core.simulate.worlds.casting import Options
    from drover.core.simulate.worlds.scenes import build_world
    from drover.core.simulate.worlds.world import write_world
    from drover.core.simulate.write import write_scene

    if name in WORLD_NAMES:
        world = build_world(name, Options(**options))  # type: ignore[arg-type]
        write_world(world, out, progress=progress)
        return world.frame_count, len(world.movers)
    beyond = sorted(set(options) - {"seed", "seconds"})
    if beyond and name in (*SCENE_NAMES, *MOVING_NAMES):
        raise DroverError(f"scene '{name}' is drawn in one way; leave out --{beyond[0]}")
    seed, seconds = options.get("seed"), options.get("seconds")
    if name in MOVING_NAMES:
        moving = build_moving(name, seed=None if seed is None else int(seed), seconds=seconds)
        write_moving(moving, out, progress=progress)
        return moving.frame_count, len(moving.actors)
    made = build_scene(name, seed=None if seed is None else int(seed), seconds=seconds)
    write_scene(made, out, progress=progress)
    return made.frame_count, len(made.actors)


def open_clip(path: Path) -> ClipInfo:
    with open_footage(path) as reader:
        return reader.info


def truth_of(clip: ClipInfo, truth: Path | None, crossings: Path | None) -> tuple[Truth | None, Crossings | None]:
    if truth is None:
        return None, read_crossings(crossings) if crossings else None
    beside = truth.with_name("crossings.csv")
    chosen = crossings or (beside if beside.exists() else None)
    return read_truth(truth, frame_count=clip.frame_count), read_crossings(chosen) if chosen else None


def boxes_of(path: Path, clip: ClipInfo, keep_good_rows: bool) -> Detections:
    """Boxes of a file; one with bad rows is refused unless its good rows are wanted."""
    size = (clip.width, clip.height)
    found = read_box_file(path, frame_count=clip.frame_count, size=size)
    if found.bad_rows and not keep_good_rows:
        raise DroverError(
            f"{path}: {found.bad_rows} rows cannot be used, the first: {found.faults[0]}; "
            "mend them, or leave them out with --keep-good-rows"
        )
    for fault in found.faults:
        print(f"drover: {path}: left out: {fault}", file=sys.stderr)
    return found.detections(frame_count=clip.frame_count, size=size)


def size_of(text: str, option: str) -> tuple[int, int]:
    """A size of pictures as it is typed, 1280x720."""
    parts = text.lower().split("x")
    if len(parts) != 2 or not all(
        part.isascii() and part.isdigit() and len(part) < 6 and 0 < int(part) <= 65536 for part in parts
    ):
        raise typer.BadParameter(f"{option} must be width x height as 1280x720; got {text}")
    return int(parts[0]), int(parts[1])


def link_boxes(
    out: Path,
    recipe: Path | None,
    detections: Path | None,
    frame_size: str | None,
    rate: float | None,
    truth: Path | None,
    crossings: Path | None,
    keep_good_rows: bool,
) -> None:
    """Link boxes of another detector without any footage."""
    if detections is None or frame_size is None or rate is None:
        raise typer.BadParameter("give a clip, or --detections with --frame-size and --rate")
    size = size_of(frame_size, "--frame-size")
    clip = ClipInfo(str(detections), *size, rate, np.arange(MOST_FRAMES) / rate, "no footage")
    boxes = boxes_of(detections, clip, keep_good_rows)
    last = int(np.flatnonzero(np.diff(boxes.frame_start))[-1]) + 1 if len(boxes) else 1
    clip = replace(clip, times=clip.times[:last])
    boxes = replace(boxes, frame_start=boxes.frame_start[: last + 1])
    settings = read_recipe(recipe) if recipe else Recipe()
    settings = settings.model_copy(update={"detect": settings.detect.model_copy(update={"sources": ("boxes",)})})
    true, true_crossings = truth_of(clip, truth, crossings)
    result = run_clip(clip, settings, detections=boxes, truth=true, true_crossings=true_crossings)
    folder = out / detections.stem
    write_run(result, folder)
    report(result, folder)


def corrections_of(path: Path | None) -> tuple[Edit, ...]:
    """Corrections by hand from a file.

    Raises
    ------
    DroverError
        When it is not there or holds something else.
    """
    if path is None:
        return ()
    try:
        return read_edits(path.read_text(encoding="utf-8-sig"), str(path))
    except OSError as error:
        raise DroverError(f"{path}: cannot be read ({error.strerror}); check the name") from error
    except UnicodeDecodeError as error:
        raise DroverError(f"{path}: is not text; give a corrections.jsonl") from error


def run_one(
    path: Path,
    recipe: Recipe,
    detections: Path | None,
    truth: Path | None,
    crossings: Path | None,
    *,
    keep_good_rows: bool = False,
    edits: tuple[Edit, ...] = (),
    anew: bool = True,
) -> ClipRun:
    """One clip worked through, with progress where a person watches; ``anew`` passes over what was found before."""
    clip = open_clip(path)
    for note in clip.notes:
        print(f"drover: {path}: {note}", file=sys.stderr)
    true, true_crossings = truth_of(clip, truth, crossings)
    boxes = None
    if detections is not None:
        boxes = boxes_of(detections, clip, keep_good_rows)
    with shown_progress(path.name) as show:
        result = run_clip(
            clip,
            recipe,
            detections=boxes,
            truth=true,
            true_crossings=true_crossings,
            edits=edits,
            store=None if anew else ResultStore(),
            on_progress=lambda p: show.update(p.done, p.total),
            cancelled=asked_to_stop,
        )
    for note in result.notes:
        print(f"drover: {path}: {note}", file=sys.stderr)
    return result


def report(result: ClipRun, folder: Path) -> None:
    """Print what a run made of a clip."""
    identities = len(result.tracks.paths.identity)
    spent = sum(result.seconds.values())
    before = ", what was found is kept from before" if result.detect.recalled else ""
    frames = result.clip.frame_count
    print(f"{Path(result.clip.path).name}: {frames} frames, {identities} identities, {spent:.1f} s{before}")
    if result.recipe.count.line:
        print_count_table(result.crossings, None, result.recipe.words.many)
    counted = result.counted
    if counted is not None:
        for number, name in enumerate(counted.visits.zone_names):
            t = zone_totals(counted.visits, number, result.clip.times)
            print(f"{name}: {t.entered} entered, {t.left} left, {t.most_inside} at once at {t.most_at:.1f} s")
        for alarm in counted.alarms[:MOST_ALARMS]:
            print(f"alarm at {alarm.time:.1f} s: {alarm.words}")
    if result.score is not None:
        print_score_table(result.score)
    print(f"written to {folder}")


def headless_demo(out: Path) -> None:
    """Run the demo without a window, print it and write its files."""
    chosen = example("gap")
    result = run_one(chosen.clip, read_recipe(chosen.recipe), None, chosen.truth, chosen.crossings)
    folder = out / chosen.name
    files = write_run(result, folder)
    print_count_table(result.crossings, read_crossings(chosen.crossings), result.recipe.words.many)
    if result.score is not None:
        print_score_table(result.score)
    frames, spent = result.clip.frame_count, sum(result.seconds.values())
    print(
        f"{frames} frames in {spent:.1f} s: " + ", ".join(f"{stage} {s:.2f} s" for stage, s in result.seconds.items())
    )
    print(f"written to {folder}: " + ", ".join(path.name for path in files))
    print("to see it in the window, on a machine with a display: .venv/bin/drover demo")
