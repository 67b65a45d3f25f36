"""Times taken in the real window."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication

from drover.app.field.scene import Scene
from drover.app.session import STAGES, StageState
from drover.app.theme import apply_theme
from drover.app.video import VideoWish, write_video
from drover.app.window import MainWindow
from drover.core.examples import example
from drover.core.footage.opened import open_footage
from drover.core.recipe import read_recipe, with_value
from drover.core.run import run_clip

__all__ = ["dial_to_screen", "export_speed", "line_to_screen", "relink_to_screen"]


def export_speed() -> float:
    """How many times as fast as it was filmed the demo is written as a video, with all that is drawn by default."""
    app = QApplication.instance() or QApplication([])
    apply_theme(app)  # type: ignore[arg-type]
    chosen = example("gap")
    recipe = read_recipe(chosen.recipe)
    with open_footage(chosen.clip) as reader:
        clip = reader.info
    run = run_clip(clip, recipe)
    scene = Scene(clip, recipe.count, run.detect.detections, run.tracks, run.crossings, run.counted)
    with tempfile.TemporaryDirectory() as folder:
        wish = VideoWish(Path(folder) / "demo.mp4", frozenset({"Outlines", "Numbers", "Trails"}), 0, clip.frame_count)
        spent = []
        for _ in range(2):
            start = time.perf_counter()
            write_video(scene, wish)
            spent.append(time.perf_counter() - start)
    return clip.duration / min(spent)


@contextmanager
def _opened(name: str, stage: str, frame: int) -> Iterator[MainWindow]:
    """A window on an example, worked through, with a stage in focus."""
    app = QApplication.instance() or QApplication([])
    apply_theme(app)  # type: ignore[arg-type]
    with tempfile.TemporaryDirectory() as state:
        os.environ["XDG_STATE_HOME"] = os.environ["XDG_CACHE_HOME"] = os.environ["XDG_CONFIG_HOME"] = state
        window = MainWindow()
        window.show()
        chosen = example(name)
        window.session.open_clip(chosen.clip, recipe=chosen.recipe)
        _until(lambda: window.session.state_of(STAGES[3]) == StageState.FRESH, 120.0)
        window.strip.choose(stage)
        window.playback.go(frame)
        yield window
        window.close()


def _middle(spent: list[float]) -> float:
    return sorted(spent)[len(spent) // 2]


def dial_to_screen(moves: int = 12) -> float:
    """Seconds from a moved threshold to the field painted with the new mask: the middle one of some moves."""
    with _opened("gap-short", "detect", 120) as window:
        window.field.toggle("Mask", True)
        _until(lambda: window.pictures.detect is not None and window.pictures.detect.frame == 120)
        return _middle([_one_move(window, 7.0 + 0.5 * k) for k in range(moves)])


def relink_to_screen(moves: int = 9) -> float:
    """Seconds from a moved gate to the whole demo linked again and lanes and field painted: the middle one."""
    with _opened("gap", "track", 700) as window:
        # Each another than the one before, and than the default: what does not change is not linked again.
        return _middle([_one_relink(window, 7.1 + 0.1 * k) for k in range(moves)])


def line_to_screen(moves: int = 20) -> float:
    """Seconds from one mouse move of a dragged line to the demo recounted and the field painted: the middle one."""
    with _opened("gap", "count", 700) as window:
        return _middle([_one_drag(window, 0.002 * (k % 9)) for k in range(moves)])


def _one_drag(window: MainWindow, shift: float) -> float:
    line = window.session.recipe.count.line[0].model_dump()
    line["points"] = [(0.48 + shift, y) for _, y in line["points"]]
    start = time.perf_counter()
    window.session.preview(with_value(window.session.recipe, "count.line", [line]))
    window.field.repaint()
    return time.perf_counter() - start


def _one_relink(window: MainWindow, gate: float) -> float:
    settle = time.monotonic() + 0.7
    _until(lambda: time.monotonic() > settle)
    linked: list[bool] = []
    connection = window.session.tracks_changed.connect(lambda: linked.append(True))
    start = time.perf_counter()
    window.session.preview(with_value(window.session.recipe, "track.match.gate", gate))
    _until(lambda: bool(linked))
    window.lanes.repaint()
    window.field.repaint()
    spent = time.perf_counter() - start
    window.session.tracks_changed.disconnect(connection)
    return spent


def _one_move(window: MainWindow, threshold: float) -> float:
    ready: list[bool] = []
    connection = window.pictures.detect_ready.connect(lambda: ready.append(True))
    start = time.perf_counter()
    window.session.preview(with_value(window.session.recipe, "detect.background.noise_threshold", threshold))
    _until(lambda: bool(ready))
    window.field.repaint()
    spent = time.perf_counter() - start
    window.pictures.detect_ready.disconnect(connection)
    return spent


def _until(ready: Callable[[], bool], seconds: float = 60.0) -> None:
    """Wait as the window's own loop does, asleep until something comes; a clock wakes it for what sends nothing."""
    end = time.monotonic() + seconds
    clock = QTimer(interval=20)
    clock.start()
    while not ready() and time.monotonic() < end:
        QApplication.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
    clock.stop()
    if not ready():
        raise SystemExit("bench: the window did not get ready in time")
