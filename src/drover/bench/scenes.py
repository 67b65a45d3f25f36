"""Score the detector on every scene: ``python -m drover.bench.scenes`` prints the table and writes docs/detection.md.

Scenes that do not ship as clips are drawn once and kept in the cache folder.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterator
from pathlib import Path

import platformdirs

from drover.core.examples import recipe_for
from drover.core.footage.reader import ClipReader
from drover.core.formats.box_rows import read_truth
from drover.core.recipe import Recipe, read_recipe
from drover.core.run import detections_of
from drover.core.score.detection import DetectionScore, score_detections
from drover.core.simulate.farm import build_scene
from drover.core.simulate.scene import Scene
from drover.core.simulate.write import write_scene

__all__ = ["detection_table", "main", "scene_folder"]

SCENES = ("gap", "noon", "squall", "rest", "far")
VERSION = 2

HEAD = """# Detection on the scenes

Made by `.venv/bin/python -m drover.bench.scenes`, from clips drawn by Drover with their exact truth, at overlap
0.5. *plain* is the first slice's detector, a running average and nothing else; *default* is what Drover does with
no recipe; *own* is the recipe that ships for the scene. Errors are misses and false alarms.

| scene | recipe | F1 | precision | recall | AP | misses | false alarms | errors against plain |
| --- | --- | --- | --- | --- | --- | --- | --- | --- |
"""


def scene_folder(name: str, make: Callable[[], Scene] | None = None) -> Path:
    """Folder with a scene's clip and truth; drawn now if it is not there yet, by ``make`` if that is given."""
    folder = Path(platformdirs.user_cache_dir("drover")) / "scenes" / f"{name}-{VERSION}"
    if not (folder / "recipe.toml").exists():
        print(f"drawing {name}, once")
        write_scene(make() if make else build_scene(name), folder, preset="fast")
    return folder


def detection_table() -> Iterator[tuple[str, str, DetectionScore]]:
    """Scene, recipe and score, one after the other."""
    for name in SCENES:
        folder = scene_folder(name)
        with ClipReader(folder / f"{name}.mp4") as reader:
            clip = reader.info
        truth = read_truth(folder / "truth.csv", frame_count=clip.frame_count)
        recipes = {"plain": read_recipe(recipe_for("plain")), "default": Recipe(), "own": read_recipe(recipe_for(name))}
        for label, recipe in recipes.items():
            yield name, label, score_detections(detections_of(clip, recipe), truth)


def main() -> None:
    """Print the table and write it to a page."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench.scenes", description=main.__doc__)
    parser.add_argument("--out", type=Path, default=Path("docs/detection.md"), help="page to write")
    out = parser.parse_args().out
    lines, plain = [], 1
    for name, label, s in detection_table():
        plain = s.errors if label == "plain" else plain
        against = "" if label == "plain" else f"{100 * (s.errors / max(1, plain) - 1):+.0f} %"
        cells = (
            name, label, f"{s.f1:.3f}", f"{s.precision:.3f}", f"{s.recall:.3f}", f"{s.average_precision:.3f}",
            str(len(s.misses)), str(len(s.false_alarms)), against,
        )  # fmt: skip
        lines.append("| " + " | ".join(cells) + " |")
        print(lines[-1], flush=True)
    out.write_text(HEAD + "\n".join(lines) + "\n", encoding="utf-8")
    print(f"written to {out}")


if __name__ == "__main__":
    main()
