"""Detect's tools in the window: imported boxes, split field, comparing, spans, sizes, error list."""

from __future__ import annotations

import sqlite3

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QComboBox, QPlainTextEdit

from drover.app.session import STAGES, StageState
from drover.core.recipe import with_value
from drover.core.types import rows_to_frames
from windows import WAIT, up_to_date

LEFT = Qt.MouseButton.LeftButton


def fresh(window, qtbot) -> None:
    qtbot.waitUntil(lambda: up_to_date(window, stages=STAGES), timeout=WAIT)


def write_boxes(path, window, *, bad: bool) -> int:
    """The detections of the clip as rows in two classes, by width; a few bad rows at the end."""
    found = window.session.detect.detections
    frames = rows_to_frames(found.frame_start)
    lines = []
    for frame, (x1, y1, x2, y2) in zip(frames.tolist(), found.box.tolist(), strict=True):
        kind, sure = ("ewe", 0.9) if x2 - x1 > 45 else ("lamb", 0.4)
        lines.append(f"{frame + 1},-1,{x1},{y1},{x2 - x1},{y2 - y1},{sure},{kind}")
    if bad:
        lines += ["3,-1,nan,3,4,5,1,ewe", "4,-1,1,1,-4,5,1,ewe"]
    path.write_text("\n".join(lines) + "\n")
    return len(frames)


@pytest.fixture
def dialog(opened, qtbot, tmp_path):
    """The import dialog on a file with two bad rows."""
    path = tmp_path / "boxes.csv"
    opened.count_of_boxes = write_boxes(path, opened, bad=True)
    before = getattr(opened.asking, "box_dialog", None)
    opened.asking.read_boxes(path)
    qtbot.waitUntil(lambda: getattr(opened.asking, "box_dialog", None) is not before, timeout=WAIT)
    yield opened.asking.box_dialog
    opened.asking.box_dialog.reject()


def test_boxes_are_looked_at_before_they_are_taken(opened, dialog, qtbot):
    rows = {dialog.classes.item(r, 0).text(): r for r in range(dialog.classes.rowCount())}
    assert set(rows) == {"ewe", "lamb"}
    told = sum(int(dialog.classes.item(r, 1).text().replace(" ", "")) for r in rows.values())
    assert told == opened.count_of_boxes
    faults = dialog.findChild(QPlainTextEdit).toPlainText()
    assert f"line {told + 1}: holds a value that is not a finite number" in faults
    assert not dialog.take.isEnabled()  # bad rows are left out only when the user says so
    assert opened.session.imported is None
    dialog.leave_out.click()
    lamb = rows["lamb"]
    dialog.classes.item(lamb, 0).setCheckState(Qt.CheckState.Unchecked)
    qtbot.mouseClick(dialog.take, LEFT)
    fresh(opened, qtbot)
    assert set(np.unique(opened.session.detect.detections.confidence).tolist()) == {np.float32(0.9)}
    qtbot.waitUntil(lambda: not opened.saving.busy, timeout=WAIT)
    with sqlite3.connect(opened.saving.place) as db:
        assert db.execute("SELECT count(*) FROM imported").fetchone()[0] == told
        assert 'name = "lamb"' in db.execute("SELECT toml FROM recipe").fetchone()[0]


def test_a_confidence_handle_cuts_its_own_class_and_undo_gives_it_back(opened, dialog, qtbot):
    dialog.leave_out.click()
    qtbot.mouseClick(dialog.take, LEFT)
    fresh(opened, qtbot)
    total = len(opened.session.detect.detections)
    plot = opened.dials.detect.boxes.plots["lamb"]
    plot.handle.setValue(0.5)
    plot.handle.sigPositionChangeFinished.emit(plot.handle)
    fresh(opened, qtbot)
    assert opened.session.recipe.detect.boxes.limit_of("lamb") == 0.5
    assert 0 < len(opened.session.detect.detections) < total
    opened.session.undo.undo()
    fresh(opened, qtbot)
    assert len(opened.session.detect.detections) == total


def test_what_moves_and_imported_boxes_go_together_without_another_pass(opened, dialog, qtbot):
    dialog.leave_out.click()
    qtbot.mouseClick(dialog.take, LEFT)
    fresh(opened, qtbot)
    passes = []
    opened.session.progressed.connect(lambda progress: passes.append(progress) if progress else None)
    use = opened.dials.detect.boxes.use.box
    use.setCurrentIndex(use.findData("boxes+motion"))
    fresh(opened, qtbot)
    assert opened.session.recipe.detect.sources == ("boxes", "motion")
    # Every blob has its box here, so together they are what the boxes are, now with outlines.
    assert len(opened.session.detect.detections) == opened.count_of_boxes
    assert len(opened.session.detect.detections.runs) > 0
    use.setCurrentIndex(use.findData("motion"))
    fresh(opened, qtbot)
    assert not passes


