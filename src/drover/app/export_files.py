"""Everything of a result that goes into files, but videos: tables, boxes, pictures, maps, the recipe."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtGui import QImage

from drover.app.field.scene import Scene, draw_scene
from drover.app.field.tracks_layer import TracksLayer
from drover.app.images import rgb_image
from drover.app.proof import draw_proof, proof_caption, save_picture
from drover.core.errors import Cancelled, DroverError
from drover.core.footage.images import footage_name
from drover.core.footage.opened import open_footage
from drover.core.formats.box_export import write_box_folder, write_coco
from drover.core.progress import IsCancelled, never
from drover.core.recipe import dump_recipe
from drover.core.run import ClipRun
from drover.core.run_files import ready_folder, write_run

__all__ = ["WHAT", "write_files"]

WHAT = {
    "tables": "all tables that 'run' writes: detections, tracks, crossings, counts, zones, intervals, alarms",
    "coco": "tracks as COCO JSON",
    "texts": "boxes as a text file for each frame",
    "picture": "the frame shown, with its overlays",
    "heat": "a map of the time spent in each part of the picture",
    "proof": "the frame shown with all lines and zones, for someone else to check",
    "recipe": "the recipe",
}


def write_files(
    run: ClipRun,
    folder: Path,
    what: list[str],
    *,
    frame: int,
    shown: set[str],
    scene: Scene,
    on_part: Callable[[str, int, int], None] = lambda name, done, total: None,
    cancelled: IsCancelled = never,
) -> list[Path]:
    """Write each of ``what`` into a folder; returns what was written.

    ``frame`` and ``shown`` are for the pictures. ``on_part`` hears what comes next, its number, and of how many.

    Raises
    ------
    DroverError
        When the clip cannot be read or the folder not written; Cancelled between two of them when told to stop.
    """
    ready_folder(folder)
    name, written = footage_name(Path(run.clip.path)), list[Path]()
    for number, one in enumerate(what):
        if cancelled():
            raise Cancelled("the export was stopped; what was written stays")
        on_part(one, number, len(what))
        try:
            written += _write(one, run, folder, name, (frame, shown, scene))
        except OSError as error:
            where = error.filename or folder
            raise DroverError(f"{where}: cannot be written ({error.strerror}); choose another folder") from error
    return written


def _write(one: str, run: ClipRun, folder: Path, name: str, picture: tuple[int, set[str], Scene]) -> list[Path]:
    frame, shown, scene = picture
    if one == "tables":
        return write_run(run, folder)
    if one == "coco":
        write_coco(folder / "tracks.json", run.tracks, name)
        return [folder / "tracks.json"]
    if one == "texts":
        write_box_folder(folder / "boxes", run.tracks, name)
        return [folder / "boxes"]
    if one == "recipe":
        (folder / "recipe.toml").write_text(dump_recipe(run.recipe), encoding="utf-8")
        return [folder / "recipe.toml"]
    path = folder / f"{name}-{one}.png"
    save_picture(_picture(one, run, frame, shown, scene), path)
    return [path]


def _picture(one: str, run: ClipRun, frame: int, shown: set[str], scene: Scene) -> QImage:
    with open_footage(run.clip.path) as reader:
        image = rgb_image(reader.frame(frame).rgb)
    if one == "proof":
        return draw_proof(image, run.recipe.count, proof_caption(run.clip, frame))
    draw_scene(image, scene, {"Time spent"} if one == "heat" else shown, frame, TracksLayer())
    return image
