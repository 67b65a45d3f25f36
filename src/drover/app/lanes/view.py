"""The lanes: an overview of the clip, then one lane for every identity; click to go there."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QWheelEvent,
)

from drover.app.lanes.axis import TimeAxis
from drover.app.lanes.camera_marks import paint_camera
from drover.app.lanes.frame import LANE, RIGHT, LanesFrame
from drover.app.lanes.hover import LaneCard, words_of
from drover.app.lanes.menu import lanes_menu
from drover.app.lanes.painting import HEAD, OVERVIEW, LaneBrush, paint_overview, strip_of
from drover.app.lanes.rows import Lane, group_of, make_lanes, sort_lanes
from drover.app.moment_watch import MomentWatch
from drover.app.session import Session
from drover.app.theme import INK, MOSS, OCHRE, PAPER, STONE, colour
from drover.core.count.alarms import Alarm
from drover.core.doubt.moments import Moment

__all__ = ["LanesView"]

MOST_RINGS = 40
MOST_KNOWN = 1500  # things worked out for lanes in sight: what is kept of thousands would fill the memory
MOST_ALARMS = 400


class LanesView(LanesFrame):
    """Time runs left to right, over the whole clip or a part of it."""

    frame_wanted = Signal(int)
    span_wanted = Signal(object)
    loop_wanted = Signal()
    export_wanted = Signal()
    name_wanted = Signal(int)
    colour_wanted = Signal(object, str)

    def __init__(self, session: Session, watch: MomentWatch) -> None:
        super().__init__(session)
        self.watch = watch
        self.order, self.strip = "trouble", "none"
        self._all: list[Lane] = []
        self._made_of: tuple[object, ...] = ()
        self._made = 0
        self._known: dict[tuple[int, str], Any] = {}
        self._known_for: tuple[object, ...] = ()
        self._rings: dict[int, list[Moment]] = {}
        self._in_view = np.zeros(0, np.int64)
        self._scrubbing = False
        self._span_from: int | None = None
        self._still: tuple[object, QPixmap] | None = None
        self.card = LaneCard(session, self)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Lanes")
        self._later = QTimer(self)  # a result tells of its tracks, its crossings and its moments: one rebuild for all
        self._later.setSingleShot(True)
        self._later.setInterval(0)
        self._later.timeout.connect(self.rebuild)
        session.tracks_changed.connect(self.rebuild)
        session.crossings_changed.connect(self._later.start)
        session.clip_changed.connect(self._on_clip)
        watch.changed.connect(self._on_moments)
        session.frame_changed.connect(self._on_frame)
        session.span_changed.connect(self.update)
        session.view.shown_changed.connect(self._sort)

    def sizeHint(self) -> QSize:
        return QSize(800, OVERVIEW + 9 * LANE)

    def set_order(self, order: str) -> None:
        """Sort lanes another way."""
        self.order = order
        self._sort()

    def set_strip(self, strip: str) -> None:
        """Show another value along the lanes, or none."""
        self.strip = strip
        self._changed()

    # --- what is shown ----------------------------------------------------------------------------------------

    def rebuild(self) -> None:
        """Work the lanes out anew from the session's results, where these are others."""
        tracks, counted = self.session.tracks, self.session.counted
        made_of = tracks, self.session.crossings, None if counted is None else counted.visits
        if len(made_of) != len(self._made_of) or any(a is not b for a, b in zip(made_of, self._made_of, strict=True)):
            self._made_of, self._made = made_of, self._made + 1
            self._all = [] if tracks is None else make_lanes(*made_of)  # type: ignore[arg-type]
            self._in_view = np.zeros(0, np.int64) if tracks is None else np.diff(tracks.frame_start)
        self._sort()

    def _sort(self) -> None:
        view = self.session.view
        shown = self._all if view.all_shown else [lane for lane in self._all if view.shows(lane.identity)]
        self.lanes = sort_lanes(shown, self.order)
        self._fit_bars()
        self._changed()

    def _on_clip(self) -> None:
        clip = self.session.clip
        self.axis = TimeAxis.whole(HEAD, self.width() - HEAD - RIGHT, clip.frame_count if clip else 1)
        self.card.hide()
        self.rebuild()

    def _on_moments(self) -> None:
        self._rings = {}
        for moment in self.watch.found[:MOST_RINGS]:
            for who in moment.identities:
                self._rings.setdefault(who, []).append(moment)
        self._changed()

    def _on_frame(self, frame: int) -> None:
        moved = self.axis.showing(frame)
        if moved is not self.axis and not self._scrubbing:
            self._set_axis(moved)
        self.update()

    # --- painting ---------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.drawPixmap(0, 0, self._still_picture())
            if self.session.clip is not None:
                self._paint_span(painter)
                self._paint_playhead(painter)
            if self.hasFocus():
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(QColor(MOSS), 2))
                painter.drawRect(self.rect().adjusted(1, 1, -1, -1))

    def _still_picture(self) -> QPixmap:
        """Everything but the playhead, drawn again only when something in it has changed."""
        ratio = self.devicePixelRatioF()
        key = (self.size(), ratio, self.bar.value(), self.session.view.chosen, self._version)
        if self._still is None or self._still[0] != key:
            pixmap = QPixmap(self.size() * ratio)
            pixmap.setDevicePixelRatio(ratio)
            painter = QPainter(pixmap)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_still(painter)
            painter.end()
            self._still = (key, pixmap)
        return self._still[1]

    def _paint_still(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), QColor(PAPER))
        clip = self.session.clip
        if clip is None:
            return
        axis_of = self.axis, self._made
        if self._known_for != axis_of or len(self._known) > MOST_KNOWN:
            self._known_for, self._known = axis_of, {}
        brush = LaneBrush(
            painter,
            self.axis,
            clip,
            self.lane_height,
            self.width(),
            self.session.names,
            self._known,
        )
        painter.save()
        painter.setClipRect(QRectF(0, OVERVIEW, self.width(), self.height() - OVERVIEW))
        first = max(0, self.bar.value() // self.lane_height)
        past = min(len(self.lanes), first + (self.height() - OVERVIEW) // self.lane_height + 2)
        alarms = self._alarms()
        brush.prepare(self.lanes[first:past])
        for place in range(first, past):
            self._paint_lane(brush, place, alarms)
        painter.restore()
        words = f"{self.session.recipe.words.many} in view"
        paint_overview(painter, self.axis, self._in_view, self.width(), words)
        for some in alarms.values():
            for alarm in some:
                brush.alarm(alarm.frame, OVERVIEW - 5)
        motion = self.session.detect.motion if self.session.detect is not None else None
        if motion is not None:
            painter.setClipRect(QRectF(HEAD, 0, self.width() - HEAD, self.height()))
            paint_camera(painter, motion, self.x_of, OVERVIEW)

    def _paint_lane(self, brush: LaneBrush, place: int, alarms: dict[int, list[Alarm]]) -> None:
        lane, top = self.lanes[place], OVERVIEW + place * self.lane_height - self.bar.value()
        chosen = lane.identity in self.session.view.chosen
        brush.lane(lane, top, shaded=place % 2 == 1, chosen=chosen)
        tracks, clip = self.session.tracks, self.session.clip
        if self.strip != "none" and tracks is not None and clip is not None:
            key = lane.identity, self.strip
            if key not in self._known:
                self._known[key] = strip_of(tracks, clip, lane.identity, self.strip, self.axis)
            brush.strip(top, lane, self._known[key])
        middle = top + self.lane_height / 2
        brush.crossings(lane, middle)
        for moment in self._rings.get(lane.identity, ()):
            brush.ring(moment.frame, middle, moment.doubt)
        for alarm in alarms.get(lane.identity, ()):
            brush.alarm(alarm.frame, middle)
        group = group_of(lane, self.order)
        if group and (place == 0 or group_of(self.lanes[place - 1], self.order) != group):
            brush.group(top, group)

    def _alarms(self) -> dict[int, list[Alarm]]:
        out: dict[int, list[Alarm]] = {}
        counted = self.session.counted
        for alarm in (counted.alarms if counted is not None else ())[:MOST_ALARMS]:
            out.setdefault(alarm.identity, []).append(alarm)
        return out

    def _paint_span(self, painter: QPainter) -> None:
        """What is outside the span is veiled."""
        if self.session.span is None:
            return
        left, right = HEAD, self.width() - RIGHT
        x0, x1 = (min(max(self.x_of(edge), left), right) for edge in self.session.span)
        veil = colour(STONE, 175)
        painter.fillRect(QRectF(left, 0, x0 - left, self.height()), veil)
        painter.fillRect(QRectF(x1, 0, right - x1, self.height()), veil)
        painter.setPen(QPen(colour(OCHRE), 1.6))
        for x in (x0, x1):
            painter.drawLine(QPointF(x, 2), QPointF(x, self.height()))

    def _paint_playhead(self, painter: QPainter) -> None:
        x = self.x_of(self.session.frame)
        if not HEAD - 1 <= x <= self.width():
            return
        painter.setPen(QPen(QColor(INK), 1.4))
        painter.drawLine(QPointF(x, 6), QPointF(x, self.height()))
        painter.setBrush(QColor(INK))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawPolygon(QPolygonF([QPointF(x - 6, 0), QPointF(x + 6, 0), QPointF(x, 8)]))

    # --- mouse and keys ---------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.card.hide()
        if self.session.clip is None:
            return
        point = event.position()
        lane = self.lane_at(point.y())
        if event.button() == Qt.MouseButton.RightButton:
            lanes_menu(self, lane.identity if lane is not None else None).exec(self.mapToGlobal(point.toPoint()))
            return
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier and point.x() >= HEAD - 6:
            self._span_from = self.frame_at(point.x())
            return
        if lane is not None and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.session.view.toggle(lane.identity)
            return
        if lane is not None:
            self.session.select(lane.identity)
        if point.x() >= HEAD - 6:
            self._scrubbing = True
            self.frame_wanted.emit(self.frame_at(point.x()))
        elif lane is not None:
            self.frame_wanted.emit(lane.first)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.card.hide()
        if self._span_from is None and self._scrubbing:
            self.frame_wanted.emit(self.frame_at(event.position().x()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._scrubbing = False
        start, self._span_from = self._span_from, None
        if start is not None:
            end = self.frame_at(event.position().x())
            self.span_wanted.emit(None if abs(end - start) < 2 else (min(start, end), max(start, end)))

    def leaveEvent(self, event: QEvent) -> None:
        del event
        self.card.hide()

    def wheelEvent(self, event: QWheelEvent) -> None:
        turned = event.angleDelta().y() or event.angleDelta().x()
        steps, keys = turned / 120, event.modifiers()
        ctrl, shift = (
            bool(keys & key) for key in (Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier)
        )
        if ctrl and shift:
            self.set_lane_height(self.lane_height + (1 if steps > 0 else -1) * max(1, self.lane_height // 6))
        elif ctrl:
            self.zoom(1.25**steps, event.position().x())
        elif shift:
            self._set_axis(self.axis.moved_to(self.axis.first - steps * (self.axis.last - self.axis.first) / 10))
        else:
            self.bar.setValue(self.bar.value() - round(steps * 2 * self.lane_height))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, ctrl = event.key(), bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        wider = key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal)
        if wider or key == Qt.Key.Key_Minus:
            if ctrl:
                self.set_lane_height(self.lane_height + (2 if wider else -2))
            else:
                self.zoom(1.25 if wider else 0.8)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._choose_next(1 if key == Qt.Key.Key_Down else -1)
        else:
            super().keyPressEvent(event)

    def _choose_next(self, way: int) -> None:
        """Choose the lane below or above, and keep it in sight."""
        chosen = [k for k, lane in enumerate(self.lanes) if lane.identity == self.session.selected]
        place = min(max((chosen[0] + way) if chosen else 0, 0), len(self.lanes) - 1)
        if place < 0:
            return
        self.session.select(self.lanes[place].identity)
        top, page = place * self.lane_height, self.bar.pageStep()
        self.bar.setValue(min(max(self.bar.value(), top + self.lane_height - page), top))

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            lane = self.lane_at(event.pos().y())
            if lane is not None and self.session.clip is not None:
                frame = min(max(self.frame_at(event.pos().x()), lane.first), lane.last)
                self.card.show_at(event.globalPos(), lane.identity, frame, self.words_over(lane))
                return True
        return super().event(event)

    def words_over(self, lane: Lane) -> str:
        """What a lane tells while the mouse rests on it."""
        who = lane.identity
        return words_of(lane, self.session, self._rings.get(who, ()), self._alarms().get(who, ()))

    def close_card(self) -> None:
        """End the thread that fetches pictures."""
        self.card.hide()
        self.card.cutouts.close()
