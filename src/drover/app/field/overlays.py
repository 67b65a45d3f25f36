"""What is drawn over the picture: outlines, numbers, trails, forecasts, detections, truth.

An object is drawn by its outline where there is one, else by a thin box with a heavy foot line. Solid is
detected, dashed is coasting, dotted is tentative. Colour is identity.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF, QTransform

from drover.app.field.view_transform import ViewTransform
from drover.app.theme import CLAY, FIELD, INK, OCHRE, PAPER, colour, identity_colour, number_font
from drover.core.geometry import simplify_outline, trace_outline
from drover.core.score.detection import DetectionScore
from drover.core.track.explain import LinkNote
from drover.core.types import Detections, Tracks, TrackState, Truth

__all__ = [
    "draw_caption",
    "draw_detections",
    "draw_errors",
    "draw_forecasts",
    "draw_gates",
    "draw_mask",
    "draw_numbers",
    "draw_objects",
    "draw_trails",
    "draw_truth",
]

TRAIL_FRAMES = 70
FORECAST_FRAMES = 15
TRAIL_PIECES = 7
SMOOTH = 0.75  # px: stairs of the pixel grid go, shape stays
_STYLES = {
    int(TrackState.CONFIRMED): Qt.PenStyle.SolidLine,
    int(TrackState.COASTING): Qt.PenStyle.DashLine,
    int(TrackState.TENTATIVE): Qt.PenStyle.DotLine,
}


@lru_cache(maxsize=1024)
def _outline_of(row: int, runs: bytes) -> QPolygonF:
    """Outline of a blob in picture px; ``row`` only makes the key cheaper to tell apart."""
    del row
    points = simplify_outline(trace_outline(np.frombuffer(runs, np.int16).reshape(-1, 3)), SMOOTH)
    return QPolygonF([QPointF(x, y) for x, y in points.tolist()])


def _outline(detections: Detections, row: int, onto: QTransform) -> QPolygonF | None:
    runs = detections.runs_of(row)
    if len(runs) == 0:
        return None
    return onto.map(_outline_of(row, np.ascontiguousarray(runs).tobytes()))


def _onto(view: ViewTransform) -> QTransform:
    """The view as a transform, for mapping many points at once."""
    at, scale = view.to_widget(0, 0), view.scale
    return QTransform(scale, 0, 0, scale, at.x(), at.y())


def _box_rect(box: NDArray[np.float32], view: ViewTransform) -> QRectF:
    x1, y1, x2, y2 = map(float, box)
    return QRectF(view.to_widget(x1, y1), view.to_widget(x2, y2))


def _pen(tint: QColor, width: float, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
    pen = QPen(tint, width, style)
    pen.setCosmetic(True)
    pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
    if style == Qt.PenStyle.DashLine:
        pen.setDashPattern([4, 3])
    return pen


def _footed_box(painter: QPainter, rect: QRectF, pen: QPen) -> None:
    """A thin box with a heavy line at its foot."""
    painter.setPen(pen)
    painter.drawRect(rect)
    heavy = QPen(pen)
    heavy.setWidthF(pen.widthF() * 2.2)
    heavy.setCapStyle(Qt.PenCapStyle.FlatCap)
    painter.setPen(heavy)
    painter.drawLine(rect.bottomLeft(), rect.bottomRight())


def draw_objects(
    painter: QPainter,
    view: ViewTransform,
    tracks: Tracks,
    detections: Detections,
    frame: int,
    selected: int | None,
) -> None:
    """Every identity of the frame, by outline or box."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    onto = _onto(view)
    rows = tracks.rows_of(frame)
    for row in range(rows.start, rows.stop):
        identity, state = int(tracks.identity[row]), int(tracks.state[row])
        chosen = identity == selected
        tint = QColor(identity_colour(identity))
        detection = int(tracks.detection[row])
        shape = _outline(detections, detection, onto) if 0 <= detection < len(detections) else None
        style = _STYLES[state]
        if shape is None:
            _footed_box(painter, _box_rect(tracks.box[row], view), _pen(tint, 1.4, style))
            continue
        painter.setPen(_pen(colour(INK, 110), 4.2 if chosen else 3.2))
        painter.drawPolygon(shape)
        painter.setPen(_pen(tint, 2.6 if chosen else 1.8, style))
        painter.drawPolygon(shape)


