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
        wait(app, lambda: not window.autosave.busy)
        for stage in STAGES:
            window.strip.choose(stage)
            window.chips.chips["Mask"].setChecked(stage == "detect")
            window.chips.chips["Truth"].setChecked(stage == "score")
            settle(app)
            wait(app, lambda: not window.autosave.busy)
            settle(app, 0.1)
            window.grab().save(str(folder / f"{stage}.png"))
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
