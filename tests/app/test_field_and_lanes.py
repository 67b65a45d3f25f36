"""The field and the lanes under the hand: zoom, pan, choice, menu and overlays, judged by what is painted."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QHelpEvent, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QInputDialog, QMenu

from drover.app.field.context_menu import context_menu
from drover.app.lanes.menu import lanes_menu
from drover.app.lanes.rows import Lane, make_lanes, sort_lanes
from drover.app.theme import IDENTITY_COLOURS, identity_colour
from drover.core.types import TrackState
from windows import wheel

LEFT, MIDDLE, RIGHT = Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton, Qt.MouseButton.RightButton
NONE = Qt.KeyboardModifier.NoModifier


def painted(widget) -> np.ndarray:
    """(height, width, 3) uint8 of what a widget shows."""
    image = widget.grab().toImage().convertToFormat(QImage.Format.Format_RGB888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).copy()


def row_seen(window, frame: int) -> int:
    """A row of the frame that was seen and lies under no other."""
    tracks = window.session.tracks
    rows = tracks.rows_of(frame)
    box = tracks.box[rows]
    middle = (box[:, :2] + box[:, 2:]) / 2
    for k in range(len(box)):
        inside = ((box[:, :2] <= middle[k]) & (middle[k] <= box[:, 2:])).all(axis=1)
        if inside.sum() == 1 and tracks.state[rows.start + k] == TrackState.CONFIRMED:
            return rows.start + k
    raise AssertionError("nobody stands free")


def middle_of(window, row: int) -> QPoint:
    x1, y1, x2, y2 = window.session.tracks.box[row].tolist()
    return window.field.view.to_widget((x1 + x2) / 2, (y1 + y2) / 2).toPoint()


def go(window, qtbot, frame: int) -> None:
    window.playback.go(frame)
    qtbot.waitUntil(lambda: window.pictures.frame is not None and window.pictures.frame.frame == frame)


# --- the view ---------------------------------------------------------------------------------------------------


def test_the_wheel_zooms_about_the_mouse_and_a_double_click_fits_again(opened):
    field, at = opened.field, QPoint(200, 120)
    fixed, before = field.view.to_picture(QPointF(at)), field.view.scale
    wheel(field, at, 3)
    assert field.view.scale == pytest.approx(before * 1.2**3)
    assert (field.view.to_picture(QPointF(at)) - fixed).manhattanLength() < 0.5
    wheel(field, at, 100)
    assert field.view.zoom == 40.0
    wheel(field, at, -200)
    assert field.view.zoom == 1.0
    wheel(field, at, 2)
    QTest.mouseDClick(field, LEFT, pos=QPoint(60, 60))
    assert field.view.zoom == 1.0 and (field.view.centre_x, field.view.centre_y) == (0.5, 0.5)


def test_a_zoomed_picture_is_panned_by_dragging_and_never_leaves_the_view(opened, qtbot):
    field = opened.field
    wheel(field, QPoint(300, 200), 6)
    there = field.view.to_picture(QPointF(300, 200))
    qtbot.mousePress(field, MIDDLE, pos=QPoint(300, 200))
    for x in (290, 280, 270):
        qtbot.mouseMove(field, QPoint(x, 190))
    qtbot.mouseRelease(field, MIDDLE, pos=QPoint(270, 190))
    assert (field.view.to_widget(there.x(), there.y()) - QPointF(270, 190)).manhattanLength() < 1.0
    for _ in range(12):
        qtbot.mousePress(field, MIDDLE, pos=QPoint(10, 10))
        qtbot.mouseMove(field, QPoint(600, 400))
        qtbot.mouseRelease(field, MIDDLE, pos=QPoint(600, 400))
    assert 0.0 <= field.view.centre_x <= 1.0 and 0.0 <= field.view.centre_y <= 1.0
    assert opened.session.undo.count() == 0  # looking is no edit


def test_both_halves_of_a_split_field_move_in_step_and_only_one_is_switched(opened, qtbot):
    opened.split_action.trigger()
    left, right = opened.pair.left, opened.pair.right
    assert opened.pair.split and opened.pair.active is right
    wheel(left, QPoint(100, 100), 4)
    assert right.view.zoom == left.view.zoom > 1.0
    assert right.view.centre_x == pytest.approx(left.view.centre_x)
    had = set(left.shown)
    opened.chips.chips["Detections"].click()
    assert "Detections" in right.shown and left.shown == had
    assert right.caption == "Difference" and left.caption == "Picture"
    qtbot.mouseClick(left, LEFT, pos=QPoint(5, 5))
    assert opened.pair.active is left and not opened.chips.chips["Detections"].isChecked()
    qtbot.mouseClick(right, LEFT, pos=QPoint(5, 5))
    opened.chips.chips["Detections"].click()
    opened.split_action.trigger()
    assert not opened.pair.split


# --- choosing, and what is drawn ----------------------------------------------------------------------------------


def test_a_click_chooses_who_is_under_it_and_one_on_the_ground_nobody(opened, qtbot):
    go(opened, qtbot, 120)
    row = row_seen(opened, 120)
    qtbot.mouseClick(opened.field, LEFT, pos=middle_of(opened, row))
    assert opened.session.selected == opened.session.tracks.identity[row]
    tracks = opened.session.tracks
    box = tracks.box[tracks.rows_of(120)]
    empty = next(
        (x, y) for x in range(20, 620, 15) for y in range(20, 340, 15)
        if not ((box[:, 0] - 8 < x) & (x < box[:, 2] + 8) & (box[:, 1] - 8 < y) & (y < box[:, 3] + 8)).any()
        and opened.field.editor.line_at(opened.field.view.to_widget(x, y), opened.field.view) is None
    )  # fmt: skip
    qtbot.mouseClick(opened.field, LEFT, pos=opened.field.view.to_widget(*empty).toPoint())
    assert opened.session.selected is None


def test_every_overlay_is_painted_where_it_belongs_and_gone_when_switched_off(opened, qtbot):
    go(opened, qtbot, 120)
    field = opened.field
    for name in list(field.shown):
        opened.chips.chips[name].click()
    bare = painted(field)
    tracks, found = opened.session.tracks, opened.session.detect.detections
    for name, box in (
        ("Outlines", tracks.box[tracks.rows_of(120)]), ("Detections", found.box[found.rows_of(120)]),
        ("Truth", opened.session.truth.box[opened.session.truth.rows_of(120)]), ("Mask", found.box[found.rows_of(120)]),
        ("Numbers", None), ("Trails", None), ("Forecast", None),
    ):  # fmt: skip
        opened.chips.chips[name].click()
        changed = (painted(field) != bare).any(axis=2)
        assert changed.any(), name
        if box is not None:
            allowed = np.zeros(changed.shape, np.bool_)
            for x1, y1, x2, y2 in box.tolist():
                a, b = field.view.to_widget(x1, y1), field.view.to_widget(x2, y2)
                allowed[max(0, int(a.y()) - 4) : int(b.y()) + 6, max(0, int(a.x()) - 4) : int(b.x()) + 6] = True
                assert changed[int(a.y()) - 4 : int(b.y()) + 6, int(a.x()) - 4 : int(b.x()) + 6].any(), name
            assert not (changed & ~allowed).any(), name
        opened.chips.chips[name].click()
        assert np.array_equal(painted(field), bare), name
    for name in ("Outlines", "Numbers", "Trails", "Forecast"):
        opened.chips.chips[name].click()


def test_an_object_is_drawn_in_the_colour_of_its_identity(opened, qtbot):
    go(opened, qtbot, 120)
    row = row_seen(opened, 120)
    identity = int(opened.session.tracks.identity[row])
    wanted = np.array(QColor(identity_colour(identity)).getRgb()[:3])
    for name in ("Numbers", "Trails", "Forecast"):
        opened.chips.chips[name].click()
    x1, y1, x2, y2 = opened.session.tracks.box[row].tolist()
    a, b = opened.field.view.to_widget(x1, y1), opened.field.view.to_widget(x2, y2)
    part = painted(opened.field)[int(a.y()) : int(b.y()) + 3, int(a.x()) : int(b.x()) + 3].astype(int)
    assert (np.abs(part - wanted).sum(axis=2) < 90).sum() >= 8
    for name in ("Numbers", "Trails", "Forecast"):
        opened.chips.chips[name].click()


def test_the_maps_of_the_whole_clip_are_kept_until_the_tracks_change(opened, qtbot):
    go(opened, qtbot, 120)
    bare = painted(opened.field)
    for name, action in opened.chips.ways.items():
        if name == "Path of the chosen":
            opened.session.select(int(opened.session.tracks.paths.identity[0]))
            bare = painted(opened.field)
        action.trigger()
        assert (painted(opened.field) != bare).any(), name
        action.trigger()
        # Drawn anew or kept from before: the same but for the rounding of what shines through.
        assert np.abs(painted(opened.field).astype(int) - bare).max() <= 3, name
        assert np.array_equal(painted(opened.field), painted(opened.field)), name


def test_the_picture_to_save_has_the_size_of_the_footage_and_all_that_is_shown(opened, qtbot):
    go(opened, qtbot, 120)
    wheel(opened.field, QPoint(300, 200), 5)
    view = opened.field.view
    picture = opened.field.picture()
    assert (picture.width(), picture.height()) == (640, 360)
    assert opened.field.view == view
    shown = set(opened.field.shown)
    for name in shown:
        opened.field.toggle(name, False)
    assert opened.field.picture() != picture
    for name in shown:
        opened.field.toggle(name, True)
    assert opened.field.picture() == picture


# --- the menu and what is drawn with it -----------------------------------------------------------------------------


def offered(menu: QMenu) -> dict:
    return {action.text(): action for action in menu.actions() if action.text()}


def test_the_menu_offers_what_can_be_done_there(opened):
    field, session = opened.field, opened.session
    (x0, y0), (x1, y1) = session.recipe.count.line[0].points
    on_line = QPointF(field.view.to_widget((0.7 * x0 + 0.3 * x1) * 640, (0.7 * y0 + 0.3 * y1) * 360))
    offers = offered(context_menu(field, on_line))
    assert {"Reverse direction", "Copy line", "Remove line"} <= offers.keys()
    offers["Copy line"].trigger()
    assert [line.name for line in session.recipe.count.line] == ["Gap", "Gap 2"]
    assert session.undo.undoText() == "copy line 'Gap'"
    session.undo.undo()
    offers = offered(context_menu(field, on_line))
    offers["Remove line"].trigger()
    assert session.recipe.count.line == ()
    session.undo.undo()
    plain = offered(context_menu(field, QPointF(field.view.to_widget(30, 30))))
    assert not {"Reverse direction", "Remove zone", "Remove this area"} & plain.keys()
    assert f"Draw one {session.recipe.words.one} near" in plain


def test_zones_and_areas_are_drawn_copied_and_removed_through_the_menu(opened, qtbot):
    field, session = opened.field, opened.session
    corners = [(0.1, 0.1), (0.3, 0.1), (0.3, 0.4), (0.1, 0.4)]

    def draw(words: str) -> None:
        offered(context_menu(field, QPointF(field.view.to_widget(600, 20))))[words].trigger()
        for x, y in corners:
            qtbot.mouseClick(field, LEFT, pos=field.view.to_widget(x * 640, y * 360).toPoint())
        qtbot.keyClick(field, Qt.Key.Key_Return)

    inside = QPointF(field.view.to_widget(0.2 * 640, 0.25 * 360))
    draw("Draw a zone")
    assert len(session.recipe.count.zone) == 1
    offered(context_menu(field, inside))["Copy zone"].trigger()
    assert [zone.name for zone in session.recipe.count.zone] == ["Zone 1", "Zone 2"]
    session.undo.undo()
    offered(context_menu(field, inside))["Remove zone"].trigger()
    assert session.recipe.count.zone == ()
    draw("Draw an exit")
    assert np.ravel(session.recipe.track.life.exits) == pytest.approx(np.ravel(corners), abs=0.004)
    offered(context_menu(field, inside))["Remove this area"].trigger()
    assert session.recipe.track.life.exits == ()
    draw("Count only inside an area")
    assert len(session.recipe.detect.where.include) == 1


def test_escape_gives_up_whatever_is_being_drawn(opened, qtbot):
    field, session = opened.field, opened.session
    before = session.recipe
    for begin in (field.start_line, lambda: field.start_area("zone"), lambda: field.start_box("near")):
        begin()
        assert field.cursor().shape() == Qt.CursorShape.CrossCursor
        qtbot.keyClick(field, Qt.Key.Key_Escape)
        assert field.cursor().shape() == Qt.CursorShape.ArrowCursor
        qtbot.mouseClick(field, LEFT, pos=QPoint(40, 40))
    assert session.recipe == before and session.undo.count() == 0


def test_a_box_dragged_beyond_the_picture_is_held_inside_it(opened, qtbot):
    field, session = opened.field, opened.session
    field.start_box("near")
    start, end = field.view.to_widget(500, 200).toPoint(), QPoint(field.width() - 1, field.height() - 1)
    qtbot.mousePress(field, LEFT, pos=start)
    qtbot.mouseMove(field, end)
    qtbot.mouseRelease(field, LEFT, pos=end)
    box = session.recipe.detect.size.near_box
    assert box is not None and box[2] == 1.0 and box[3] == 1.0
    assert box[0] == pytest.approx(500 / 640, abs=0.004)
    assert session.undo.undoText() == f"draw the near {session.recipe.words.one}"


# --- lanes ------------------------------------------------------------------------------------------------------


def test_lanes_hold_every_row_of_every_identity_and_its_crossings(opened):
    session = opened.session
    lanes = make_lanes(session.tracks, session.crossings)
    frames = {lane.identity: sum(b - a for a, b in (*lane.seen, *lane.coasted)) for lane in lanes}
    counted = dict(zip(*np.unique(session.tracks.identity, return_counts=True), strict=True))
    assert frames == {int(k): int(v) for k, v in counted.items()}
    assert sum(len(lane.crossings) for lane in lanes) == len(session.crossings)


def _parts(*parts: tuple[int, int]) -> np.ndarray:
    return np.array(parts, np.int64).reshape(-1, 2)


def test_the_orders_of_lanes_are_what_they_say():
    lanes = [
        Lane(1, 0, 50, _parts((0, 51)), _parts(), ((1.5, 1),)),
        Lane(2, 10, 90, _parts((10, 40), (60, 91)), _parts((40, 60)), (), "ewe"),
        Lane(3, 5, 20, _parts((5, 21)), _parts(), ((0.5, -1),), "dog"),
    ]
    order = {
        name: [lane.identity for lane in sort_lanes(lanes, name)] for name in ("trouble", "birth", "line", "length")
    }
    assert order == {"trouble": [2, 1, 3], "birth": [1, 3, 2], "line": [3, 1, 2], "length": [2, 1, 3]}
    assert [lane.identity for lane in sort_lanes(lanes, "by class")] == [3, 2, 1]  # who has none comes last


def test_a_click_on_a_lanes_head_goes_to_its_birth_and_a_drag_scrubs(opened, qtbot):
    lanes = opened.lanes
    lane = lanes.lanes[1]
    y = 30 + 17 + 8
    qtbot.mouseClick(lanes, LEFT, pos=QPoint(20, y))
    assert (opened.session.selected, opened.session.frame) == (lane.identity, lane.first)
    qtbot.mousePress(lanes, LEFT, pos=QPoint(round(lanes.x_of(40)), 10))
    for frame in (60, 100, 140):
        qtbot.mouseMove(lanes, QPoint(round(lanes.x_of(frame)), 10))
        assert abs(opened.session.frame - frame) <= 1
    qtbot.mouseRelease(lanes, LEFT, pos=QPoint(round(lanes.x_of(140)), 10))
    qtbot.mouseMove(lanes, QPoint(round(lanes.x_of(10)), 10))
    assert abs(opened.session.frame - 140) <= 1


def test_a_lane_is_painted_along_its_life_in_the_colour_of_its_identity(opened):
    lanes = opened.lanes
    place, lane = next((k, lane) for k, lane in enumerate(lanes.lanes[:6]) if lane.last < 240 or lane.first > 10)
    picture = painted(lanes).astype(int)
    tint = np.array(QColor(identity_colour(lane.identity)).getRgb()[:3])
    line = picture[30 + place * 17 - lanes.bar.value() + 8]
    like = np.abs(line - tint).sum(axis=1) < 60
    alive = np.zeros(len(like), np.bool_)
    for a, b in lane.seen:
        alive[round(lanes.x_of(a)) : round(lanes.x_of(b)) + 1] = True
    body = np.arange(len(like)) > 112
    assert like[alive].mean() > 0.6
    assert like[body & ~alive].mean() < 0.1


def test_the_words_over_a_lane_tell_its_life(opened):
    lanes = opened.lanes
    lane = next(lane for lane in lanes.lanes if lane.crossings)
    words = lanes.words_over(lane)
    assert f"identity {lane.identity}" in words
    time, way = lane.crossings[0]
    assert f"crossed {'forward' if way > 0 else 'back'} at {time:.2f} s" in words


# --- the lanes' menu and card -------------------------------------------------------------------------------------


def choose(lanes, words: str, identity: int | None) -> None:
    """What the right button offers over a lane, chosen by its words; also in the menus within."""
    menu = lanes_menu(lanes, identity)
    offered = {one.text(): one for within in (menu, *menu.findChildren(QMenu)) for one in within.actions()}
    assert words in offered, sorted(offered)
    offered[words].trigger()
    menu.deleteLater()


def test_the_lanes_menu_hides_colours_names_and_works_on_the_span(opened, qtbot, monkeypatch):
    session, lanes = opened.session, opened.lanes
    one, other = (lane.identity for lane in lanes.lanes[:2])
    shown = len(lanes.lanes)
    choose(lanes, f"Hide identity {one}", one)
    assert one not in {lane.identity for lane in lanes.lanes} and len(lanes.lanes) == shown - 1
    choose(lanes, "Show all", None)
    session.view.select(one, other)
    choose(lanes, "Show only 2 identities", one)
    assert {lane.identity for lane in lanes.lanes} == {one, other}
    choose(lanes, "Show all", one)
    assert len(lanes.lanes) == shown
    session.view.select(other)
    own = identity_colour(one)
    choose(lanes, "colour 3", one)
    qtbot.waitUntil(lambda: identity_colour(one) == IDENTITY_COLOURS[2])
    choose(lanes, "Its own", one)
    qtbot.waitUntil(lambda: identity_colour(one) == own)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Bramble", True))
    choose(lanes, "Name…", one)
    qtbot.waitUntil(lambda: session.names.get(one) == "Bramble")
    lane = next(lane for lane in lanes.lanes if lane.identity == one)
    assert "Bramble" in lanes.words_over(lane).splitlines()[0]

    lanes.span_wanted.emit((40, 120))
    qtbot.waitUntil(lambda: session.span == (40, 120))
    choose(lanes, "Work on the whole clip", None)
    qtbot.waitUntil(lambda: session.span is None)
    lanes.zoom(4.0)
    assert lanes.axis.zoomed
    choose(lanes, "Show the whole time", None)
    assert not lanes.axis.zoomed


def test_a_lane_shows_who_it_is_while_the_mouse_rests_on_it(opened, qtbot):
    lanes = opened.lanes
    lane = lanes.lanes[1]
    high = lanes.lane_height
    place = QPoint(round(lanes.x_of((lane.first + lane.last) / 2)), 30 + high + high // 2)
    QApplication.sendEvent(lanes, QHelpEvent(QEvent.Type.ToolTip, place, lanes.mapToGlobal(place)))
    assert lanes.card.isVisible()
    assert lanes.card.words.text().startswith(f"identity {lane.identity}")
    qtbot.waitUntil(lambda: not lanes.card.picture.pixmap().isNull())
    picture = lanes.card.picture.pixmap().toImage()
    assert len({picture.pixel(x, y) for x in range(0, 112, 8) for y in range(0, 84, 8)}) > 20  # a piece of the clip
    QTest.mouseMove(lanes, place + QPoint(30, 0))
    qtbot.waitUntil(lambda: not lanes.card.isVisible())