def draw_numbers(painter: QPainter, view: ViewTransform, tracks: Tracks, frame: int, selected: int | None) -> None:
    """Identity numbers on plates above the heads."""
    painter.setFont(number_font(11, bold=True))
    metrics = painter.fontMetrics()
    rows = tracks.rows_of(frame)
    for row in range(rows.start, rows.stop):
        identity = int(tracks.identity[row])
        text = str(identity)
        top = _box_rect(tracks.box[row], view)
        width = metrics.horizontalAdvance(text) + 10
        plate = QRectF(top.center().x() - width / 2, top.top() - 19, width, 15)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(identity_colour(identity)))
        painter.drawRoundedRect(plate, 7, 7)
        if identity == selected:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor("#FFFFFF"), 1.6))
            painter.drawRoundedRect(plate.adjusted(-2, -2, 2, 2), 9, 9)
        painter.setPen(QColor("#17201D"))
        painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, text)


def draw_trails(painter: QPainter, view: ViewTransform, tracks: Tracks, frame: int) -> None:
    """Where the foot points have been, fading with age; dotted where the track coasted."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    onto = _onto(view)
    rows = tracks.rows_of(frame)
    for identity in tracks.identity[rows].tolist():
        path = tracks.path_of(identity)
        now = int(np.searchsorted(tracks.frame[path], frame))
        part = path[max(0, now - TRAIL_FRAMES) : now + 1 : 2]
        feet = [QPointF((x1 + x2) / 2, y2) for x1, _, x2, y2 in tracks.box[part].tolist()]
        coasted = tracks.state[part] == TrackState.COASTING
        tint = identity_colour(identity)
        for first, past, unseen in _trail_pieces(coasted):
            age = past / len(feet)
            style = Qt.PenStyle.DotLine if unseen else Qt.PenStyle.SolidLine
            painter.setPen(_pen(colour(tint, int(30 + 200 * age)), 1.0 + 1.2 * age, style))
            painter.drawPolyline(onto.map(QPolygonF(feet[first : past + 1])))


def _trail_pieces(coasted: NDArray[np.bool_]) -> list[tuple[int, int, bool]]:
    """Stretches of a trail that are drawn alike: cut where coasting starts or ends, and by age."""
    last = len(coasted) - 1
    cuts = {0, last, *np.linspace(0, last, TRAIL_PIECES + 1).astype(int).tolist()}
    cuts |= set((np.flatnonzero(np.diff(coasted.astype(np.int8))) + 1).tolist())
    ordered = sorted(cuts)
    return [(a, b, bool(coasted[a])) for a, b in zip(ordered[:-1], ordered[1:], strict=True)]


def draw_forecasts(painter: QPainter, view: ViewTransform, tracks: Tracks, frame: int) -> None:
    """A fading tail ahead: where each would be if it kept its speed."""
    rows = tracks.rows_of(frame)
    for row in range(rows.start, rows.stop):
        identity = int(tracks.identity[row])
        path = tracks.path_of(identity)
        now = int(np.searchsorted(tracks.frame[path], frame))
        before = path[max(0, now - 6)]
        span = frame - int(tracks.frame[before])
        if span <= 0:
            continue
        foot, past = _foot(tracks.box[row]), _foot(tracks.box[before])
        speed = (foot - past) / span
        if np.hypot(*speed) < 0.35:
            continue
        for k in range(3, FORECAST_FRAMES + 1, 3):
            at = foot + speed * k
            size = 3.2 * (1 - k / (FORECAST_FRAMES + 6))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour(identity_colour(identity), int(230 * (1 - k / (FORECAST_FRAMES + 3)))))
            painter.drawEllipse(view.to_widget(float(at[0]), float(at[1])), size, size)


def draw_gates(painter: QPainter, view: ViewTransform, notes: tuple[LinkNote, ...], selected: int | None) -> None:
    """The forecast box of each believed track and its gate as a dotted ellipse; of the chosen one only, if there is."""
    for note in notes:
        if note.identity == 0 or (selected is not None and note.identity != selected):
            continue
        tint = QColor(identity_colour(note.identity))
        x1, y1, x2, y2 = note.box
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(_pen(colour(identity_colour(note.identity), 170), 1.0, Qt.PenStyle.DashLine))
        painter.drawRect(QRectF(view.to_widget(x1, y1), view.to_widget(x2, y2)))
        middle = view.to_widget((x1 + x2) / 2, (y1 + y2) / 2)
        painter.setPen(_pen(tint, 1.6, Qt.PenStyle.DotLine))
        painter.drawEllipse(middle, note.gate[0] * view.scale, note.gate[1] * view.scale)


def _foot(box: NDArray[np.float32]) -> NDArray[np.float64]:
    return np.array([(float(box[0]) + float(box[2])) / 2, float(box[3])])


def draw_caption(painter: QPainter, width: float, caption: str, active: bool) -> None:
    """What a half of a split field shows; the half that the chips switch has a bar on top."""
    if active:
        painter.fillRect(QRectF(0, 0, width, 3), colour(OCHRE))
    painter.setFont(number_font(11, bold=True))
    plate = QRectF(10, 10, painter.fontMetrics().horizontalAdvance(caption) + 16, 20)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour(FIELD, 215))
    painter.drawRoundedRect(plate, 4, 4)
    painter.setPen(colour(PAPER))
    painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, caption)


def draw_mask(painter: QPainter, view: ViewTransform, found: Detections, frame: int) -> None:
    """The blobs of a frame as they were found, run by run."""
    painter.setPen(Qt.PenStyle.NoPen)
    rows, brush = found.rows_of(frame), colour(OCHRE, 150)
    for row in range(rows.start, rows.stop):
        for y, x0, x1 in found.runs_of(row).tolist():
            at = view.to_widget(x0, y)
            painter.fillRect(QRectF(at.x(), at.y(), (x1 - x0) * view.scale, view.scale), brush)


def draw_detections(painter: QPainter, view: ViewTransform, detections: Detections, frame: int) -> None:
    """Raw boxes in white, before any identity."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    rows = detections.rows_of(frame)
    for row in range(rows.start, rows.stop):
        _footed_box(painter, _box_rect(detections.box[row], view), _pen(colour("#FFFFFF", 215), 1.1))


