"""The window driven as a user drives it; what is seen, and what the project file then holds."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QPushButton, QScrollArea

from drover.app.field.line_drawing import arrow_of
from drover.app.session import STAGES, Session, StageState
from drover.core.count.tallies import tally
from drover.core.examples import example
from drover.core.project.file import read_project
from windows import WAIT, up_to_date

SHORT = example("gap-short")
LEFT = Qt.MouseButton.LeftButton


def at_fraction(window, x: float, y: float) -> QPoint:
    """Widget position of a point of the frame."""
    view = window.field.view
    return view.to_widget(x * view.picture_width, y * view.picture_height).toPoint()


def drag(qtbot, widget, start: QPoint, end: QPoint, steps: int = 6) -> None:
    qtbot.mouseMove(widget, start)
    qtbot.mousePress(widget, LEFT, pos=start)
    for k in range(1, steps + 1):
        qtbot.mouseMove(widget, start + (end - start) * k / steps)
    qtbot.mouseRelease(widget, LEFT, pos=end)


def counts(window) -> tuple[int, int]:
    t = tally(window.session.crossings, 0)
    return t.identities_forward, t.identities_back


def saved(window, qtbot, path: Path):
    qtbot.waitUntil(lambda: not window.saving.busy, timeout=WAIT)
    return read_project(path)[0]


def test_an_empty_window_says_the_next_step(window):
    assert window.welcome.isVisible()
    assert window.welcome.demo.text() == "Open the Fold Hill demo"
    assert window.strip.tiles["footage"].facts.headline == "no clip"
    assert not window.banner.isVisible()


def test_a_clip_is_worked_through_while_the_window_lives(window, qtbot):
    seen = []
    window.session.tracks_changed.connect(lambda: seen.append(window.session.tracks.frame_count))
    window.open_path(SHORT.clip)
    qtbot.waitUntil(lambda: window.session.clip is not None, timeout=WAIT)
    qtbot.waitUntil(lambda: up_to_date(window), timeout=WAIT)
    qtbot.waitUntil(lambda: "box" in window.strip.tiles["detect"].facts.headline, timeout=WAIT)
    assert seen[-1] == 250
    assert not window.welcome.isVisible()
    assert window.strip.tiles["count"].facts.headline == "no line"
    assert window.strip.tiles["score"].facts.headline == "no truth"


def test_tiles_lanes_and_score_tell_of_the_same_result(opened, qtbot):
    tiles, session = opened.strip.tiles, opened.session
    idf1 = f"IDF1 {100 * session.score.identity.idf1:.1f} %"
    qtbot.waitUntil(lambda: tiles["score"].facts.headline == idf1, timeout=WAIT)
    forward, back = counts(opened)
    assert tiles["count"].facts.headline == f"{forward} on, {back} back"
    assert tiles["track"].facts.detail == f"{len(opened.lanes.lanes)} identities"
    assert opened.dials.score.cells["true_total"].text() == "7"
    assert opened.dials.count.cards[0].cells["forward identities"].text() == str(forward)
    qtbot.waitUntil(lambda: "up to date" in opened.status.state.text(), timeout=WAIT)


def test_dragging_the_line_recounts_at_every_move_and_is_one_edit(opened, qtbot, tmp_path):
    opened.save_as(tmp_path / "moved.drover")
    qtbot.waitUntil(lambda: opened.saving.path is not None, timeout=WAIT)
    session, before = opened.session, opened.session.recipe.count.line[0].points
    had = counts(opened)
    seen, linked = [], []
    session.crossings_changed.connect(lambda: seen.append(counts(opened)))
    session.tracks_changed.connect(lambda: linked.append(1))
    middle = np.mean(before, axis=0)
    quarter = np.array(before[0]) * 0.75 + np.array(before[1]) * 0.25
    drag(qtbot, opened.field, at_fraction(opened, *quarter), at_fraction(opened, quarter[0] - 0.42, quarter[1]))
    after = session.recipe.count.line[0].points
    assert np.mean(after, axis=0)[0] == pytest.approx(middle[0] - 0.42, abs=0.01)
    assert len(seen) >= 5
    assert counts(opened) != had
    assert not linked
    assert session.undo.count() == 1
    contents = saved(opened, qtbot, opened.saving.path)
    assert contents.latest is not None
    assert tally(contents.latest.crossings, 0) == tally(session.crossings, 0)
    with sqlite3.connect(opened.saving.path) as db:
        assert db.execute("SELECT points FROM line").fetchone()[0].startswith(f"[[{after[0][0]}")
    db.close()
    session.undo.undo()
    assert session.recipe.count.line[0].points == before
    assert counts(opened) == had


def test_an_end_of_the_line_is_dragged_alone(opened, qtbot):
    (x0, y0), end = opened.session.recipe.count.line[0].points
    drag(qtbot, opened.field, at_fraction(opened, x0, y0), at_fraction(opened, 0.8, 0.9))
    points = opened.session.recipe.count.line[0].points
    assert points[0] == pytest.approx((0.8, 0.9), abs=0.01)
    assert points[1] == end


def test_a_click_on_the_arrow_reverses_the_line(opened, qtbot):
    had = counts(opened)
    middle, ahead = arrow_of(opened.session.recipe.count.line[0], opened.field.view)
    qtbot.mouseClick(opened.field, LEFT, pos=(middle + ahead * 14).toPoint())
    assert counts(opened) == had[::-1]
    assert opened.session.undo.undoText() == "reverse line 'Gap'"


def test_l_then_a_drag_draws_a_new_line(opened, qtbot):
    qtbot.keyClick(opened, Qt.Key.Key_L)
    drag(qtbot, opened.field, at_fraction(opened, 0.2, 0.95), at_fraction(opened, 0.2, 0.05))
    lines = opened.session.recipe.count.line
    assert [line.name for line in lines] == ["Gap", "Line 1"]
    assert lines[1].points[0] == pytest.approx((0.2, 0.95), abs=0.01)
    assert len(opened.dials.count.cards) == 2
    assert opened.session.crossings.line_names == ("Gap", "Line 1")
    opened.dials.count.cards[0].drop.click()
    assert opened.session.crossings.line_names == ("Line 1",)
    opened.session.undo.undo()
    opened.session.undo.undo()
    assert opened.session.crossings.line_names == ("Gap",)


def test_an_area_clicked_on_the_field_is_ignored_and_can_be_undone(opened, qtbot):
    session, before = opened.session, len(opened.session.detect.detections)
    opened.field.start_area("ignore")
    for x, y in ((0.0, 0.0), (0.5, 0.0), (0.5, 1.0), (0.0, 1.0)):
        qtbot.mouseClick(opened.field, LEFT, pos=at_fraction(opened, x, y))
    qtbot.keyClick(opened.field, Qt.Key.Key_Return)
    corners = np.ravel(session.recipe.detect.where.ignore)
    assert corners == pytest.approx([0.0, 0.0, 0.5, 0.0, 0.5, 1.0, 0.0, 1.0], abs=0.003)
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
    found = session.detect.detections
    assert 0 < len(found) < before
    assert ((found.box[:, 0] + found.box[:, 2]) / 2).min() >= 319
    assert opened.field.areas.area_at(QPointF(at_fraction(opened, 0.2, 0.5)), opened.field.view) == ("ignore", 0)
    session.undo.undo()
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
    assert len(session.detect.detections) == before


def test_a_choice_of_background_detects_again(opened, qtbot):
    row = opened.dials.detect.choices["detect.background.model"]
    opened.strip.choose("detect")
    row.box.setCurrentIndex(row.box.findData("mixture"))
    assert opened.session.recipe.detect.background.model == "mixture"
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
    assert opened.session.detect_settings.background.model == "mixture"
    measured = opened.dials.detect.choices["detect.background.threshold_in"]
    measured.box.setCurrentIndex(measured.box.findData("noise"))
    assert opened.dials.detect.noise.isVisible()
    assert not opened.dials.detect.threshold.isVisible()
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)


def test_detection_errors_are_counted_and_can_be_walked_through(opened, qtbot):
    score = opened.session.detection_score
    cells = opened.dials.score.cells
    assert cells["d_misses"].text() == str(len(score.misses))
    opened.playback.go(0)
    opened.session.next_error(1)
    frames = {*score.misses[:, 0].astype(int), *score.false_alarms[:, 0].astype(int)}
    assert opened.session.frame == min(frames - {0})


def test_typing_a_line_changes_it_and_nonsense_is_said_and_refused(opened, qtbot):
    card = opened.dials.count.cards[0]
    opened.strip.choose("count")
    card.points.setFocus()
    card.points.selectAll()
    qtbot.keyClicks(card.points, "0.3, 0.1; 0.3, 0.9")
    qtbot.keyClick(card.points, Qt.Key.Key_Return)
    assert opened.session.recipe.count.line[0].points == ((0.3, 0.1), (0.3, 0.9))
    card.points.setText("here; there")
    card.points.editingFinished.emit()
    assert opened.banner.isVisible()
    assert "pairs of fractions" in opened.banner.label.text()
    assert opened.session.recipe.count.line[0].points == ((0.3, 0.1), (0.3, 0.9))


def test_the_gate_handle_relinks_without_detecting_again(opened, qtbot):
    session, plot = opened.session, opened.dials.track.gate
    detected = []
    session.detections_changed.connect(lambda: detected.append(1))
    identities = len(session.tracks.paths.identity)
    plot.handle.setValue(0.8)
    plot.handle.sigDragged.emit(plot.handle)
    assert session.undo.count() == 0
    qtbot.waitUntil(lambda: len(session.tracks.paths.identity) != identities, timeout=WAIT)
    plot.handle.sigPositionChangeFinished.emit(plot.handle)
    assert session.undo.count() == 1
    assert session.recipe.track.match.gate == pytest.approx(0.8)
    assert opened.dials.track.rows["track.match.gate"].box.value() == pytest.approx(0.8)
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
    session.undo.undo()
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
    assert len(session.tracks.paths.identity) == identities
    assert not detected


def test_the_threshold_shows_its_mask_while_dragged_and_detects_when_let_go(opened, qtbot):
    session, plot = opened.session, opened.dials.detect.noise
    opened.strip.choose("detect")
    opened.playback.go(140)
    qtbot.waitUntil(lambda: opened.pictures.detect is not None and opened.pictures.detect.frame == 140, timeout=WAIT)
    plain = int(opened.pictures.detect.clean.sum())
    boxes = len(session.detect.detections)
    plot.handle.setValue(25.0)
    plot.handle.sigDragged.emit(plot.handle)
    assert session.state_of("detect") == StageState.STALE
    qtbot.waitUntil(lambda: int(opened.pictures.detect.clean.sum()) < plain / 2, timeout=WAIT)
    assert len(session.detect.detections) == boxes
    plot.handle.sigPositionChangeFinished.emit(plot.handle)
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
    assert len(session.detect.detections) != boxes
    assert session.detect_settings.background.noise_threshold == 25.0


def test_a_typed_setting_is_one_edit(opened, qtbot):
    box = opened.dials.track.rows["track.life.longest_gap"].box
    box.setFocus()
    box.selectAll()
    qtbot.keyClicks(box, "0.4")
    qtbot.keyClick(box, Qt.Key.Key_Return)
    assert opened.session.recipe.track.life.longest_gap == pytest.approx(0.4)
    assert opened.session.undo.count() == 1
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)


def test_stepping_and_playing_move_frame_clock_and_picture(opened, qtbot):
    opened.field.setFocus()
    for key, modifier, frame in (
        (Qt.Key.Key_Right, Qt.KeyboardModifier.NoModifier, 1),
        (Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier, 26),
        (Qt.Key.Key_Left, Qt.KeyboardModifier.NoModifier, 25),
        (Qt.Key.Key_End, Qt.KeyboardModifier.NoModifier, 249),
        (Qt.Key.Key_Home, Qt.KeyboardModifier.NoModifier, 0),
    ):
        qtbot.keyClick(opened, key, modifier)
        assert opened.session.frame == frame
    qtbot.waitUntil(lambda: opened.transport.place.text() == "frame 1 of 250", timeout=WAIT)
    opened.transport.speed.setCurrentIndex(opened.transport.speed.findData(8.0))
    qtbot.keyClick(opened, Qt.Key.Key_Space)
    assert opened.playback.playing
    qtbot.waitUntil(lambda: opened.session.frame > 60, timeout=WAIT)
    qtbot.keyClick(opened, Qt.Key.Key_Space)
    assert not opened.playback.playing
    qtbot.waitUntil(lambda: opened.pictures.frame.frame == opened.session.frame, timeout=WAIT)
    assert opened.field.drawn_frame == opened.session.frame


def test_a_click_in_the_lanes_goes_there_and_chooses_the_identity(opened, qtbot):
    lanes = opened.lanes
    lane = lanes.lanes[2]
    y = 30 + 2 * 17 + 8
    qtbot.mouseClick(lanes, LEFT, pos=QPoint(round(lanes.x_of(150)), y))
    assert opened.session.frame == 150
    assert opened.session.selected == lane.identity
    opened.transport.order.setCurrentIndex(opened.transport.order.findData("birth"))
    births = [lane.first for lane in lanes.lanes]
    assert births == sorted(births)


def test_zoom_keeps_the_point_under_the_mouse_and_double_click_fits(opened, qtbot):
    field = opened.field
    point = QPointF(400, 200)
    before = field.view.to_picture(point)
    field.view = field.view.zoomed(3.0, point)
    after = field.view.to_picture(point)
    assert (after.x(), after.y()) == pytest.approx((before.x(), before.y()), abs=0.01)
    qtbot.mouseDClick(field, LEFT, pos=QPoint(30, 30))
    assert field.view.zoom == 1.0


def test_every_overlay_changes_the_picture(opened, qtbot):
    opened.playback.go(150)
    opened.dials.setCurrentIndex(0)
    qtbot.waitUntil(lambda: opened.field.drawn_frame == 150, timeout=WAIT)
    for chip in opened.chips.chips.values():
        before = opened.field.grab().toImage()
        chip.click()
        # What Detect makes of the frame is fetched when it is asked for.
        qtbot.waitUntil(lambda before=before: opened.field.grab().toImage() != before, timeout=WAIT)
        chip.click()


@pytest.mark.own_window
def test_saved_and_opened_again_nothing_is_computed_twice(opened, qtbot, tmp_path):
    path = tmp_path / "fold.drover"
    opened.playback.go(99)
    opened.save_as(path)
    qtbot.waitUntil(lambda: opened.saving.path == path and not opened.saving.busy, timeout=WAIT)
    had = counts(opened), opened.session.tracks.box.tobytes(), opened.session.recipe
    from drover.app.window import MainWindow

    opened.close()
    other = MainWindow(Session(opened.session.store))
    qtbot.addWidget(other)
    worked = []
    other.session.progressed.connect(worked.append)
    other.open_path(path)
    qtbot.waitUntil(lambda: other.session.clip is not None and up_to_date(other), timeout=WAIT)
    assert (counts(other), other.session.tracks.box.tobytes(), other.session.recipe) == had
    assert other.session.frame == 99
    assert not other.session.engine._detect_job._ticket > 1
    assert not [step for step in worked if step is not None]
    assert other.session.engine.link_seconds == 0.0
    other.close()


@pytest.mark.own_window
def test_work_without_a_name_is_on_disk_unasked(opened, qtbot):
    opened.dials.count.cards[0].turn.click()
    qtbot.waitUntil(lambda: not opened.saving.busy, timeout=WAIT)
    assert read_project(opened.saving.place)[0].recipe_text.count("Gap") == 1
    with sqlite3.connect(opened.saving.place) as db:
        edits = db.execute("SELECT what, before, after FROM edit").fetchall()
    db.close()
    assert [what for what, _, _ in edits] == ["reverse line 'Gap'"]
    assert edits[0][1] != edits[0][2]


@pytest.mark.own_window
def test_a_project_whose_clip_is_gone_still_shows_its_results(opened, qtbot, tmp_path):
    import shutil

    clip = tmp_path / "moving.mp4"
    shutil.copy(SHORT.clip, clip)
    opened.session.open_clip(clip)
    qtbot.waitUntil(lambda: opened.session.clip.path == str(clip) and up_to_date(opened), timeout=WAIT)
    opened.save_as(tmp_path / "fold.drover")
    qtbot.waitUntil(lambda: opened.saving.path is not None and not opened.saving.busy, timeout=WAIT)
    rows = len(opened.session.tracks)
    clip.unlink()
    opened.banner.close_button.click()
    opened.open_path(tmp_path / "fold.drover")
    qtbot.waitUntil(lambda: opened.session.clip_missing, timeout=WAIT)
    assert len(opened.session.tracks) == rows
    assert "is not there" in opened.banner.label.text()


def test_a_file_that_cannot_be_opened_leaves_the_project_being_saved(opened, qtbot, tmp_path):
    opened.save_as(tmp_path / "fold.drover")
    qtbot.waitUntil(lambda: opened.saving.path is not None, timeout=WAIT)
    opened.open_path(tmp_path / "none.mp4")
    qtbot.waitUntil(opened.banner.isVisible, timeout=WAIT)
    opened.dials.count.cards[0].turn.click()
    contents = saved(opened, qtbot, tmp_path / "fold.drover")
    assert contents.recipe_text == opened.session.document.text


@pytest.mark.parametrize(
    ("name", "content", "message"),
    [
        ("none.mp4", None, "there is no such file"),
        ("words.mp4", b"words " * 300, "is not a video"),
        ("empty.mp4", b"", "the file is empty"),
        ("bad.drover", b"words " * 300, "is damaged or not a Drover project"),
    ],
)
def test_a_bad_file_is_said_and_nothing_is_lost(opened, qtbot, tmp_path, name, content, message):
    path = tmp_path / name
    if content is not None:
        path.write_bytes(content)
    rows = len(opened.session.tracks)
    opened.open_path(path)
    qtbot.waitUntil(opened.banner.isVisible, timeout=WAIT)
    assert message in opened.banner.label.text()
    assert len(opened.session.tracks) == rows
    assert opened.session.clip.path == str(SHORT.clip)
    opened.banner.close_button.click()
    assert not opened.banner.isVisible()


@pytest.mark.usefixtures("known_example")
def test_a_dropped_file_is_opened(window, qtbot):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(SHORT.clip))])
    event = QDropEvent(QPointF(50, 50), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
    window.welcome.dropEvent(event)
    qtbot.waitUntil(lambda: window.session.clip is not None, timeout=WAIT)
    assert window.session.clip.frame_count == 250
    qtbot.waitUntil(lambda: up_to_date(window), timeout=WAIT)


def test_work_can_be_stopped_and_taken_up_again(window, qtbot):
    window.session.open_clip(SHORT.clip, recipe=SHORT.recipe)
    qtbot.waitUntil(lambda: window.session.detect is not None, timeout=WAIT)
    qtbot.waitUntil(window.status.button.isVisible, timeout=WAIT)
    qtbot.mouseClick(window.status.button, LEFT)
    part = window.session.detect.detections.frame_count
    assert 0 < part < 250
    qtbot.waitUntil(lambda: window.status.state.text() == "not up to date", timeout=WAIT)
    qtbot.wait(600)
    assert window.session.detect.detections.frame_count == part
    assert window.status.button.text() == "Work through the clip"
    assert window.session.document.latest is None


def test_truth_that_does_not_fit_is_refused(opened, qtbot, tmp_path):
    path = tmp_path / "truth.csv"
    path.write_text("900,1,0,0,5,5\n")
    held = opened.session.truth
    opened.session.load_truth(path)
    qtbot.waitUntil(opened.banner.isVisible, timeout=WAIT)
    assert "reaches frame 900" in opened.banner.label.text()
    assert opened.session.truth is held


def test_nothing_is_clipped_at_the_size_designed_for(opened, qtbot):
    """Every label in the dials has the room its text needs."""
    opened.resize(1280, 800)
    for stage in STAGES:
        opened.strip.choose(stage)
        page = opened.dials.currentWidget()
        qtbot.waitUntil(page.isVisible, timeout=WAIT)
        area = page.findChild(QScrollArea)
        qtbot.waitUntil(lambda area=area: area.widget().width() <= area.viewport().width(), timeout=WAIT)
        for button in page.findChildren(QPushButton):
            if button.isVisible():
                assert button.width() >= button.minimumSizeHint().width(), button.text()
