"""Make the pictures of docs/screenshots from the demo: python tools/screenshots.py FOLDER."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QApplication, QScrollArea

from drover.app.preferences import change_preferences
from drover.app.session import STAGES, StageState
from drover.app.sources.ways import NETWORK
from drover.app.theme import apply_theme
from drover.app.window import MainWindow
from drover.bench.camera import moving_folder
from drover.core.count.edits import with_item, with_new
from drover.core.examples import example
from drover.core.footage.stand_in import StandIn
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
    scenes = {name: moving_folder(name) for name in ("drone", "brand")}  # drawn once, in the user's own cache
    with tempfile.TemporaryDirectory() as state:
        for name in ("XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME"):
            os.environ[name] = state
        app = QApplication([])
        apply_theme(app)
        window = MainWindow()
        window.show()
        settle(app)
        window.grab().save(str(folder / "start.png"))
        window.open_demo()
        wait(app, lambda: window.session.detect is not None and window.session.detect.detections.frame_count > 500)
        window.playback.pause()
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
        window.chips.chips["Mask"].setChecked(False)
        _review(app, window, folder)
        window.strip.choose("score")
        window.session.hold()
        window.session.edit(with_value(window.session.recipe, "detect.shadow.mode", "off"), "compare")
        wait(app, lambda: all(window.session.state_of(stage) == StageState.FRESH for stage in STAGES))
        settle(app, 1.0)
        window.grab().save(str(folder / "compare.png"))
        window.session.undo.undo()
        _camera(app, window, folder)
        _many(app, window, folder, Path(state))
        window.close()
        _moving(app, scenes, folder)
        environment = {**os.environ, "XDG_CONFIG_HOME": str(Path(state) / "dark")}
        subprocess.run([sys.executable, __file__, str(folder), "--dark"], env=environment, check=True)
    print(f"written to {folder}")


def _review(app: QApplication, window: MainWindow, folder: Path) -> None:
    """A moment with both futures, and the filter of one animal."""
    wait(app, lambda: not window.watch.waiting and not window.watch.busy)
    window.hands.show_review()
    found = window.watch.found
    place = next((k for k in range(len(found)) if found[k].kind == "meet"), 0)
    moment = window.reviewer.go_to(place)
    assert moment is not None
    settle(app, 1.5)
    window.playback.pause()
    window.playback.go(moment.frame)
    settle(app, 0.8)
    window.grab().save(str(folder / "review.png"))
    window.hands.show_filter()
    bench = window.hands.bench
    assert bench is not None
    settle(app, 2.0)
    bench.grab().save(str(folder / "filter.png"))
    bench.close()
    window.reviewer.leave()
    window.session.select(None)


def _camera(app: QApplication, window: MainWindow, folder: Path) -> None:
    """A stream in the source dialog, counted live, and the counts on the whole screen."""
    clip = example("gap").clip
    with StandIn(clip) as camera:
        dialog = window.sources.ask(NETWORK)
        dialog.form.set_text(camera.address)
        wait(app, dialog.go.isEnabled)
        settle(app, 9.0)
        dialog.folder.setText("Drover/monday")
        dialog.grab().save(str(folder / "source.png"))
        with tempfile.TemporaryDirectory() as results:
            dialog.folder.setText(str(Path(results) / "monday"))
            dialog.go.click()
            live = window.sources.live[0]
            live.where.setText("Drover/monday")
            settle(app, 16.0)
            live.grab().save(str(folder / "live.png"))
            live.side.hide()  # as filling the screen does; the screen here is none that is seen
            live.view.large = True
            live.resize(1280, 800)
            settle(app, 0.5)
            live.grab().save(str(folder / "live-large.png"))
            live.stop.click()
            wait(app, lambda: not live.work.running)
            live.close()


def _moving(app: QApplication, scenes: dict[str, Path], folder: Path) -> None:
    """A flight over the flock, a pair of its frames, and a sign that is followed."""
    window = MainWindow()
    window.show()
    session = window.session

    def ready() -> bool:
        return all(session.state_of(stage) == StageState.FRESH for stage in STAGES[:4])

    session.open_clip(scenes["drone"] / "drone.mp4", recipe=scenes["drone"] / "recipe.toml")
    wait(app, lambda: session.clip is not None and ready(), 300)
    window.strip.choose("footage")
    window.chips.chips["Steady"].click()
    window.playback.go(400)
    settle(app, 1.2)
    window.grab().save(str(folder / "moving.png"))
    window.chips.chips["Steady"].click()
    pair = window.exports.ask_pair()
    assert pair is not None
    pair.apart.setValue(10)
    wait(app, lambda: not pair.job.busy and pair.table.rowCount() == 9)
    settle(app)
    pair.grab().save(str(folder / "pair.png"))
    pair.close()
    session.open_clip(scenes["brand"] / "brand.mp4", recipe=scenes["brand"] / "recipe.toml")
    wait(app, lambda: session.clip is not None and Path(session.clip.path).name == "brand.mp4" and ready(), 300)
    window.strip.choose("track")
    window.playback.go(0)
    settle(app)
    window.things.take_box([0.455, 0.41, 0.547, 0.52])
    wait(app, lambda: bool(session.engine.following.things) and ready())
    thing = window.dials.track.follow
    thing.rows[0].name.setText("Sign")
    thing.rows[0].name.editingFinished.emit()
    wait(app, ready)
    window.playback.go(190)
    for name in ("Trails", "Forecast"):
        window.chips.chips[name].setChecked(False)
    settle(app)
    area = window.dials.currentWidget().findChild(QScrollArea)
    area.verticalScrollBar().setValue(thing.mapTo(area.widget(), QPoint(0, 0)).y() - 12)
    settle(app, 1.2)
    window.grab().save(str(folder / "follow.png"))
    window.close()


def _many(app: QApplication, window: MainWindow, folder: Path, state: Path) -> None:
    """A batch of three clips and one that is none."""
    clips = state / "clips"
    clips.mkdir()
    for name in ("gap-monday.mp4", "gap-tuesday.mp4", "gap-wednesday.mp4"):
        shutil.copy(example("gap-short").clip, clips / name)
    (clips / "gap-thursday.mp4").write_bytes(b"cut off")
    dialog = window.asking.batch()
    dialog.take([clips])
    dialog.start.click()
    wait(app, dialog.start.isEnabled)
    dialog.clips.setText("4 videos, clips")
    dialog.out.setText("clips-results")
    dialog.words.setText(dialog.words.text().replace(f"{state}/", ""))
    settle(app, 0.3)
    dialog.grab().save(str(folder / "batch.png"))
    dialog.close()


def dark(folder: Path) -> None:
    """The window in the dark theme."""
    change_preferences(theme="dark")
    os.execv(sys.executable, [sys.executable, __file__, str(folder), "--dark-now"])


def dark_now(folder: Path) -> None:
    """The window on the short example, in the theme of the preferences."""
    app = QApplication([])
    apply_theme(app)
    window = MainWindow()
    window.show()
    chosen = example("gap-short")
    window.session.open_clip(chosen.clip, recipe=chosen.recipe)
    wait(app, lambda: all(window.session.state_of(stage) == StageState.FRESH for stage in STAGES[:4]))
    window.strip.choose("detect")
    window.playback.go(120)
    settle(app, 1.0)
    window.grab().save(str(folder / "dark.png"))
    window.close()


if __name__ == "__main__":
    place = Path(sys.argv[1] if len(sys.argv) > 1 else "docs/screenshots")
    {"--dark": dark, "--dark-now": dark_now}.get(sys.argv[-1], main)(place)
