"""The export command: a clip worked through, and a video with what was found drawn over it."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np

from drover.cli.parts import open_clip
from drover.cli.progress import shown_progress
from drover.cli.stopping import asked_to_stop
from drover.core.errors import DroverError
from drover.core.footage.writer import KINDS
from drover.core.recipe import Recipe
from drover.core.run import run_clip
from drover.core.run_files import ready_folder

__all__ = ["export_video"]


def export_video(
    clip: Path, recipe: Recipe, video: Path, *, show: str, start: float, end: float | None, speed: int
) -> int:
    """Write the video; returns how many pictures it has. What is wrong with the wish is said before the work.

    Raises
    ------
    DroverError
    """
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")  # pictures are drawn, no window is shown
    from PySide6.QtWidgets import QApplication

    from drover.app.field.scene import DRAWN, Scene
    from drover.app.theme import apply_theme
    from drover.app.video import VideoWish, write_video

    known = {name.lower(): name for name in DRAWN if name not in ("Truth", "Errors")}
    names = [name.strip().lower() for name in show.split(",") if name.strip()]
    strange = next((name for name in names if name not in known), None)
    if strange is not None:
        raise DroverError(f"--show: there is no '{strange}' to draw; known are {', '.join(known)}")
    if video.suffix.lower() not in KINDS:
        raise DroverError(f"{video}: give the video a name that ends in {' or '.join(KINDS)}")
    ready_folder(video.parent)
    info = open_clip(clip)
    first = int(np.searchsorted(info.times, start))
    past = info.frame_count if end is None else int(np.searchsorted(info.times, end, side="right"))
    if first >= past:
        raise DroverError(
            f"{clip}: there is no picture from {start:g} s to {info.duration if end is None else end:g} s"
        )
    application = QApplication.instance() or QApplication(["drover"])
    apply_theme(application)  # type: ignore[arg-type]
    with shown_progress(f"finding in {clip.name}") as bar:
        run = run_clip(info, recipe, on_progress=lambda p: bar.update(p.done, p.total), cancelled=asked_to_stop)
    scene = Scene(info, recipe.count, run.detect.detections, run.tracks, run.crossings, run.counted)
    wish = VideoWish(video, frozenset(known[name] for name in names), first, past, speed)
    with shown_progress(f"drawing {video.name}") as bar:
        return write_video(scene, wish, on_progress=lambda p: bar.update(p.done, p.total), cancelled=asked_to_stop)
