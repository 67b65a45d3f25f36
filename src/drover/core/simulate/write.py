"""Write a scene to a folder: clip, truth, true crossings and a recipe with its line."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from drover.core.errors import DroverError
from drover.core.footage.writer import ClipWriter
from drover.core.formats.box_rows import write_truth
from drover.core.formats.crossing_rows import write_crossings
from drover.core.recipe import CountSettings, Recipe, dump_recipe
from drover.core.simulate.render import Renderer
from drover.core.simulate.scene import Scene
from drover.core.simulate.truth import TruthRow, truth_crossings, truth_table

__all__ = ["write_scene"]


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
    recipe = Recipe(count=CountSettings(line=scene.lines))
    (folder / "recipe.toml").write_text(dump_recipe(recipe), encoding="utf-8")
