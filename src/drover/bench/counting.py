"""Counts held against the truth: ``python -m drover.bench.counting`` prints the table and writes docs/counting.md.

Every scene is counted with the default recipe and its own line, once as it is and once rendered at half its size.
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from drover.bench.scenes import scene_folder
from drover.core.count.lines import count_crossings
from drover.core.footage.reader import ClipReader
from drover.core.formats.crossing_rows import read_crossings
from drover.core.recipe import CountSettings, Recipe
from drover.core.run import detections_of
from drover.core.score.counts import count_score
from drover.core.score.crossing_match import CROSSING_ERRORS, match_crossings
from drover.core.simulate.farm import build_scene
from drover.core.simulate.scene import Scene
from drover.core.track.whole_clip import link_detections
from drover.core.types import Crossings

__all__ = ["SCENES", "counting_table", "half_size", "main"]

SCENES = ("gap", "ewe-and-lamb", "canopy", "crossing", "rest", "noon", "muster", "squall", "slow-camera")
FIRST = SCENES[:5]  # those whose errors are added up

HEAD = """# Counts on the scenes

Made by `.venv/bin/python -m drover.bench.counting`, from clips drawn by Drover with their exact truth, with the
default recipe and the scene's line. A true crossing follows the line's own rule: going to and fro within the dead
band counts where the animal comes out. *Error* is summed over lines and directions; *half size* is the same scene
rendered at half its width and height, counted with the same recipe.

| scene | true forward, back | counted | error | extra | missed | double | wrong way | half size |
| --- | --- | --- | --- | --- | --- | --- | --- | --- |
"""


@dataclass(frozen=True)
class CountRow:
    """One scene: crossings counted, true, and counted at half size."""

    name: str
    counted: Crossings
    true: Crossings
    half: Crossings

    @property
    def error(self) -> int:
        """Error summed over lines and directions."""
        return count_score(self.counted, self.true).count_error


def half_size(scene: Scene) -> Scene:
    """The same scene through a camera with half as many pixels each way."""
    camera = scene.camera
    smaller = replace(camera, width=camera.width // 2, height=camera.height // 2, zoom=camera.zoom / 2)
    return replace(scene, camera=smaller)


def counting_table() -> Iterator[CountRow]:
    """Every scene, one after the other."""
    for name in SCENES:
        scene = build_scene(name)
        folder = scene_folder(name)
        half = scene_folder(f"{name}-half", lambda scene=scene: half_size(scene))
        clip = folder / f"{name}.mp4"
        counted, small = (_counted(path, scene) for path in (clip, half / f"{name}.mp4"))
        yield CountRow(name, counted, read_crossings(folder / "crossings.csv"), small)


def _counted(path: Path, scene: Scene) -> Crossings:
    with ClipReader(path) as reader:
        clip = reader.info
    recipe = Recipe()
    found = detections_of(clip, recipe)
    tracks = link_detections(found, clip.times, clip.rate, recipe.track)
    return count_crossings(tracks, clip.times, CountSettings(line=scene.lines))


def _both(crossings: Crossings) -> str:
    forward = int((crossings.direction > 0).sum())
    return f"{forward}, {len(crossings) - forward}"


def main() -> None:
    """Print the table and write the page."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--out", type=Path, default=Path("docs/counting.md"))
    page, errors, total = HEAD, 0, 0
    out = parser.parse_args().out
    for row in counting_table():
        match = match_crossings(row.counted, row.true)
        kinds = " | ".join(str(len(match.of(kind))) for kind in CROSSING_ERRORS)
        line = f"| {row.name} | {_both(row.true)} | {_both(row.counted)} | {row.error} | {kinds} | {_both(row.half)} |"
        print(line, flush=True)
        page += line + "\n"
        if row.name in FIRST:
            errors, total = errors + row.error, total + len(row.true)
    share = f"{errors} of {total} true crossings ({100 * errors / total:.1f} %)"
    page += f"\nErrors on {', '.join(FIRST)} together: {share}.\n"
    out.write_text(page, encoding="utf-8")
    print(f"{share}; written to {out}")


if __name__ == "__main__":
    main()
