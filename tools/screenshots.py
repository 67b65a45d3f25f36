"""Make the pictures of docs/screenshots from the demo: python tools/screenshots.py FOLDER."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtWidgets import QApplication

from drover.app.session import STAGES, StageState
from drover.app.theme import apply_theme
from drover.app.window import MainWindow
from drover.core.count.edits import with_item, with_new
from drover.core.recipe import with_value


def wait(app: QApplication, ready: Callable[[], bool], seconds: float = 120.0) -> None:
    """Let the window live until something holds."""
    end = time.monotonic() + seconds
    while not ready():
        if time.monotonic() > end:
            raise SystemExit("screenshots: the window did not get ready in time")
        app.processEvents()
        time.sleep(0.005)


def settle(app: QApplication, seconds: float = 0.6) -> None:
    """Let the window live for a while."""
    end = time.monotonic() + seconds
    wait(app, lambda: time.monotonic() > end)


def _counting(app: QApplication, window: MainWindow, folder: Path) -> None:
    """A zone with an alarm, where they went, and the audit."""
    session = window.session
    west = [(0.30, 0.36), (0.47, 0.36), (0.48, 0.72), (0.30, 0.72)]
    recipe = with_item(with_new(session.recipe, "zone", west), "zone", 0, {"name": "West", "most_inside": 4})
    recipe = with_item(recipe, "line", 0, {"forward_name": "east", "back_name": "west"})
    session.edit(recipe, "zone")
    window.chips.chips["Truth"].setChecked(False)
    window.strip.choose("count")
    for name in ("Time spent", "Flow"):
        window.chips.ways[name].setChecked(True)
    settle(app)
    window.grab().save(str(folder / "ways.png"))
    for name in ("Time spent", "Flow"):
        window.chips.ways[name].setChecked(False)
    window.show_audit()
    panel = window.dials.audit
    wait(app, lambda: panel.model.rowCount() > 20)
    panel.list.setCurrentIndex(panel.model.index(9))
    for word in ("confirmed", "rejected", "confirmed"):
        panel.say(word)
    settle(app, 3.0)
    window.grab().save(str(folder / "audit.png"))
    panel.done.click()
    while session.undo.canUndo():
        session.undo.undo()
    wait(app, lambda: all(session.state_of(stage) == StageState.FRESH for stage in STAGES))


def main(folder: Path) -> None:
    """One picture of each main view."""
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as state:
        os.environ["XDG_STATE_HOME"] = os.environ["XDG_CACHE_HOME"] = state
        app = QApplication([])
        apply_theme(app)
        window = MainWindow()
        window.show()
        settle(app)
        window.grab().save(str(folder / "start.png"))
        window.open_demo()
        wait(app, lambda: window.session.detect is not None and window.session.detect.detections.frame_count > 500)
        window.playback.pause()
        window.playback.go(420)
        settle(app, 0.3)
        window.grab().save(str(folder / "working.png"))
        wait(app, lambda: all(window.session.state_of(stage) == StageState.FRESH for stage in STAGES))
        window.playback.go(640)
        wait(app, lambda: not window.saving.busy)
        for stage in STAGES:
            window.strip.choose(stage)
            window.chips.chips["Mask"].setChecked(stage == "detect")
            window.chips.chips["Truth"].setChecked(stage == "score")
            settle(app)
            wait(app, lambda: not window.saving.busy)
            settle(app, 0.1)
            window.grab().save(str(folder / f"{stage}.png"))
        _counting(app, window, folder)
        window.strip.choose("detect")
        window.chips.chips["Mask"].setChecked(False)
        window.split_action.trigger()
        settle(app, 1.0)
        window.grab().save(str(folder / "split.png"))
        window.split_action.trigger()
        window.strip.choose("score")
        window.session.hold()
        window.session.edit(with_value(window.session.recipe, "detect.shadow.mode", "off"), "compare")
        wait(app, lambda: all(window.session.state_of(stage) == StageState.FRESH for stage in STAGES))
        settle(app, 1.0)
        window.grab().save(str(folder / "compare.png"))
        window.close()
    print(f"written to {folder}")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "docs/screenshots"))
