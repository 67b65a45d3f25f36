"""Count's tools in the window: zones, rules, alarms, audit, hand counts, sign-off, intervals, ground, pictures."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QFileDialog

from drover.app.field.zone_drawing import plate_of
from drover.core.examples import example
from drover.core.project.file import read_project
from drover.core.recipe import with_value
from windows import WAIT, up_to_date

LEFT = Qt.MouseButton.LeftButton
SHIFT = Qt.KeyboardModifier.ShiftModifier
YARD = [(0.1, 0.3), (0.45, 0.3), (0.45, 0.95), (0.1, 0.95)]


def at(window, x: float, y: float) -> QPoint:
    view = window.field.view
    return view.to_widget(x * view.picture_width, y * view.picture_height).toPoint()


def saved(window, qtbot, path: Path | None = None):
    qtbot.waitUntil(lambda: not window.saving.busy, timeout=WAIT)
    return read_project(path or window.saving.place)[0]


def draw_zone(window, qtbot, corners=YARD) -> None:
    qtbot.keyClick(window, Qt.Key.Key_Z)
    for x, y in corners:
        qtbot.mouseClick(window.field, LEFT, pos=at(window, x, y))
    qtbot.keyClick(window.field, Qt.Key.Key_Return)


def drag_to(qtbot, field, start: QPoint, end: QPoint, *, keys=Qt.KeyboardModifier.NoModifier) -> None:
    qtbot.mouseMove(field, start)
    qtbot.mousePress(field, LEFT, keys, start)
    qtbot.mouseMove(field, (start + end) / 2)
    qtbot.mouseMove(field, end)
    qtbot.mouseRelease(field, LEFT, keys, end)


def change(window, path: str, value: object) -> None:
    window.session.edit(with_value(window.session.recipe, path, value), "test")


def test_z_and_clicks_draw_a_zone_that_says_who_is_inside(opened, qtbot):
    draw_zone(opened, qtbot)
    (zone,) = opened.session.recipe.count.zone
    assert np.abs(np.array(zone.points) - YARD).max() < 0.01
    visits = opened.session.counted.visits
    assert len(visits) > 2
    k = int(np.argmax(visits.leave - visits.enter))
    opened.playback.go(int(visits.enter_frame[k]) + 5)
    card = opened.dials.count.zones[0]
    assert str(int(visits.identity[k])) in card.inside.text().removeprefix("inside now: ").split(", ")
    saved(opened, qtbot)
    with closing(sqlite3.connect(opened.saving.place)) as db:
        assert db.execute("SELECT name FROM zone").fetchall() == [("Zone 1",)]
        assert db.execute("SELECT count(*) FROM visit").fetchone()[0] == len(visits)
        assert db.execute("SELECT count(*) FROM interval").fetchone()[0] > 0
    opened.session.undo.undo()
    assert opened.session.recipe.count.zone == () and not opened.dials.count.zones


def test_a_corner_of_a_zone_is_dragged_and_sides_never_cross(opened, qtbot):
    draw_zone(opened, qtbot)
    field, start = opened.field, at(opened, *YARD[0])
    qtbot.mouseMove(field, start)
    qtbot.mousePress(field, LEFT, pos=start)
    qtbot.mouseMove(field, at(opened, 0.2, 0.4))
    qtbot.mouseMove(field, at(opened, 0.6, 0.8))  # beyond the far side: the sides would cross
    qtbot.mouseRelease(field, LEFT, pos=at(opened, 0.6, 0.8))
    corner = opened.session.recipe.count.zone[0].points[0]
    assert corner == pytest.approx((0.2, 0.4), abs=0.01)
    assert opened.session.undo.undoText() == "move zone 'Zone 1'"
    opened.session.undo.undo()
    assert opened.session.recipe.count.zone[0].points[0] == pytest.approx(YARD[0], abs=0.01)


def test_a_zone_is_moved_whole_gets_a_corner_on_its_side_and_goes_by_key(opened, qtbot):
    draw_zone(opened, qtbot)
    session, field = opened.session, opened.field
    plate, _ = plate_of(session.recipe.count.zone[0], field.view, 10, over=False)
    name = plate.center().toPoint()
    drag_to(qtbot, field, name, name + QPoint(40, -25))
    moved = np.array(session.recipe.count.zone[0].points) - YARD
    width, height = field.view.picture_rect().width(), field.view.picture_rect().height()
    assert moved == pytest.approx(np.tile([40 / width, -25 / height], (4, 1)), abs=0.004)
    # However far it is pulled, it stays within reach.
    plate, _ = plate_of(session.recipe.count.zone[0], field.view, 10, over=False)
    drag_to(qtbot, field, plate.center().toPoint(), plate.center().toPoint() - QPoint(3000, 0))
    assert min(x for x, _ in session.recipe.count.zone[0].points) > -0.5
    session.undo.undo()
    # With Ctrl a side is taken hold of, and gets a corner there.
    (a, b, *_) = session.recipe.count.zone[0].points
    side = at(opened, (a[0] + b[0]) / 2, (a[1] + b[1]) / 2)
    drag_to(qtbot, field, side, side - QPoint(0, 30), keys=Qt.KeyboardModifier.ControlModifier)
    points = session.recipe.count.zone[0].points
    assert len(points) == 5 and points[1][1] < a[1] and (points[0], points[2]) == (a, b)
    corner = at(opened, *points[1])
    qtbot.mouseMove(field, corner)
    qtbot.waitUntil(lambda: field.zones.hover is not None, timeout=WAIT)
    qtbot.keyClick(field, Qt.Key.Key_Delete)
    assert session.recipe.count.zone == ()
    session.undo.undo()
    assert len(session.recipe.count.zone[0].points) == 5
    # Escape puts back what is being dragged.
    qtbot.mousePress(field, LEFT, pos=corner)
    qtbot.mouseMove(field, corner + QPoint(30, 30))
    qtbot.keyClick(field, Qt.Key.Key_Escape)
    assert session.recipe.count.zone[0].points == points


def test_a_zone_whose_sides_cross_is_refused_in_words(opened, qtbot):
    said = []
    opened.session.message_raised.connect(said.append)
    draw_zone(opened, qtbot, [(0.1, 0.1), (0.5, 0.5), (0.5, 0.1), (0.1, 0.5)])
    assert opened.session.recipe.count.zone == ()
    assert len(said) == 1 and "cross" in said[0]


def test_a_second_line_of_one_name_is_refused_and_undo_is_intact(opened, qtbot):
    card = opened.dials.count.cards[0]
    card.double.click()
    second = opened.dials.count.cards[1]
    assert [line.name for line in opened.session.recipe.count.line] == ["Gap", "Gap 2"]
    steps = opened.session.undo.count()
    second.name.setText("Gap")
    second.name.editingFinished.emit()
    assert "two lines are called 'Gap'" in opened.banner.label.text()
    assert opened.session.recipe.count.line[1].name == "Gap 2" and second.name.text() == "Gap 2"
    assert opened.session.undo.count() == steps
    for text in ("0.5, 0.1", "0.5, nan; 0.5, 0.9", "7, 7; 0.5, 0.9"):
        second.points.setText(text)
        second.points.editingFinished.emit()
        assert opened.session.undo.count() == steps
    opened.session.undo.undo()
    assert len(opened.session.recipe.count.line) == 1


def test_the_rule_of_a_line_is_in_its_card_and_recounts(opened, qtbot):
    card = opened.dials.count.cards[0]
    had = len(opened.session.crossings)
    card.fields["least_age"].setValue(3.0)
    assert opened.session.recipe.count.line[0].least_age == 3.0
    assert len(opened.session.crossings) < had
    opened.session.undo.undo()
    card.fields["forward_name"].setText("uphill")
    card.fields["forward_name"].editingFinished.emit()
    assert opened.session.recipe.count.line[0].forward_name == "uphill"
    assert len(opened.session.crossings) == had


def test_a_forbidden_way_raises_alarms_that_lead_there(opened, qtbot):
    back = opened.session.crossings.direction < 0
    assert back.any()
    card = opened.dials.count.cards[0]
    box = card.fields["forbidden"]
    box.setCurrentIndex(box.findData("back"))
    box.activated.emit(box.currentIndex())
    alarms = opened.session.counted.alarms
    assert len(alarms) == back.sum()
    page = opened.dials.count.alarms
    qtbot.waitUntil(lambda: page.list.count() == len(alarms), timeout=WAIT)
    page.list.itemClicked.emit(page.list.item(0))
    assert (opened.session.frame, opened.session.selected) == (alarms[0].frame, alarms[0].identity)
    saved(opened, qtbot)
    with closing(sqlite3.connect(opened.saving.place)) as db:
        rows = db.execute("SELECT kind, place, identity FROM alarm ORDER BY time").fetchall()
    assert rows == [("wrong way", "Gap", alarm.identity) for alarm in alarms]


def test_the_audit_by_keys_corrects_totals_and_every_step_is_undone(opened, qtbot):
    opened.show_audit()
    panel, session = opened.dials.audit, opened.session
    qtbot.waitUntil(lambda: panel.model.rowCount() == len(session.crossings), timeout=WAIT)
    panel.list.setCurrentIndex(panel.model.index(0))
    assert session.frame == session.crossings.frame[0]
    qtbot.keyClick(panel.list, Qt.Key.Key_C)
    qtbot.keyClick(panel.list, Qt.Key.Key_X)
    assert [verdict.said for verdict in session.audit.verdicts] == ["confirmed", "rejected"]
    assert panel.current == panel.model.entries[2], "the next open one is chosen"
    frame = session.frame
    qtbot.keyClick(panel.list, Qt.Key.Key_N)
    assert panel.current == panel.model.entries[3] and session.frame != frame, "N is the audit's while it has the focus"
    way = int(session.crossings.direction[1])
    name = "forward" if way > 0 else "back"
    total = int((session.crossings.direction == way).sum())
    cell = opened.dials.count.cards[0].cells[f"{name} corrected"]
    assert cell.text() == str(total - 1)
    opened.playback.go(100)
    qtbot.keyClick(panel.list, Qt.Key.Key_A, SHIFT if way < 0 else Qt.KeyboardModifier.NoModifier)
    assert cell.text() == str(total)
    assert [(one.frame, one.direction) for one in session.audit.missed] == [(100, way)]
    assert saved(opened, qtbot).audit == session.audit
    for _ in range(3):
        session.undo.undo()
    assert session.audit.verdicts == () and session.audit.missed == ()
    assert cell.text() == str(total)


def test_cards_show_pictures_and_can_be_filtered(opened, qtbot):
    opened.show_audit()
    panel, crossings = opened.dials.audit, opened.session.crossings
    qtbot.waitUntil(lambda: panel.model.rowCount() == len(crossings), timeout=WAIT)
    panel.list.scrollToTop()
    first = panel.model.entries[0]
    qtbot.waitUntil(lambda: len(panel.strips.of_entry(first)) == 3, timeout=WAIT)
    before, _, after = panel.strips.of_entry(first)
    assert before != after, "half a second before and after are two pictures"
    panel.way.setCurrentIndex(panel.way.findData(-1))
    panel.way.activated.emit(panel.way.currentIndex())
    assert panel.model.rowCount() == int((crossings.direction < 0).sum())
    panel.way.setCurrentIndex(0)
    panel.list.setCurrentIndex(panel.model.index(0))
    panel.say("confirmed")
    panel.open_only.setChecked(True)
    assert panel.model.rowCount() == len(crossings) - 1
    panel.done.click()
    assert opened.dials.currentWidget() is not panel


def test_a_hand_count_and_a_sign_off_are_kept_and_say_when_things_change(opened, qtbot):
    card, session = opened.dials.count.cards[0], opened.session
    forward = int((session.crossings.direction > 0).sum())
    card.hand[1].setText(str(forward + 2))
    card.hand[1].editingFinished.emit()
    assert card.verdict.text() == "Against the hand count: forward −2"
    card.sign.click()
    signed = session.audit.signed_off("Gap")
    assert signed.forward == forward and "foot of the box" in signed.rule
    assert card.signed.text().startswith("Signed off 20") and "changed" not in card.signed.text()
    change(opened, "count.line", [session.recipe.count.line[0].model_dump() | {"dead_band": 0.2}])
    assert card.signed.text().endswith("changed since")
    again = saved(opened, qtbot).audit
    assert again.signed_off("Gap") == signed and again.hand_total("Gap", 1) == forward + 2


def test_what_was_said_of_a_line_follows_its_new_name(opened, qtbot):
    card, session = opened.dials.count.cards[0], opened.session
    opened.show_audit()
    panel = opened.dials.audit
    qtbot.waitUntil(lambda: panel.model.rowCount() == len(session.crossings), timeout=WAIT)
    panel.list.setCurrentIndex(panel.model.index(0))
    panel.say("rejected")
    card.sign.click()
    steps = session.undo.count()
    card.name.setText("Hedge")
    card.name.editingFinished.emit()
    assert session.recipe.count.line[0].name == "Hedge"
    assert session.undo.count() == steps + 1
    assert session.audit.verdicts[0].line == "Hedge" and session.audit.signed_off("Hedge") is not None
    assert "changed" not in card.signed.text()
    session.undo.undo()
    assert session.recipe.count.line[0].name == "Gap" and session.audit.signed_off("Gap") is not None


def test_counts_over_time_scrub_the_footage(opened, qtbot):
    opened.strip.choose("count")
    card = opened.dials.count.over_time
    opened.dials.setFixedWidth(336)
    qtbot.waitUntil(lambda: "passages" in card.words.text(), timeout=WAIT)
    card.plot.scene().prepareForPaint()
    spot = card.plot.mapFromScene(card.plot.getViewBox().mapViewToScene(QPointF(6.0, 0.0)))
    qtbot.mouseClick(card.plot.viewport(), LEFT, pos=spot)
    assert abs(float(opened.session.clip.times[opened.session.frame]) - 6.0) < 0.3


def test_the_truth_card_lists_what_is_wrong(opened, qtbot):
    card, session = opened.dials.count.errors, opened.session
    change(opened, "count.line", [session.recipe.count.line[0].model_dump() | {"least_age": 2.5}])
    missed = len(session.true_crossings) - len(session.crossings)
    assert missed > 0
    qtbot.waitUntil(lambda: card.list.count() == missed, timeout=WAIT)
    assert all("missed" in card.list.item(k).text() for k in range(missed))
    assert card.words.text().startswith("Gap ") and "missed" in card.words.text()
    card.list.itemClicked.emit(card.list.item(0))
    assert session.frame in session.true_crossings.frame.tolist()


def test_four_points_and_their_distances_make_metres(opened, qtbot):
    card, session = opened.dials.count.ground, opened.session
    qtbot.mouseClick(card.pick, LEFT)
    for x, y in ((0.2, 0.4), (0.8, 0.4), (0.9, 0.9), (0.1, 0.9)):
        qtbot.mouseClick(opened.field, LEFT, pos=at(opened, x, y))
    assert len(card.points) == 4
    card.use.click()
    assert "four sides" in opened.banner.label.text() and session.counted.ground is None
    for box, metres in zip(card.boxes, (12.0, 9.0, 12.0, 9.0, 15.0, 15.2), strict=True):
        box.setValue(metres)
    card.use.click()
    qtbot.waitUntil(lambda: session.counted.ground is not None, timeout=WAIT)
    assert "Distances fit to 0." in card.words.text()
    who = int(session.tracks.identity[session.tracks.rows_of(100)][0])
    opened.playback.go(100)
    session.select(who)
    assert f"{who} went" in card.words.text() and "m/s" in card.words.text()
    session.undo.undo()
    assert session.counted.ground is None


def test_pictures_of_where_they_went_and_the_proof_are_written(opened, qtbot, tmp_path):
    plain = opened.field.picture()
    for name in ("All paths", "Time spent", "Flow"):
        opened.chips.ways[name].setChecked(True)
        drawn = opened.field.picture()
        assert drawn.size() == plain.size() and drawn != plain, name
        opened.chips.ways[name].setChecked(False)
        assert opened.field.picture() == plain
    opened.exports.save_proof(tmp_path / "proof.png")
    proof = QImage(str(tmp_path / "proof.png"))
    assert proof.width() == opened.session.clip.width and proof.height() > opened.session.clip.height
    (x1, y1), (x2, y2) = opened.session.recipe.count.line[0].points
    quarter = 0.25 * np.array([x1, y1]) + 0.75 * np.array([x2, y2])
    spot = (quarter * (opened.session.clip.width, opened.session.clip.height)).astype(int)
    assert proof.pixelColor(*spot.tolist()) != opened.pictures.frame.image.pixelColor(*spot.tolist())


@pytest.mark.usefixtures("known_example")
def test_true_crossings_alone_are_enough_to_see_what_is_wrong(window, qtbot, tmp_path):
    chosen = example("gap-short")
    window.session.open_clip(chosen.clip, recipe=chosen.recipe)
    qtbot.waitUntil(lambda: up_to_date(window), timeout=WAIT)
    card = window.dials.count.errors
    assert card.isHidden()
    lines = chosen.crossings.read_text().splitlines()
    (tmp_path / "true.csv").write_text("\n".join([*lines, "Gap,99,ewe,40,1.5600,1,300,150"]) + "\n")
    window.session.load_true_crossings(tmp_path / "true.csv")
    qtbot.waitUntil(lambda: card.list.count() == 1, timeout=WAIT)
    assert "missed: Gap forward, ewe" in card.list.item(0).text()


def test_intervals_and_pictures_go_where_they_are_asked_to_or_say_why_not(opened, qtbot, tmp_path, monkeypatch):
    chosen = {"name": str(tmp_path / "intervals.csv")}
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (chosen["name"], ""))
    length = opened.dials.count.over_time.length
    length.setCurrentIndex(length.findText("30 s"))
    opened.dials.count.over_time.table_wanted.emit(float(length.currentData()))
    rows = [row.split(",") for row in (tmp_path / "intervals.csv").read_text().splitlines()[1:]]
    crossings = opened.session.crossings
    assert [row[:3] for row in rows] == [["0", "10", "Gap"]]
    assert int(rows[0][4]) == (crossings.direction > 0).sum() and int(rows[0][5]) == (crossings.direction < 0).sum()
    chosen["name"] = str(tmp_path / "field.png")
    opened.exports.ask_picture()
    assert QImage(chosen["name"]).width() == opened.session.clip.width
    chosen["name"] = str(tmp_path / "nowhere" / "proof.png")
    opened.exports.ask_proof()
    assert "cannot be written; choose another folder or name" in opened.banner.label.text()
    opened.dials.count.over_time.table_wanted.emit(30.0)
    assert opened.banner.isVisible()
