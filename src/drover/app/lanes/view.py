"""The lanes widget: overview of the clip, then a lane for every identity; click to go there."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QHelpEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QScrollBar, QToolTip, QWidget

from drover.app.icons import arrow_path
from drover.app.lanes.camera_marks import paint_camera
from drover.app.lanes.rows import Lane, make_lanes, sort_lanes
from drover.app.moment_watch import MomentWatch
from drover.app.session import Session
from drover.app.theme import (
    CLAY,
    FAINT,
    INK,
    MUTED_TEXT,
    OCHRE,
    PAPER,
    STONE,
    TINT,
    colour,
    identity_colour,
    number_font,
)
from drover.core.count.alarms import Alarm

__all__ = ["LanesView"]

LEFT, RIGHT = 112, 22
OVERVIEW = 30
LANE = 17
MOST_RINGS = 40
MOST_ALARMS = 400


class LanesView(QWidget):
    """Time runs left to right over the whole clip."""

    frame_wanted = Signal(int)
    span_wanted = Signal(object)

    def __init__(self, session: Session, watch: MomentWatch) -> None:
        super().__init__()
        self.session, self.watch = session, watch
        self.order = "trouble"
        self.lanes: list[Lane] = []
        self._in_view = np.zeros(0)
        self._scrubbing = False
        self._span_from: int | None = None
        self._version = 0
        self._still: tuple[object, QPixmap] | None = None
        self.bar = QScrollBar(Qt.Orientation.Vertical, self)
        self.bar.valueChanged.connect(self.update)
        self.setMouseTracking(True)
        self.setAccessibleName("Lanes")
        session.tracks_changed.connect(self.rebuild)
        session.crossings_changed.connect(self.rebuild)
        session.clip_changed.connect(self.rebuild)
        watch.changed.connect(self.rebuild)
        session.frame_changed.connect(self.update)
        session.span_changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(800, OVERVIEW + 9 * LANE)

    def set_order(self, order: str) -> None:
        """Sort lanes another way."""
        self.order = order
        self.rebuild()

    def rebuild(self) -> None:
        """Work the lanes out anew from the session's results."""
        tracks = self.session.tracks
        self.lanes = [] if tracks is None else sort_lanes(make_lanes(tracks, self.session.crossings), self.order)
        self._in_view = np.zeros(0) if tracks is None else np.diff(tracks.frame_start)
        self._version += 1
        self._fit_bar()
        self.update()

    # --- geometry -------------------------------------------------------------------------------------------

    def x_of(self, frame: float) -> float:
        """Widget x of a frame."""
        clip = self.session.clip
        frames = clip.frame_count if clip else 1
        return LEFT + (self.width() - LEFT - RIGHT) * frame / max(1, frames - 1)

    def frame_at(self, x: float) -> int:
        """Frame under a widget x."""
        clip = self.session.clip
        frames = clip.frame_count if clip else 1
        return round((x - LEFT) / max(1, self.width() - LEFT - RIGHT) * (frames - 1))

    def lane_at(self, y: float) -> Lane | None:
        """The lane under a widget y."""
        place = int((y - OVERVIEW + self.bar.value()) // LANE)
        return self.lanes[place] if y >= OVERVIEW and 0 <= place < len(self.lanes) else None

    def _fit_bar(self) -> None:
        over = OVERVIEW + len(self.lanes) * LANE - self.height()
        self.bar.setVisible(over > 0)
        self.bar.setRange(0, max(0, over))
        self.bar.setPageStep(max(1, self.height() - OVERVIEW))
        self.bar.setSingleStep(LANE)
        self.bar.setGeometry(self.width() - 12, OVERVIEW, 12, max(0, self.height() - OVERVIEW))

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit_bar()

    # --- painting -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.drawPixmap(0, 0, self._still_picture())
            if self.session.clip is not None:
                self._paint_span(painter)
                self._paint_playhead(painter)

    def _still_picture(self) -> QPixmap:
        """Everything but the playhead, drawn again only when something in it has changed."""
        ratio = self.devicePixelRatioF()
        key = (self.size(), ratio, self.bar.value(), self.session.selected, self._version)
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
        painter.save()
        painter.setClipRect(QRectF(0, OVERVIEW, self.width(), self.height() - OVERVIEW))
        for place, lane in enumerate(self.lanes):
            top = OVERVIEW + place * LANE - self.bar.value()
            if OVERVIEW - LANE < top < self.height():
                self._paint_lane(painter, lane, top, place % 2 == 1)
        painter.restore()
        self._paint_overview(painter)

    def _paint_overview(self, painter: QPainter) -> None:
        painter.fillRect(QRectF(0, 0, self.width(), OVERVIEW), QColor(PAPER))
        painter.setPen(QColor(MUTED_TEXT))
        painter.setFont(number_font(11))
        painter.drawText(
            QRectF(12, 0, LEFT - 12, OVERVIEW),
            Qt.AlignmentFlag.AlignVCenter,
            f"{self.session.recipe.words.many} in view",
        )
        if len(self._in_view) == 0:
            return
        bars = max(1, int((self.width() - LEFT - RIGHT) // 4))
        parts = np.array_split(self._in_view, min(bars, len(self._in_view)))
        top = max(1, int(self._in_view.max()))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(FAINT))
        at = 0
        for part in parts:
            x0, x1 = self.x_of(at), self.x_of(at + len(part))
            height = float(part.mean()) / top * (OVERVIEW - 10)
            painter.drawRect(QRectF(x0, OVERVIEW - 4 - height, max(1.0, x1 - x0 - 1), height))
            at += len(part)
        painter.setPen(QColor(MUTED_TEXT))
        painter.setFont(number_font(10))
        painter.drawText(QRectF(self.width() - RIGHT + 3, 2, RIGHT - 4, 14), Qt.AlignmentFlag.AlignLeft, str(top))
        self._paint_alarms(painter, OVERVIEW - 5, 0)
        motion = self.session.detect.motion if self.session.detect is not None else None
        if motion is not None:
            paint_camera(painter, motion, self.x_of, OVERVIEW)

    def _paint_lane(self, painter: QPainter, lane: Lane, top: float, shaded: bool) -> None:
        row = QRectF(0, top, self.width(), LANE)
        chosen = lane.identity == self.session.selected
        if chosen or shaded:
            painter.fillRect(row, QColor(TINT) if chosen else colour(STONE, 120))
        tint = QColor(identity_colour(lane.identity))
        self._paint_head(painter, lane, top, tint)
        middle = top + LANE / 2
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(tint)
        for first, past in lane.seen:
            x0, x1 = self.x_of(first), self.x_of(past)
            painter.drawRoundedRect(QRectF(x0, middle - 3.5, max(2.0, x1 - x0), 7), 2, 2)
        painter.setPen(QPen(tint.darker(125), 2, Qt.PenStyle.DotLine))
        for first, past in lane.coasted:
            painter.drawLine(QPointF(self.x_of(first), middle), QPointF(self.x_of(past), middle))
        self._paint_crossings(painter, lane, middle)
        self._paint_moments(painter, lane, middle)
        self._paint_alarms(painter, middle, lane.identity)

    def _alarms(self) -> tuple[Alarm, ...]:
        return self.session.counted.alarms if self.session.counted is not None else ()

    def _paint_alarms(self, painter: QPainter, middle: float, identity: int) -> None:
        """A filled triangle at each alarm of an identity; of all of them (identity 0) in the overview."""
        painter.setPen(QPen(QColor(PAPER), 1))
        painter.setBrush(QColor(CLAY))
        for alarm in self._alarms()[:MOST_ALARMS]:
            if identity in (0, alarm.identity):
                x = self.x_of(alarm.frame)
                corners = [QPointF(x, middle - 6), QPointF(x + 5.5, middle + 4), QPointF(x - 5.5, middle + 4)]
                painter.drawPolygon(QPolygonF(corners))

    def _paint_head(self, painter: QPainter, lane: Lane, top: float, tint: QColor) -> None:
        plate = QRectF(12, top + 2, 30, LANE - 4)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(tint)
        painter.drawRoundedRect(plate, 6, 6)
        painter.setPen(QColor("#17201D"))
        painter.setFont(number_font(10, bold=True))
        painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, str(lane.identity))
        painter.setFont(number_font(10))
        painter.setPen(QColor(MUTED_TEXT))
        rate = self.session.clip.rate if self.session.clip else 25.0
        seconds = (lane.last - lane.first + 1) / rate
        painter.drawText(QRectF(48, top, 40, LANE), Qt.AlignmentFlag.AlignVCenter, f"{seconds:.1f} s")
        ways = {way for _, way in lane.crossings}
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(INK))
        if 1 in ways:
            painter.drawPath(arrow_path(QPointF(104, top + LANE / 2), QPointF(1, 0), 7))
        if -1 in ways:
            painter.drawPath(arrow_path(QPointF(89, top + LANE / 2), QPointF(-1, 0), 7))

    def _paint_crossings(self, painter: QPainter, lane: Lane, middle: float) -> None:
        """A wedge at each crossing, pointing right for forward and left for back."""
        clip = self.session.clip
        if clip is None:
            return
        painter.setPen(QPen(QColor(PAPER), 1))
        painter.setBrush(QColor(INK))
        for time, way in lane.crossings:
            x = self.x_of(float(np.interp(time, clip.times, np.arange(clip.frame_count))))
            wedge = [
                QPointF(x - 4 * way, middle - 6.5),
                QPointF(x + 4 * way, middle),
                QPointF(x - 4 * way, middle + 6.5),
            ]
            painter.drawPolygon(QPolygonF(wedge))

    def _paint_span(self, painter: QPainter) -> None:
        """What is outside the span is veiled."""
        if self.session.span is None:
            return
        x0, x1 = self.x_of(self.session.span[0]), self.x_of(self.session.span[1])
        veil = colour(STONE, 175)
        painter.fillRect(QRectF(LEFT, 0, x0 - LEFT, self.height()), veil)
        painter.fillRect(QRectF(x1, 0, self.width() - RIGHT - x1, self.height()), veil)
        painter.setPen(QPen(colour(OCHRE), 1.6))
        for x in (x0, x1):
            painter.drawLine(QPointF(x, 2), QPointF(x, self.height()))

    def _paint_moments(self, painter: QPainter, lane: Lane, middle: float) -> None:
        """A ring at each of the most doubtful moments, heavier the more doubtful."""
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for moment in self.watch.found[:MOST_RINGS]:
            if lane.identity not in moment.identities:
                continue
            at = QPointF(self.x_of(moment.frame), middle)
            painter.setPen(QPen(QColor(PAPER), 3.4))
            painter.drawEllipse(at, 5.2, 5.2)
            painter.setPen(QPen(QColor(CLAY), 1.2 + 1.2 * moment.doubt))
            painter.drawEllipse(at, 5.2, 5.2)

    def _paint_playhead(self, painter: QPainter) -> None:
        x = self.x_of(self.session.frame)
        painter.setPen(QPen(QColor(INK), 1.4))
        painter.drawLine(QPointF(x, 6), QPointF(x, self.height()))
        painter.setBrush(QColor(INK))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawPolygon(QPolygonF([QPointF(x - 6, 0), QPointF(x + 6, 0), QPointF(x, 8)]))

    # --- mouse ----------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.session.clip is None or event.button() != Qt.MouseButton.LeftButton:
            return
        point = event.position()
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier and point.x() >= LEFT - 6:
            self._span_from = self.frame_at(point.x())
            return
        lane = self.lane_at(point.y())
        if lane is not None:
            self.session.select(lane.identity)
        if point.x() >= LEFT - 6:
            self._scrubbing = True
            self.frame_wanted.emit(self.frame_at(point.x()))
        elif lane is not None:
            self.frame_wanted.emit(lane.first)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._span_from is not None:
            return
        if self._scrubbing:
            self.frame_wanted.emit(self.frame_at(event.position().x()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._scrubbing = False
        start, self._span_from = self._span_from, None
        if start is not None:
            end = self.frame_at(event.position().x())
            self.span_wanted.emit(None if abs(end - start) < 2 else (min(start, end), max(start, end)))

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.bar.setValue(self.bar.value() - round(event.angleDelta().y() / 120 * 2 * LANE))

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            lane = self.lane_at(event.pos().y())
            if lane is not None and self.session.clip is not None:
                QToolTip.showText(event.globalPos(), self._words(lane), self)
                return True
        return super().event(event)

    def _words(self, lane: Lane) -> str:
        clip = self.session.clip
        assert clip is not None
        parts = [
            f"identity {lane.identity}",
            f"{clip.times[lane.first]:.2f} s to {clip.times[lane.last]:.2f} s",
            f"coasted {lane.coasted_frames / clip.rate:.2f} s in {len(lane.coasted)} gaps",
            *(f"crossed {'forward' if way > 0 else 'back'} at {time:.2f} s" for time, way in lane.crossings),
            *(
                f"worth a look at {clip.times[m.frame]:.2f} s: {m.words}"
                for m in self.watch.found[:MOST_RINGS]
                if lane.identity in m.identities
            ),
            *(f"alarm at {a.time:.2f} s: {a.words}" for a in self._alarms() if a.identity == lane.identity),
        ]
        return "\n".join(parts)