def draw_truth(painter: QPainter, view: ViewTransform, truth: Truth, frame: int) -> None:
    """True boxes as corner ticks in paper white; fainter where not to be considered."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    rows = truth.rows_of(frame)
    for row in range(rows.start, rows.stop):
        rect = _box_rect(truth.box[row], view)
        painter.setPen(_pen(colour("#FFFFFF", 240 if truth.consider[row] else 110), 1.6))
        painter.drawPath(_corner_ticks(rect))


def draw_errors(painter: QPainter, view: ViewTransform, score: DetectionScore, frame: int) -> None:
    """Detection errors of the frame: what was missed, dashed; what is not there, crossed out; both in words."""
    painter.setFont(number_font(10, bold=True))
    for rows, word, style in (
        (score.misses, "missed", Qt.PenStyle.DashLine),
        (score.false_alarms, "false alarm", Qt.PenStyle.SolidLine),
    ):
        for box in rows[rows[:, 0] == frame][:, 1:]:
            rect = _box_rect(box, view)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(_pen(colour(INK, 140), 4.0))
            painter.drawRect(rect)
            painter.setPen(_pen(QColor("#F08060"), 2.0, style))
            painter.drawRect(rect)
            if word == "false alarm":
                painter.drawLine(rect.topLeft(), rect.bottomRight())
            plate = QRectF(rect.left(), rect.bottom() + 3, painter.fontMetrics().horizontalAdvance(word) + 8, 14)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(CLAY))
            painter.drawRoundedRect(plate, 3, 3)
            painter.setPen(QColor("#FFFFFF"))
            painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, word)


def _corner_ticks(rect: QRectF) -> QPainterPath:
    reach = min(8.0, rect.width() / 3, rect.height() / 3)
    path = QPainterPath()
    for x, sx in ((rect.left(), 1), (rect.right(), -1)):
        for y, sy in ((rect.top(), 1), (rect.bottom(), -1)):
            path.moveTo(QPointF(x + sx * reach, y))
            path.lineTo(QPointF(x, y))
            path.lineTo(QPointF(x, y + sy * reach))
    return path
