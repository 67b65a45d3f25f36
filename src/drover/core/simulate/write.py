"""Write a scene to a folder: clip, truth, true crossings and a recipe with its line."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from drover.core.errors import DroverError
from drover.core.footage.writer import ClipWriter
from drover.core.formats.box_rows import write_truth
from drover.core.formats.crossing_rows import write_crossings
from drover.core.recipe import LineSettings
from drover.core.simulate.render import Renderer
from drover.core.simulate.scene import Scene
from drover.core.simulate.truth import TruthRow, truth_crossings, truth_table

__all__ = ["recipe_text", "write_scene"]


def write_scene(
    scene: Scene,
    folder: Path,
    *,
    progress: Callable[[int, int], None] = lambda done, total: None,
    quality: int = 24,
    preset: str = "medium",
) -> None:
    """Render a scene into ``NAME.mp4`` (its own name), ``truth.csv``, ``crossings.csv`` and ``recipe.toml``.

    Raises
    ------
    DroverError
        When the folder cannot be written.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise DroverError(f"{folder}: cannot be made ({error.strerror}); choose another folder") from error
    camera, rows = scene.camera, list[TruthRow]()
    renderer = Renderer(scene)
    with ClipWriter(
        folder / f"{scene.name}.mp4",
        width=camera.width,
        height=camera.height,
        rate=scene.rate,
        quality=quality,
        preset=preset,
    ) as clip:
        for done, (picture, frame_rows) in enumerate(renderer.frames(), 1):
            clip.add(picture)
            rows += frame_rows
            progress(done, scene.frame_count)
    write_truth(folder / "truth.csv", truth_table(rows, scene.frame_count))
    write_crossings(folder / "crossings.csv", truth_crossings(scene))
    (folder / "recipe.toml").write_text(recipe_text(scene.lines), encoding="utf-8")


def recipe_text(lines: tuple[LineSettings, ...]) -> str:
    """A recipe with the scene's lines and nothing else, so that all settings keep their defaults."""
    parts = ["# The lines of a scene; all settings keep their defaults.\n"]
    for line in lines:
        points = ", ".join(f"[{x}, {y}]" for x, y in line.points)
        parts.append(f'\n[[count.line]]\nname = "{line.name}"\npoints = [{points}]\nreference = "{line.reference}"\n')
    return "".join(parts)
