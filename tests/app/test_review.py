"""The review in the window: moments worked through by keys, corrections that hold, the filter bench, links, lanes."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt

from drover.app.link_table import LinkTable
from drover.app.theme import identity_colour
from drover.bench.careful import Careful, missing_stretches
from drover.core.doubt.review import Worked
from drover.core.edits.apply import Edited
from drover.core.edits.edit import Edit, Place
from drover.core.project.file import read_project
from drover.core.recipe import with_value
from drover.core.score.spans import score_result
from drover.core.track.ride import measured_of, ride
from windows import WAIT, up_to_date, wheel

LEFT = Qt.MouseButton.LeftButton
CTRL = Qt.KeyboardModifier.ControlModifier
NONE = Qt.KeyboardModifier.NoModifier


def settled(window, qtbot) -> None:
    session = window.session
    qtbot.waitUntil(
        lambda: len(session.edit_notes) == len(session.edits)
        and up_to_date(window) and not window.watch.waiting and not window.watch.busy,
        timeout=WAIT,
    )  # fmt: skip


def press(window, qtbot, key: str, modifier=NONE) -> None:
    window.activateWindow()
    qtbot.keyClick(window, getattr(Qt.Key, f"Key_{key}"), modifier)


def test_moments_are_worked_through_by_keys_alone(opened, qtbot):
    session, reviewer = opened.session, opened.reviewer
    settled(opened, qtbot)
    listed = reviewer.listed
    assert listed == len(opened.watch.found) or listed >= 10
    press(opened, qtbot, "N")
    assert opened.dials.reviewing
    assert opened.playback.playing
    panel = opened.dials.review
    first = reviewer.current
    qtbot.waitUntil(lambda: first.words in panel.words.text(), timeout=WAIT)
    assert panel.progress.text().startswith(f"0 of {listed} looked at")
    qtbot.waitUntil(lambda: bool(panel.faces.cutouts._known), timeout=WAIT)
    before = reviewer.left
    press(opened, qtbot, "C")
    settled(opened, qtbot)
    assert [edit.kind for edit in session.edits] == ["right"]
    assert reviewer.current is not None and reviewer.current != first  # the next one by itself
    assert reviewer.done >= 1
    assert reviewer.left < before
    press(opened, qtbot, "U")
    settled(opened, qtbot)
    assert sorted(opened.watch.worked[opened.watch.worked > 0].tolist())[:1] == [Worked.RIGHT]
    assert [edit.kind for edit in session.edits] == ["right", "unsure"]
    press(opened, qtbot, "Z", CTRL)
    settled(opened, qtbot)
    assert [edit.kind for edit in session.edits] == ["right"]
    qtbot.waitUntil(lambda: panel.edits.count() == 1, timeout=WAIT)
    assert "right as it is" in panel.edits.item(0).text()


def test_what_is_dropped_goes_everywhere_and_comes_back(opened, qtbot):
    session = opened.session
    settled(opened, qtbot)
    who = int(session.crossings.identity[0])
    total, lanes = len(session.crossings), len(opened.lanes.lanes)
    session.select(who)
    press(opened, qtbot, "D")
    settled(opened, qtbot)
    assert len(session.tracks.path_of(who)) == 0
    assert len(session.crossings) == total - 1
    qtbot.waitUntil(lambda: len(opened.lanes.lanes) == lanes - 1, timeout=WAIT)
    session.undo.undo()
    settled(opened, qtbot)
    assert len(session.crossings) == total


def test_a_box_is_drawn_by_keys_alone(opened, qtbot):
    """From where the identity chosen was last: two steps right, its corner one up, and Enter; Esc gives up."""
    session, field = opened.session, opened.field
    settled(opened, qtbot)
    who = int(session.tracks.identity[0])
    path = session.tracks.path_of(who)
    row = path[len(path) // 2]
    frame, box = int(session.tracks.frame[row]), session.tracks.box[row].astype(float)
    opened.playback.go(frame)
    session.select(who)
    press(opened, qtbot, "B", CTRL)
    qtbot.keyClick(field, Qt.Key.Key_Left)
    qtbot.keyClick(field, Qt.Key.Key_Escape)
    assert not field.boxes.drawing and session.frame == frame and not session.edits
    press(opened, qtbot, "B", CTRL)
    for key, held in (
        (Qt.Key.Key_Right, NONE),
        (Qt.Key.Key_Right, NONE),
        (Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier),
    ):
        qtbot.keyClick(field, key, held)
    assert session.frame == frame  # the keys were the box's
    qtbot.keyClick(field, Qt.Key.Key_Return)
    settled(opened, qtbot)
    width, height = box[2:] - box[:2]
    now = session.tracks.path_of(who)
    made = session.tracks.box[now[session.tracks.frame[now] == frame][0]]
    assert made == pytest.approx(box + np.array([0.2 * width, 0, 0.2 * width, -0.1 * height]), abs=0.5)
    qtbot.keyClick(field, Qt.Key.Key_Right)
    qtbot.waitUntil(lambda: session.frame == frame + 1, timeout=WAIT)  # and are the frame's again


def test_one_that_nothing_found_is_drawn_named_and_classed(opened, qtbot, monkeypatch):
    session, field = opened.session, opened.field
    settled(opened, qtbot)
    known = set(session.tracks.identity.tolist())
    opened.playback.go(20)
    qtbot.waitUntil(lambda: field.drawn_frame == 20, timeout=WAIT)
    press(opened, qtbot, "B", CTRL)
    start, end = field.view.to_widget(300, 200).toPoint(), field.view.to_widget(340, 240).toPoint()
    for frame, shift in ((20, 0), (40, 30)):
        opened.playback.go(frame)
        qtbot.waitUntil(lambda frame=frame: field.drawn_frame == frame, timeout=WAIT)
        press(opened, qtbot, "B", CTRL)
        qtbot.mousePress(field, LEFT, pos=start + QPoint(shift, 0))
        qtbot.mouseMove(field, end + QPoint(shift, 0))
        qtbot.mouseRelease(field, LEFT, pos=end + QPoint(shift, 0))
        settled(opened, qtbot)
        (mine,) = set(session.tracks.identity.tolist()) - known
        session.select(mine)
    path = session.tracks.path_of(mine)
    assert session.tracks.frame[path].tolist() == list(range(20, 41))  # straight from one box to the other
    assert session.tracks.box[path[0]] == pytest.approx([300, 200, 340, 240], abs=2.0)
    monkeypatch.setattr("drover.app.hands.QInputDialog.getText", lambda *_: ("Old one", True))
    monkeypatch.setattr("drover.app.hands.QInputDialog.getItem", lambda *_: ("gate post", True))
    press(opened, qtbot, "M", CTRL)
    settled(opened, qtbot)
    press(opened, qtbot, "K", CTRL)
    settled(opened, qtbot)
    assert session.names == {mine: "Old one"}
    field.picture()  # with the name on its plate
    assert session.tracks.class_names[session.tracks.class_of_identity[mine]] == "gate post"
    assert "Old one" in opened.lanes.words_over(next(lane for lane in opened.lanes.lanes if lane.identity == mine))


def test_what_cannot_be_done_is_said_and_changes_nothing(opened, qtbot):
    session, told = opened.session, []
    settled(opened, qtbot)
    session.message_raised.connect(told.append)
    session.select(None)
    for key in ("S", "J", "T", "D", "G"):
        press(opened, qtbot, key)
    assert len(told) == 5
    assert all("choose" in words for words in told)
    assert session.edits == ()
    opened.banner.hide()
    session.message_raised.disconnect(told.append)


def test_a_correction_that_fits_no_more_is_listed(opened, qtbot):
    session = opened.session
    settled(opened, qtbot)
    nowhere = Edit(kind="drop", at=1.0, places=(Place(time=1.0, box=(0.9, 0.9, 0.95, 0.95)),) * 2)
    session.correct((nowhere,), "drop what is not there")
    settled(opened, qtbot)
    opened.hands.show_review()
    panel = opened.dials.review
    qtbot.waitUntil(lambda: "1 fit no more" in panel.lists.tabText(1), timeout=WAIT)
    assert "fits no more, nothing is at its place" in panel.edits.item(0).text()
    panel.edits.setCurrentRow(0)
    panel.edits.setFocus()
    qtbot.keyClick(panel.edits, Qt.Key.Key_Delete)
    assert session.edits == ()


@pytest.mark.own_window
def test_a_careful_person_puts_broken_tracks_right_and_it_holds(opened, qtbot, tmp_path):
    """Linked badly on purpose; then another gate, saving, opening again and undoing leave the corrections in force."""
    session = opened.session
    truth, count = session.truth, session.recipe.score
    recipe = session.recipe
    badly = {"after.join": False, "life.longest_gap": 0.1, "life.return_within": 0.0, "life.hits_to_confirm": 3}
    for name, value in (badly | {"match.farthest": 0.12}).items():
        recipe = with_value(recipe, f"track.{name}", value)
    session.edit(recipe, "link badly")
    settled(opened, qtbot)
    before = score_result(session.tracks, truth, count).identity.idf1
    broken = len(np.unique(session.tracks.identity))
    person = Careful(opened, truth, lambda ready: qtbot.waitUntil(ready, timeout=WAIT))
    person.review(60)
    settled(opened, qtbot)
    after = score_result(session.tracks, truth, count).identity.idf1
    assert "join" in person.answers
    assert after > before + 0.02
    assert len(np.unique(session.tracks.identity)) < broken
    assert len(missing_stretches(session.tracks, truth)) <= 2
    opened.reviewer.paint((int(session.tracks.identity[0]),), "#123456")
    settled(opened, qtbot)
    edits = session.edits
    session.edit(with_value(session.recipe, "track.match.gate", 8.5), "gate")
    settled(opened, qtbot)
    assert score_result(session.tracks, truth, count).identity.idf1 > after - 0.02
    misfits = [note for note in session.edit_notes if not note.fits]
    assert len(misfits) <= 2  # a sliver that is not linked at all with that gate; it is told, and comes back with it
    assert all(note.words for note in misfits)
    session.undo.undo()
    settled(opened, qtbot)
    assert all(note.fits for note in session.edit_notes)
    path = tmp_path / "reviewed.drover"
    session.view.hide((2, 3, 5))
    opened.save_as(path)
    qtbot.waitUntil(lambda: opened.saving.path == path and not opened.saving.busy, timeout=WAIT)
    kept = read_project(path)[0]
    assert kept.edits == edits
    assert np.array_equal(kept.latest.tracks.identity, session.tracks.identity)
    opened.open_path(path)
    qtbot.waitUntil(lambda: session.document.edits == edits, timeout=WAIT)
    settled(opened, qtbot)
    assert session.view.hidden == {2, 3, 5}
    assert identity_colour(int(session.tracks.identity[0])) == "#123456"
    assert score_result(session.tracks, truth, count).identity.idf1 == pytest.approx(after)
    opened.reviewer.save_as_truth()
    assert len(session.truth) == len(session.tracks)


# --- the filter bench, links and lanes ------------------------------------------------------------------------


def test_the_filter_bench_shows_the_cores_figures_and_takes_over(opened, qtbot):
    session = opened.session
    settled(opened, qtbot)
    paths = session.tracks.paths
    who = int(paths.identity[np.argmax(np.diff(paths.start))])
    session.select(who)
    press(opened, qtbot, "J", CTRL)
    bench = opened.hands.bench
    assert bench is not None and bench.identity == who
    measured = measured_of(session.tracks, session.linked_detections, session.clip.times, who)
    made = ride(measured, bench.motion)
    np.testing.assert_array_equal(bench.made.filtered, made.filtered)
    calm = bench.made.filtered
    bench.push.setValue(bench.push.value() + 60)
    assert not np.array_equal(bench.made.filtered, calm)
    np.testing.assert_array_equal(bench.made.filtered, ride(measured, bench.motion).filtered)
    inside = int(measured.frame[len(measured) // 2])
    opened.playback.go(inside)
    assert opened.field.ahead.shape == (bench.frames.value(), 4)
    bench.fault.setCurrentText("no detections")
    assert bench.plots.span.isVisible()
    assert np.isfinite(bench.made.off[:, 0]).sum() < np.isfinite(made.off[:, 0]).sum()
    qtbot.waitUntil(lambda: bench._trade is not None, timeout=WAIT)
    bench.best.click()
    wanted = bench._trade.jumpiness[bench._trade.best]
    assert bench.jumpiness == pytest.approx(wanted, rel=0.03)
    bench.take.click()
    assert session.recipe.track.motion.jumpiness == pytest.approx(bench.jumpiness, abs=0.001)
    settled(opened, qtbot)
    bench.close()
    assert opened.field.ahead is None


def test_the_table_of_links_says_what_each_pair_would_have_cost(opened, qtbot):
    session = opened.session
    settled(opened, qtbot)
    rows = session.tracks.rows_of(60)
    who = int(session.tracks.identity[rows][0])
    opened.playback.go(60)
    session.select(who)
    press(opened, qtbot, "L", CTRL)
    (table,) = opened.findChildren(LinkTable)
    qtbot.waitUntil(lambda: table.table.rowCount() > 0, timeout=WAIT)
    note = opened.notes.of(who)
    chosen = next(one for one in note.candidates if one.chosen)
    assert table.table.item(0, table.rows.index(chosen.row)).text() == f"{chosen.cost:.2f}"
    assert "taken" in table.pair.text() and "distance" in table.pair.text()
    assert "Gates" in opened.field.shown
    table.close()
    opened.chips.chips["Gates"].click()


def test_lanes_zoom_choose_hide_and_colour(opened, qtbot):
    session, lanes = opened.session, opened.lanes
    settled(opened, qtbot)
    shown, under = len(lanes.lanes), lanes.frame_at(400)
    wheel(lanes, QPoint(400, 60), 3, CTRL)
    assert lanes.axis.zoomed and lanes.time_bar.isVisible()
    assert abs(lanes.frame_at(400) - under) <= 1  # what is under the mouse stays
    high = lanes.lane_height
    wheel(lanes, QPoint(400, 60), 1, CTRL | Qt.KeyboardModifier.ShiftModifier)
    assert lanes.lane_height > high
    lanes.show_whole()
    lanes.set_lane_height(high)
    one, other = lanes.lanes[0].identity, lanes.lanes[1].identity
    middle = [30 + k * high + high // 2 for k in range(2)]
    qtbot.mouseClick(lanes, LEFT, pos=QPoint(20, middle[0]))
    qtbot.mouseClick(lanes, LEFT, CTRL, pos=QPoint(20, middle[1]))
    assert session.view.chosen == (one, other)
    session.view.hide((one,))
    assert one not in {lane.identity for lane in lanes.lanes}
    assert one not in opened.field._only_shown().identity
    session.view.show_only((one,))
    assert [lane.identity for lane in lanes.lanes] == [one]
    session.view.show_all()
    assert len(lanes.lanes) == shown
    qtbot.keyClick(lanes, Qt.Key.Key_Down)
    assert session.selected == lanes.lanes[1].identity
    own, tint = identity_colour(one), "#123456"
    assert own != tint
    lanes.colour_wanted.emit((one,), tint)
    settled(opened, qtbot)
    assert identity_colour(one) == tint  # wherever it is shown
    session.undo.undo()
    settled(opened, qtbot)
    assert identity_colour(one) == own
    for order in ("by class", "by line", "by zone"):
        lanes.set_order(order)
        assert len(lanes.lanes) == shown
    for strip in ("confidence", "speed", "none"):
        lanes.set_strip(strip)
        lanes.repaint()
    lanes.set_order("trouble")
    session.set_span((50, 100))
    opened.hands.loop_span()
    assert opened.playback.loop == (50, 99)
    opened.playback.pause()


def test_a_kept_result_says_what_came_of_its_corrections(opened, qtbot):
    """What is brought back from a file has no notes; they are worked out, not left out."""
    session, engine = opened.session, opened.session.engine
    settled(opened, qtbot)
    session.select(int(session.tracks.identity[0]))
    press(opened, qtbot, "D")
    settled(opened, qtbot)
    engine.edited = Edited(engine.edited.tracks, None)
    engine._known.clear()
    engine.bring_up_to_date()
    settled(opened, qtbot)
    assert session.edit_notes[0].fits