def test_a_split_field_shows_two_layers_and_moves_in_step(opened, qtbot):
    qtbot.keyClick(opened, Qt.Key.Key_Backslash)
    pair = opened.pair
    assert pair.right.isVisible() and pair.active is pair.right
    qtbot.waitUntil(lambda: opened.pictures.detect is not None, timeout=WAIT)
    opened.chips.chips["Difference"].click()
    opened.chips.chips["Raw mask"].click()
    assert pair.right.shown & {"Difference", "Raw mask"} == {"Raw mask"}
    assert "Raw mask" not in pair.left.shown
    assert pair.right.caption == "Picture + raw mask"
    qtbot.mouseClick(pair.left, LEFT, pos=QPoint(30, 60))
    assert pair.active is pair.left
    assert opened.chips.chips["Outlines"].isChecked() and not opened.chips.chips["Raw mask"].isChecked()
    pair.left.view = pair.left.view.zoomed(3.0, pair.left.rect().center().toPointF())
    pair.left.view_changed.emit()
    assert pair.right.view.zoom == pytest.approx(3.0)
    assert pair.right.view.widget_width == pair.right.width()
    qtbot.keyClick(opened, Qt.Key.Key_Backslash)
    assert pair.right.isHidden() and pair.active is pair.left


def test_a_held_result_stays_beside_the_one_being_changed(opened, qtbot):
    page = opened.dials.score
    opened.strip.choose("score")
    qtbot.mouseClick(page.hold_button, LEFT)
    assert opened.pair.split
    before = page.cells["d_recall"].text()
    opened.session.edit(with_value(opened.session.recipe, "detect.background.noise_threshold", 25.0), "try")
    fresh(opened, qtbot)
    assert page.other_cells["d_recall"].text() == before
    assert page.cells["d_recall"].text() != before
    right, clip = opened.pair.right, opened.session.clip
    assert right.results.recipe.detect.background.noise_threshold != 25.0
    assert right.scene(clip).names is right.scene(clip).names  # or nothing that was drawn there is known again
    qtbot.mouseClick(page.swap_button, LEFT)
    fresh(opened, qtbot)
    assert page.cells["d_recall"].text() == before
    qtbot.mouseClick(page.let_go_button, LEFT)
    assert page.other_cells["d_recall"].text() == ""


def test_a_span_dragged_in_the_lanes_is_all_that_is_worked_through(opened, qtbot):
    lanes = opened.lanes
    qtbot.waitUntil(lambda: opened.session.document.latest is not None, timeout=WAIT)
    kept = opened.session.document.latest.keys
    start, end = (QPoint(round(lanes.x_of(frame)), 12) for frame in (100, 150))
    qtbot.mousePress(lanes, LEFT, Qt.KeyboardModifier.ShiftModifier, start)
    qtbot.mouseMove(lanes, end)
    qtbot.mouseRelease(lanes, LEFT, Qt.KeyboardModifier.ShiftModifier, end)
    first, past = opened.session.span
    assert abs(first - 100) <= 1 and abs(past - 150) <= 1
    opened.session.edit(with_value(opened.session.recipe, "detect.background.threshold", 30.0), "try")
    fresh(opened, qtbot)
    counts = np.diff(opened.session.detect.detections.frame_start)
    assert counts[:first].sum() == counts[past:].sum() == 0 < counts[first:past].sum()
    qtbot.waitUntil(lambda: "not kept" in opened.status.state.text(), timeout=WAIT)
    assert opened.session.document.latest.keys == kept
    qtbot.mouseClick(opened.dials.detect.span.whole, LEFT)
    assert opened.session.state_of("detect") == StageState.WORKING
    fresh(opened, qtbot)
    assert np.diff(opened.session.detect.detections.frame_start)[past:].sum() > 0


