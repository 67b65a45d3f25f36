"""Score the tracker on every scene: ``python -m drover.bench.tracking`` prints the table and writes docs/tracking.md.

Both trackers get the same detections, those of the default recipe.
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from pathlib import Path

from drover.bench.scenes import scene_folder
from drover.core.count.lines import count_crossings
from drover.core.doubt.moments import find_moments
from drover.core.doubt.true_errors import hits_of, true_errors
from drover.core.examples import recipe_for
from drover.core.footage.reader import ClipReader
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.recipe import CountSettings, Recipe, ScoreSettings, read_recipe
from drover.core.run import detections_of
from drover.core.score.scorer import Score
from drover.core.score.spans import score_result
from drover.core.simulate.farm import build_scene
from drover.core.track.whole_clip import link_detections

__all__ = ["SCENES", "main", "tracking_table"]

SCENES = (
    "gap", "noon", "squall", "rest", "far", "crossing", "canopy", "ewe-and-lamb", "muster", "slow-camera",
)  # fmt: skip

HEAD = """# Tracking on the scenes

Made by `.venv/bin/python -m drover.bench.tracking`, from clips drawn by Drover with their exact truth. *plain* is the
first slice's tracker, *default* what Drover does with no recipe; both link the same detections, those of the default
recipe. Count error is summed over lines and directions. *Found* is how many of the true identity errors some moment is
about, by how many moments in all; *found first* how many are met by whoever looks at ten moments, or at three for each
error, in the order of doubt.

| scene | tracker | IDF1 | switches | fragmentations | HOTA | MOTA | count error | found | found first |
| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |
"""


def tracking_table() -> Iterator[tuple[str, str, Score, str, str]]:
    """Scene, tracker, score, and how its moments hit, one after the other."""
    trackers = {"plain": read_recipe(recipe_for("plain")).track, "default": Recipe().track}
    for name in SCENES:
        folder = scene_folder(name)
        with ClipReader(folder / f"{name}.mp4") as reader:
            clip = reader.info
        truth = read_truth(folder / "truth.csv", frame_count=clip.frame_count)
        true_crossings = read_crossings(folder / "crossings.csv")
        found = detections_of(clip, Recipe())
        lines = CountSettings(line=build_scene(name).lines)
        for label, settings in trackers.items():
            tracks = link_detections(found, clip.times, clip.rate, settings)
            crossings = count_crossings(tracks, clip.times, lines)
            score = score_result(tracks, truth, ScoreSettings(), crossings=crossings, true_crossings=true_crossings)
            moments = find_moments(tracks, clip.times, crossings)
            errors = true_errors(tracks, truth, clip.times)
            hits, first = hits_of(moments, errors, clip.times), max(10, 3 * len(errors))
            told = [f"{int(hits[:n].any(axis=0).sum())} of {len(errors)}" for n in (len(moments), first)]
            yield name, label, score, f"{told[0]} by {len(moments)}", f"{told[1]} by {first}"


def main() -> None:
    """Print the table and write it to a page."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench.tracking", description=main.__doc__)
    parser.add_argument("--out", type=Path, default=Path("docs/tracking.md"), help="page to write")
    out = parser.parse_args().out
    lines = []
    for name, label, score, told, first in tracking_table():
        s = score.as_dict()
        cells = (
            name, label, f"{s['idf1']:.3f}", str(s["id_switches"]), str(s["fragmentations"]), f"{s['hota']:.3f}",
            f"{s['mota']:.3f}", f"{s['count_error']} of {s['true_total']}", told, first,
        )  # fmt: skip
        lines.append("| " + " | ".join(cells) + " |")
        print(lines[-1], flush=True)
    out.write_text(HEAD + "\n".join(lines) + "\n", encoding="utf-8")
    print(f"written to {out}")


if __name__ == "__main__":
    main()
