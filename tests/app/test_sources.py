"""Opening sources, and counting live in a window, on the stand-in for a camera."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QLabel, QMessageBox

from drover.app.live.window import LiveWindow
from drover.app.opening import open_clip
from drover.app.preferences import change_preferences
from drover.app.sources.dialog import SourceDialog
from drover.app.sources.ways import FILE, NETWORK
from drover.core.examples import example
from drover.core.footage.stand_in import StandIn
from drover.core.recipe import Recipe, read_recipe
from windows import WAIT

SHORT = example("gap-short")
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def dialog(qtbot, tmp_path):
    change_preferences(live_folder=str(tmp_path / "results"))
    made = SourceDialog(Recipe())
    qtbot.addWidget(made)
    made.show()
    yield made
    made.close()


def told(dialog) -> dict[str, str]:
    """The properties as they are read on screen."""
    words = [label.text() for label in dialog.findChildren(QLabel) if not label.isHidden()]
    return dict(zip(words[:-1], words[1:], strict=True))


def test_a_clip_is_seen_with_its_properties_before_it_is_opened(dialog, qtbot):
    assert not dialog.go.isEnabled()
    qtbot.keyClicks(dialog.form.path.lineEdit(), str(SHORT.clip))
    qtbot.waitUntil(lambda: dialog.picture.image is not None and "size" in told(dialog), timeout=WAIT)
    assert told(dialog)["size"] == "640 × 360 px"
    assert told(dialog)["length"] == "0 min 10.0 s"
    assert told(dialog)["kind"].startswith("h264 in mov")
    with qtbot.waitSignal(dialog.clip_wanted) as wanted:
        qtbot.mouseClick(dialog.go, LEFT)
    assert wanted.args == [SHORT.clip]


@pytest.mark.parametrize(
    ("tab", "text", "words"),
    [(FILE, "/nowhere/at/all.mp4", "no such file"), (NETWORK, "tcp://127.0.0.1:9", "is not there"),
     (NETWORK, "gopher://camera", "cannot be read from"), (FILE, __file__, "not a video")],
)  # fmt: skip
def test_a_source_that_is_not_there_is_said_in_a_line_and_cannot_be_opened(dialog, qtbot, tab, text, words):
    dialog.tabs.setCurrentIndex(tab)
    box = dialog.form.path if tab == FILE else dialog.form.address
    qtbot.keyClicks(box.lineEdit(), text)
    qtbot.waitUntil(lambda: words in dialog.fault.text(), timeout=WAIT)
    assert dialog.fault.isVisible()
    assert "\n" not in dialog.fault.text()
    assert not dialog.go.isEnabled()


def test_a_stream_is_seen_recorded_and_opened_to_draw_a_line_on(window, qtbot, tmp_path, monkeypatch):
    monkeypatch.setattr("drover.app.sources.dialog.SET_UP", 3.0)  # s: how long is not asked here
    change_preferences(live_folder=str(tmp_path / "results"))
    next(action for action in window.findChildren(QAction) if "source" in action.text()).trigger()
    dialog = window.sources.dialog
    dialog.tabs.setCurrentIndex(NETWORK)
    with StandIn(SHORT.clip, port=0, faults=(), seconds=0) as camera:
        qtbot.keyClicks(dialog.form.address.lineEdit(), camera.address)
        qtbot.waitUntil(lambda: dialog.picture.image is not None, timeout=WAIT)
        qtbot.waitUntil(lambda: "25 frames/s said" in told(dialog).get("rate", ""), timeout=WAIT)
        assert not dialog.go.isEnabled(), "there is no line to count on"
        assert "no line" in dialog.fault.text()
        qtbot.mouseClick(dialog.set_up, LEFT)
        qtbot.waitUntil(lambda: window.session.clip is not None, timeout=WAIT)
    clip = window.session.clip
    assert Path(clip.path).name == "recording-1.mkv"
    assert clip.duration == pytest.approx(3, abs=1.0)
    window.session.cancel_work()


def test_a_live_run_shows_its_counts_and_writes_them_and_fills_the_screen(qtbot, tmp_path, monkeypatch, window):
    dialog = window.sources.ask(NETWORK)
    dialog.recipe = read_recipe(SHORT.recipe)
    dialog.folder.setText(str(tmp_path / "run"))
    with StandIn(SHORT.clip, port=0, faults=(), seconds=0) as camera:
        qtbot.keyClicks(dialog.form.address.lineEdit(), camera.address)
        qtbot.waitUntil(dialog.go.isEnabled, timeout=WAIT)
        qtbot.mouseClick(dialog.record, LEFT)
        qtbot.mouseClick(dialog.go, LEFT)
        (live,) = window.sources.live
        qtbot.waitUntil(lambda: sum(live.work.totals.get("Gap", (0, 0))) >= 2, timeout=WAIT)
        qtbot.waitUntil(lambda: "The footage has colour." in live.survey.text(), timeout=WAIT)
        assert live.survey_card.isVisible()
        plain = live.grab().toImage()
        qtbot.keyClick(live, Qt.Key.Key_F)
        assert live.isFullScreen() and not live.side.isVisible()
        assert live.grab().toImage() != plain
        qtbot.keyClick(live, Qt.Key.Key_Escape)
        assert live.side.isVisible()
        monkeypatch.setattr(QMessageBox, "question", lambda *_: QMessageBox.StandardButton.Cancel)
        assert not live.close() and live.work.running, "the user did not want to end it"
        qtbot.mouseClick(live.stop, LEFT)
        qtbot.waitUntil(lambda: live.stop.text() == "Stopped", timeout=WAIT)
    counts = {row["line"]: row for row in csv.DictReader((tmp_path / "run" / "counts.csv").read_text().splitlines())}
    facts = json.loads((tmp_path / "run" / "live.json").read_text())
    assert facts["survey"] == live.survey.text().splitlines()
    assert facts["recipe"]["detect"]["background"]["look_at"] == "auto"
    assert facts["detect_taken"]["background"]["look_at"] == "colour"
    forward, back = live.counts["Gap"]
    assert (forward.text(), back.text()) == (counts["Gap"]["forward"], counts["Gap"]["back"])
    assert live.facts["rate"].text() not in ("-", "0.0")
    with qtbot.waitSignal(live.recording_wanted) as wanted:
        qtbot.mouseClick(live.open_recording, LEFT)
    assert wanted.args[0].name == "recording-1.mkv"
    qtbot.waitUntil(lambda: window.session.clip is not None, timeout=WAIT)
    kept = window.session.document.held_run
    assert kept.name == "live", "what was counted live stands beside the recording"
    assert len(kept.crossings) == sum(int(counts["Gap"][way]) for way in ("forward", "back"))
    assert [line.name for line in window.session.recipe.count.line] == ["Gap"]
    # Whatever a kill left of the table beside it, the recording itself opens.
    table = tmp_path / "run" / "tracks.csv"
    table.write_bytes(table.read_bytes() + b"7,3")
    opened = open_clip(wanted.args[0], "")
    assert opened.document.held_run is None
    assert "cannot be shown" in opened.notes[-1]
    live.close()
    window.session.cancel_work()


def test_a_live_run_that_cannot_write_says_so(qtbot, tmp_path):
    from drover.app.live.work import LiveWish
    from drover.core.footage.stream import source_of

    (tmp_path / "file").write_text("in the way")
    wish = LiveWish(source_of("tcp://127.0.0.1:9"), read_recipe(SHORT.recipe), tmp_path / "file" / "run")
    live = LiveWindow(wish)
    qtbot.addWidget(live)
    qtbot.waitUntil(lambda: live.fault.text() != "", timeout=WAIT)
    assert str(tmp_path / "file") in live.fault.text()
    assert live.stop.text() == "Stopped"
    live.work.close()


def test_what_is_dropped_is_taken_for_what_it_is(opened, qtbot, tmp_path):
    asking, session = opened.asking, opened.session
    (tmp_path / "other.toml").write_text("[track.match]\ngate = 5.5\n")
    opened.field.file_dropped.emit(str(tmp_path / "other.toml"))
    assert session.recipe.track.match.gate == 5.5
    session.undo.undo()
    videos = tmp_path / "videos"
    videos.mkdir()
    (videos / "a.mp4").write_bytes(SHORT.clip.read_bytes())
    opened.field.file_dropped.emit(str(videos))
    assert [job.clip.name for job in asking.batch_dialog.jobs] == ["a.mp4"]
    asking.batch_dialog.close()
    (tmp_path / "boxes.csv").write_text("1,-1,10,10,20,20,0.9,-1,-1,-1\n")
    opened.field.file_dropped.emit(str(tmp_path / "boxes.csv"))
    qtbot.waitUntil(lambda: hasattr(asking, "box_dialog"), timeout=WAIT)
    asking.box_dialog.reject()
