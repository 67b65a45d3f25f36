"""Track's tools in the window: moments walked through by key, why a link was made, gates on the field."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt

from drover.app import known_results
from drover.app.session import STAGES
from drover.core.examples import example
from drover.core.recipe import AUTO, with_value
from drover.core.setting_info import value_below
from drover.core.track import flood
from drover.core.track.exits import learn_exits
from windows import WAIT, up_to_date

LEFT = Qt.MouseButton.LeftButton


def test_n_walks_through_the_moments_in_order_of_doubt(opened, qtbot):
    session = opened.session
    qtbot.waitUntil(lambda: len(opened.watch.found) > 1, timeout=WAIT)
    for place in range(2):
        qtbot.keyClick(opened, Qt.Key.Key_N)
        moment = opened.watch.found[place]
        first, last = opened.playback.loop
        assert first <= moment.frame <= last and first <= session.frame <= last
        assert session.selected == moment.identities[0]
        qtbot.waitUntil(lambda m=moment: m.words in opened.status.words.text(), timeout=WAIT)
    qtbot.keyClick(opened, Qt.Key.Key_N, Qt.KeyboardModifier.ShiftModifier)
    assert opened.reviewer.current == opened.watch.found[0]
    scores = [moment.doubt for moment in opened.watch.found]
    assert scores == sorted(scores, reverse=True)


def test_the_list_of_moments_leads_there(opened, qtbot):
    opened.strip.choose("track")
    page = opened.dials.track
    qtbot.waitUntil(lambda: page.moments.count() == min(40, len(opened.watch.found)) > 0, timeout=WAIT)
    last = page.moments.count() - 1
    page.moments.itemClicked.emit(page.moments.item(last))
    assert opened.session.frame == opened.watch.found[last].frame


def test_a_click_on_an_animal_says_why_it_was_linked(opened, qtbot):
    opened.strip.choose("track")
    opened.playback.go(120)
    tracks = opened.session.tracks
    qtbot.waitUntil(lambda: opened.field.drawn_frame == 120, timeout=WAIT)
    row = tracks.rows_of(120).start
    x1, y1, x2, y2 = map(float, tracks.box[row])
    at = opened.field.view.to_widget((x1 + x2) / 2, (y1 + y2) / 2).toPoint()
    qtbot.mouseClick(opened.field, LEFT, pos=at)
    chosen = opened.session.selected
    assert chosen is not None
    qtbot.waitUntil(lambda: opened.dials.track.why.text().startswith(f"{chosen} "), timeout=WAIT)
    assert "cost" in opened.dials.track.why.text()
    opened.chips.chips["Gates"].click()
    qtbot.waitUntil(lambda: opened.notes.frame == 120, timeout=WAIT)
    assert any(note.identity == chosen and min(note.gate) > 0 for note in opened.notes.notes)


def test_switching_off_the_sharing_of_blobs_links_again_and_undo_brings_it_back(opened, qtbot):
    before = opened.session.tracks
    box = opened.dials.track.choices["track.blobs.share"].box
    box.setCurrentIndex(box.findData("False"))
    qtbot.waitUntil(lambda: up_to_date(opened, stages=STAGES), timeout=WAIT)
    assert opened.session.recipe.track.blobs.share is False
    assert opened.session.tracks is not before
    opened.session.undo.undo()
    qtbot.waitUntil(lambda: up_to_date(opened, stages=STAGES), timeout=WAIT)
    assert opened.session.tracks.box.tobytes() == before.box.tobytes()


def test_rings_in_the_lanes_tell_what_they_are_about(opened, qtbot):
    qtbot.waitUntil(lambda: len(opened.watch.found) > 0, timeout=WAIT)
    identity = opened.watch.found[0].identities[0]
    lane = next(lane for lane in opened.lanes.lanes if lane.identity == identity)
    assert "worth a look at" in opened.lanes.words_over(lane)
    assert opened.lanes.lane_at(QPoint(200, 40).y()) is not None


@pytest.mark.own_window
def test_opening_another_clip_forgets_moments_and_notes_of_the_one_before(opened, qtbot):
    """Ranking waits a moment; what it was about must not land on the clip opened meanwhile."""
    session = opened.session
    qtbot.waitUntil(lambda: len(opened.watch.found) > 0, timeout=WAIT)
    opened.notes.frame = session.frame
    session.crossings_changed.emit()
    seen = []
    session.clip_changed.connect(lambda: seen.append((opened.watch.found, opened.watch.waiting)))
    opened.open_path(example("gap-short").clip)
    qtbot.waitUntil(lambda: bool(seen), timeout=WAIT)
    assert (len(seen[0][0]), seen[0][1]) == (0, False)
    assert opened.notes.notes == () and opened.notes.frame == -1
    assert opened.dials.track.moments.count() == 0


def test_the_innovation_check_is_plotted_and_a_click_in_it_goes_there(opened, qtbot):
    opened.strip.choose("track")
    noise = opened.dials.track.noise
    qtbot.waitUntil(lambda: "innovation check" in noise.words.text(), timeout=WAIT)
    noise.plot.scene().prepareForPaint()
    view = noise.plot.getViewBox()
    at = noise.plot.mapFromScene(view.mapViewToScene(QPointF(4.0, 0.0)))
    qtbot.mouseClick(noise.plot.viewport(), LEFT, pos=at)
    assert abs(float(opened.session.clip.times[opened.session.frame]) - 4.0) < 0.3


def test_an_exit_drawn_on_the_field_is_in_the_recipe_and_undone(opened, qtbot, tmp_path):
    opened.strip.choose("track")
    qtbot.mouseClick(opened.dials.track.exits.draw, LEFT)
    size = opened.session.clip.width, opened.session.clip.height
    corners = [(0.2, 0.2), (0.4, 0.2), (0.4, 0.5)]
    for x, y in corners:
        at = opened.field.view.to_widget(x * size[0], y * size[1]).toPoint()
        qtbot.mouseClick(opened.field, LEFT, pos=at)
    qtbot.keyClick(opened.field, Qt.Key.Key_Return)
    drawn = opened.session.recipe.track.life.exits
    assert len(drawn) == 1
    assert np.abs(np.array(drawn[0]) - corners).max() < 0.01
    assert opened.dials.track.exits.note.text() == "1 exit"
    qtbot.waitUntil(lambda: up_to_date(opened, stages=STAGES), timeout=WAIT)
    assert "exits" in opened.session.recipe_text
    opened.session.undo.undo()
    assert opened.session.recipe.track.life.exits == ()


def test_exits_are_learnt_and_forgotten_by_their_card(opened, qtbot):
    opened.strip.choose("track")
    card, session = opened.dials.track.exits, opened.session
    assert card.note.text() == "edge only" and not card.forget.isEnabled()
    learnt = learn_exits(session.tracks)
    qtbot.mouseClick(card.learn, LEFT)
    if not learnt:
        assert card.note.text().startswith("none to learn") and session.undo.count() == 0
    square = [[[0.2, 0.2], [0.4, 0.2], [0.4, 0.5]], [[0.6, 0.2], [0.8, 0.2], [0.8, 0.5]]]
    session.edit(with_value(session.recipe, "track.life.exits", square), "two exits")
    assert card.note.text() == "2 exits"
    qtbot.mouseClick(card.forget, LEFT)
    assert session.recipe.track.life.exits == () and card.note.text() == "edge only"
    session.undo.undo()
    assert len(session.recipe.track.life.exits) == 2


def test_the_turning_filter_and_looks_are_dials_that_link_again(opened, qtbot):
    before = opened.session.tracks
    box = opened.dials.track.choices["track.motion.model"].box
    box.setCurrentIndex(box.findData("turning"))
    opened.dials.track.rows["track.match.look_weight"].box.setValue(0.6)
    qtbot.waitUntil(lambda: up_to_date(opened, stages=STAGES), timeout=WAIT)
    assert opened.session.tracks is not before
    assert opened.session.track_settings.motion.model == "turning"
    assert opened.session.track_settings.match.look_weight == 0.6


def test_finished_tracks_that_are_known_still_say_what_they_were_linked_with(opened, qtbot, monkeypatch):
    """However many results are kept: none of a link is let go before what was made of it."""
    session = opened.session
    taken = session.track_taken
    for kept in range(6, 14):
        monkeypatch.setattr(known_results, "REMEMBERED", kept)
        session.edit(with_value(session.recipe, "track.match.gate", 5.0 + 0.1 * kept), "gate")
        qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
        session.undo.undo()
        qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
        assert session.track_taken == taken, kept


def test_a_flood_of_identities_is_told_over_the_dials(opened, monkeypatch):
    session, page = opened.session, opened.dials.track
    opened.strip.choose("track")
    assert "new ones a second" not in page.notice.text()
    for name, value in (("MANY", 2), ("A_SECOND", 0.0), ("SHORT", 1e9)):
        monkeypatch.setattr(flood, name, value)
    session.tracks_changed.emit()
    assert page.notice.isVisible() and f"{len(np.unique(session.tracks.identity))} identities" in page.notice.text()
    monkeypatch.undo()
    session.tracks_changed.emit()
    assert "new ones a second" not in page.notice.text()


@pytest.mark.parametrize(("name", "unit", "digits"), [("jumpiness", "px/frame²", 2), ("box_noise", "px", 1)])
def test_a_noise_on_auto_shows_what_was_taken_and_a_number_overrules_it(opened, qtbot, name, unit, digits):
    session, row = opened.session, opened.dials.track.rows[f"track.motion.{name}"]
    opened.strip.choose("track")
    taken = session.track_taken and getattr(session.track_taken.motion, name)
    assert getattr(session.recipe.track.motion, name) == AUTO and taken is not None and taken > 0
    qtbot.waitUntil(lambda: row.box.text() == f"{taken:.{digits}f} {unit}", timeout=WAIT)
    row.box.setValue(4.0)
    qtbot.waitUntil(lambda: getattr(session.recipe.track.motion, name) == 4.0, timeout=WAIT)
    qtbot.waitUntil(lambda: getattr(session.track_taken.motion, name) == 4.0, timeout=WAIT)
    assert not row.auto.isChecked()
    session.undo.undo()
    qtbot.waitUntil(lambda: getattr(session.track_taken.motion, name, None) == taken, timeout=WAIT)
    assert row.auto.isChecked()


@pytest.mark.parametrize("stage", ["detect", "track"])
def test_every_dial_on_auto_shows_what_was_taken_for_this_clip(opened, stage):
    opened.strip.choose(stage)
    page, session = getattr(opened.dials, stage), opened.session
    taken = session.detect.taken if stage == "detect" else session.track_taken
    rows = {path: row for path, row in page.rows.items() if row.box.info.auto}
    assert len(rows) >= 6
    for path, row in rows.items():
        value = value_below(taken, path.split(".", 1)[1])
        assert row.auto.isChecked() and value != AUTO, path
        assert row.box.text() == f"{row.box.textFromValue(value)}{row.box.suffix()}", path


def test_the_handle_on_the_evidence_stands_where_auto_put_it_and_overrules_it_when_dragged(opened, qtbot):
    session, plot = opened.session, opened.dials.track.gate
    opened.strip.choose("track")
    auto = session.track_taken.match.gate
    assert plot.handle.isVisible() and plot.handle.value() == auto
    assert plot.handle.label.toPlainText() == f"auto {auto:.1f} σ"
    plot.handle.setValue(auto - 2.0)
    plot.handle.sigDragged.emit(plot.handle)
    plot.handle.sigPositionChangeFinished.emit(plot.handle)
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
    assert session.recipe.track.match.gate == pytest.approx(auto - 2.0)
    assert plot.handle.label.toPlainText() == f"{auto - 2.0:.1f} σ"
    opened.dials.track.rows["track.match.gate"].auto.click()
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)
    assert session.recipe.track.match.gate == AUTO and plot.handle.value() == auto
