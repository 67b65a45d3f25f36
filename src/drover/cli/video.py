"""The export command: a video with what was found drawn over it, of a clip or of a project's kept run."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np

from drover.cli.parts import open_clip
from drover.cli.progress import shown_progress
from drover.cli.stopping import asked_to_stop
from drover.core.document import KeptRun
from drover.core.edits.edit import Edit
from drover.core.errors import DroverError
from drover.core.footage.writer import KINDS
from drover.core.footage_types import ClipInfo
from drover.core.project.file import read_project
from drover.core.recipe import Recipe
from drover.core.result_store import ResultStore
from drover.core.run import ClipRun, run_clip
from drover.core.run_files import ready_folder, run_of_kept

__all__ = ["export_result"]


def export_result(
    given: Path,
    recipe: Recipe | None,
    *,
    video: Path | None,
    out: Path | None,
    what: str,
    show: str,
    start: float,
    end: float | None,
    speed: int,
    text: float = 1.0,
    clock: bool = False,
) -> list[str]:
    """Write a video or files of a clip, or of the run that a project holds; returns what was written, in words.

    What is wrong with the wish is said before the work. ``recipe`` is for a clip alone.

    Raises
    ------
    DroverError
    """
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")  # pictures are drawn, no window is shown
    from PySide6.QtWidgets import QApplication

    from drover.app.export_files import WHAT, write_files
    from drover.app.field.scene import DRAWN, Scene
    from drover.app.theme import apply_theme
    from drover.app.video import VideoWish, write_video

    if video is None and out is None:
        raise DroverError("nothing is asked for; give --video FILE, or --out FOLDER")
    known = {name.lower(): name for name in DRAWN if name not in ("Truth", "Errors")}
    shown = {known[name] for name in _listed("--show", show, list(known))}
    wanted = _listed("--what", what, list(WHAT))
    if video is not None and video.suffix.lower() not in KINDS:
        raise DroverError(f"{video}: give the video a name that ends in {' or '.join(KINDS)}")
    for folder in (None if video is None else video.parent, out):
        if folder is not None:
            ready_folder(folder)
    info, kept, edits = _clip_of(given, recipe)
    first = int(np.searchsorted(info.times, start))
    past = info.frame_count if end is None else int(np.searchsorted(info.times, end, side="right"))
    if first >= past:
        raise DroverError(
            f"{given}: there is no picture from {start:g} s to {info.duration if end is None else end:g} s"
        )
    application = QApplication.instance() or QApplication(["drover"])
    apply_theme(application)  # type: ignore[arg-type]
    run = run_of_kept(info, kept, edits) if kept is not None else _worked_through(info, recipe or Recipe(), given.name)
    scene = Scene(
        info, run.recipe.count, run.detect.detections, run.tracks, run.crossings, run.counted,
        motion=run.detect.motion, things=run.things, names=run.names,
    )  # fmt: skip
    said: list[str] = []
    if video is not None:
        wish = VideoWish(video, frozenset(shown), first, past, speed, text, clock)
        with shown_progress(f"drawing {video.name}") as bar:
            many = write_video(scene, wish, on_progress=lambda p: bar.update(p.done, p.total), cancelled=asked_to_stop)
        said.append(f"{video}: {many} pictures")
    if out is not None:
        files = write_files(run, out, wanted, frame=first, shown=shown, scene=scene, cancelled=asked_to_stop)
        said += [str(path) for path in files]
    return said


def _listed(option: str, text: str, known: list[str]) -> list[str]:
    """The names in a list with commas.

    Raises
    ------
    DroverError
        When one is not known.
    """
    names = [name.strip().lower() for name in text.split(",") if name.strip()]
    strange = next((name for name in names if name not in known), None)
    if strange is not None:
        raise DroverError(f"{option}: there is no '{strange}'; known are {', '.join(known)}")
    return names


def _worked_through(info: ClipInfo, recipe: Recipe, name: str) -> ClipRun:
    with shown_progress(f"finding in {name}") as bar:
        return run_clip(
            info,
            recipe,
            store=ResultStore(),
            on_progress=lambda p: bar.update(p.done, p.total),
            cancelled=asked_to_stop,
        )


def _clip_of(given: Path, recipe: Recipe | None) -> tuple[ClipInfo, KeptRun | None, tuple[Edit, ...]]:
    """The clip to draw on, and where a project was given the run that it holds.

    Raises
    ------
    DroverError
        When there is no such clip, the project holds no finished run, or its clip has changed.
    """
    if given.suffix.lower() != ".drover":
        return open_clip(given), None, ()
    if recipe is not None:
        raise DroverError(f"{given}: holds its own recipe; leave out --recipe")
    document, _ = read_project(given)
    if document.latest is None:
        raise DroverError(f"{given}: holds no finished run; open it in the window and let it finish")
    info = open_clip(Path(document.clip.path))
    if info.fingerprint != document.clip.fingerprint:
        raise DroverError(f"{info.path}: is not the clip any more that {given} was made from; open it anew")
    return info, document.latest, document.edits