def test_size_limits_are_dragged_on_the_sizes_and_a_blob_leads_to_its_frame(opened, qtbot):
    sizes = opened.dials.detect.sizes
    opened.strip.choose("detect")
    kept = len(opened.session.detect.detections)
    shown = sizes.kept.data["data"]
    assert 0 < len(shown) <= 2500
    sizes._clicked(None, [sizes.kept.points()[len(shown) // 2]], None)
    assert opened.session.frame == shown[len(shown) // 2]
    sizes.limits.setPos((np.log10(60), np.log10(20)), finish=False)
    sizes.limits.sigRegionChangeFinished.emit(sizes.limits)
    assert opened.session.recipe.detect.size.least_width == 60.0
    fresh(opened, qtbot)
    now = opened.session.detect.detections
    assert 0 < len(now) < kept
    # The clip is half as wide as the frames that the limits are given for.
    assert (now.box[:, 2] - now.box[:, 0] >= 60 * opened.session.clip.width / 1280).all()
    assert len(opened.session.detect.rejected) > 0


def test_an_animal_near_and_far_are_drawn_on_the_field(opened, qtbot):
    opened.strip.choose("detect")
    view = opened.field.view
    for kind, (x1, y1, x2, y2) in (("near", (0.2, 0.6, 0.3, 0.8)), ("far", (0.5, 0.2, 0.53, 0.28))):
        opened.dials.detect.box_wanted.emit(kind)
        start, end = (
            view.to_widget(x * view.picture_width, y * view.picture_height).toPoint() for x, y in ((x1, y1), (x2, y2))
        )
        qtbot.mousePress(opened.field, LEFT, pos=start)
        qtbot.mouseMove(opened.field, end)
        qtbot.mouseRelease(opened.field, LEFT, pos=end)
        drawn = getattr(opened.session.recipe.detect.size, f"{kind}_box")
        assert drawn == pytest.approx((x1, y1, x2, y2), abs=0.004)
    qtbot.mouseClick(opened.dials.detect.forget, LEFT)
    assert opened.session.recipe.detect.size.near_box is None


def test_detection_errors_are_listed_and_lead_there(opened, qtbot):
    opened.strip.choose("score")
    page, score = opened.dials.score, opened.session.detection_score
    assert page.errors.count() == len({*score.misses[:, 0].tolist(), *score.false_alarms[:, 0].tolist()}) > 0
    item = page.errors.item(page.errors.count() - 1)
    page.errors.itemClicked.emit(item)
    assert item.text().startswith(f"frame {opened.session.frame + 1}: ")


def test_a_fragment_near_the_end_is_the_clip_s_last_seconds(opened, qtbot):
    opened.strip.choose("detect")
    card, session = opened.dials.detect.span, opened.session
    clip = session.clip
    assert not card.whole.isEnabled() and "whole clip" in card.words.text()
    opened.playback.go(50)
    qtbot.mouseClick(card.here, LEFT)
    assert session.span == (50, 175) and "2.0 s to 7.0 s" in card.words.text()
    opened.playback.go(clip.frame_count - 10)
    qtbot.mouseClick(card.here, LEFT)
    assert session.span == (clip.frame_count - 125, clip.frame_count)
    assert "no result is kept" in card.words.text()
    qtbot.mouseClick(card.whole, LEFT)
    assert session.span is None and not card.whole.isEnabled()


def test_snow_is_kept_where_it_is_asked_for(opened, qtbot):
    opened.strip.choose("detect")
    box = next(b for b in opened.findChildren(QComboBox) if b.accessibleName() == "snow, bubbles")
    assert box.currentText() == "dropped"
    box.setFocus()
    qtbot.keyClick(box, Qt.Key.Key_Down)
    assert box.currentText() == "kept" and not opened.session.recipe.detect.bodies.drop_weather
    fresh(opened, qtbot)
    qtbot.waitUntil(lambda: not opened.saving.busy, timeout=WAIT)
    with sqlite3.connect(opened.saving.place) as db:
        assert "drop_weather = false" in db.execute("SELECT toml FROM recipe").fetchone()[0]


def test_areas_that_count_are_drawn_closed_at_their_first_corner_and_dim_the_rest(opened, qtbot):
    session, field = opened.session, opened.field
    before = field.grab().toImage()
    field.start_area("include")
    corners = [(0.1, 0.1), (0.9, 0.1), (0.9, 0.8)]
    places = [field.view.to_widget(x * session.clip.width, y * session.clip.height).toPoint() for x, y in corners]
    for place in (*places, places[0]):
        qtbot.mouseClick(field, LEFT, pos=place)
    (area,) = session.recipe.detect.where.include
    assert np.abs(np.array(area) - corners).max() < 0.01
    after = field.grab().toImage()
    outside = field.view.to_widget(0.05 * session.clip.width, 0.95 * session.clip.height).toPoint()
    inside = field.view.to_widget(0.6 * session.clip.width, 0.2 * session.clip.height).toPoint()
    assert after.pixelColor(outside).value() < 0.8 * before.pixelColor(outside).value()
    assert abs(after.pixelColor(inside).value() - before.pixelColor(inside).value()) < 30
    # Two corners are no area, and nothing is left of them.
    field.start_area("ignore")
    for place in places[:2]:
        qtbot.mouseClick(field, LEFT, pos=place)
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert session.recipe.detect.where.ignore == () and field.areas.corners == []
    assert session.undo.count() == 1
