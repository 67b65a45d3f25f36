"""What is drawn over the picture: outlines, numbers, trails, forecasts, detections, truth.

An object is drawn by its outline where there is one, else by a thin box with a heavy foot line. Solid is
detected, dashed is coasting, dotted is tentative. Colour is identity.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen

from drover.app.field.strokes import Strokes
from drover.app.field.view_transform import ViewTransform
from drover.app.theme import CLAY, DAY, FIELD, NIGHT, OCHRE, colour, identity_colour, number_font
from drover.core.features.models import apply, inverse
from drover.core.geometry import simplify_outline, trace_outlines
from drover.core.score.detection import DetectionScore
from drover.core.track.explain import LinkNote
from drover.core.types import Detections, Tracks, TrackState, Truth

__all__ = [
    "draw_caption",
    "draw_clock",
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

TRAIL_SECONDS = 2.8
TRAIL_POINTS = 36
FORECAST_FRAMES = 15
TRAIL_PIECES = 6
SMOOTH = 0.75  # px: stairs of the pixel grid go, shape stays
_STYLES = {
    int(TrackState.CONFIRMED): Qt.PenStyle.SolidLine,
    int(TrackState.COASTING): Qt.PenStyle.DashLine,
    int(TrackState.TENTATIVE): Qt.PenStyle.DotLine,
}


@lru_cache(maxsize=1024)
def _outlines_of(row: int, runs: bytes) -> list[NDArray[np.float32]]:
    """Outlines of a blob, (points, 2) float32 in picture px, closed; ``row`` makes the key cheaper to tell apart."""
    del row
    found = trace_outlines(np.frombuffer(runs, np.int16).reshape(-1, 3))
    simple = [simplify_outline(points, SMOOTH) for points in found]
    return [np.concatenate([points, points[:1]]) for points in simple]


def _outlines(detections: Detections, row: int) -> list[NDArray[np.float32]]:
    if not 0 <= row < len(detections):
        return []
    return _outlines_of(row, np.ascontiguousarray(detections.runs_of(row)).tobytes())


def _onto(view: ViewTransform) -> tuple[np.float32, NDArray[np.float32]]:
    """The view as a factor and a shift, for mapping many points at once."""
    at = view.to_widget(0, 0)
    return np.float32(view.scale), np.array([at.x(), at.y()], np.float32)


def _box_rect(box: NDArray[np.float32], view: ViewTransform) -> QRectF:
    x1, y1, x2, y2 = map(float, box)
    return QRectF(view.to_widget(x1, y1), view.to_widget(x2, y2))


def _pen(tint: QColor, width: float, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
    pen = QPen(tint, width, style)
    pen.setCosmetic(True)
    pen.setJoinStyle(Qt.PenJoinStyle.BevelJoin)  # at these widths no eye tells it from a round one, at half the cost
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
    scale, shift = _onto(view)
    rows = tracks.rows_of(frame)
    boxes: list[tuple[int, QColor, Qt.PenStyle]] = []
    with Strokes(painter) as strokes:
        for row in range(rows.start, rows.stop):
            identity, style = int(tracks.identity[row]), _STYLES[int(tracks.state[row])]
            tint = QColor(identity_colour(identity))
            shapes, chosen = _outlines(detections, int(tracks.detection[row])), identity == selected
            if not shapes:
                boxes.append((row, tint, style))
            for shape in shapes:
                points = shape * scale + shift
                strokes.draw(points, colour(NIGHT, 110), 4.2 if chosen else 3.2)
                strokes.draw(points, tint, 2.6 if chosen else 1.8, style)
    for row, tint, style in boxes:
        _footed_box(painter, _box_rect(tracks.box[row], view), _pen(tint, 1.4, style))


def draw_numbers(
    painter: QPainter,
    view: ViewTransform,
    tracks: Tracks,
    frame: int,
    selected: int | None,
    names: dict[int, str],
    taken: tuple[QRectF, ...] = (),
) -> None:
    """Identity numbers on plates above the heads, with the names of those that have one; below the feet where one would
    lie in a place that is ``taken``, if there is picture left for it.
    """
    painter.setFont(number_font(11, bold=True))
    metrics, whole = painter.fontMetrics(), view.picture_rect()
    rows = tracks.rows_of(frame)
    for row in range(rows.start, rows.stop):
        identity = int(tracks.identity[row])
        text = f"{identity} {names[identity]}" if identity in names else str(identity)
        top = _box_rect(tracks.box[row], view)
        width = metrics.horizontalAdvance(text) + 10
        left = min(max(top.center().x() - width / 2, whole.left()), max(whole.left(), whole.right() - width))
        plate = QRectF(left, top.top() - 19, width, 15)
        if top.bottom() + 19 <= whole.bottom() and any(plate.intersects(place) for place in taken):
            plate.moveTop(top.bottom() + 4)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(identity_colour(identity)))
        painter.drawRoundedRect(plate, 7, 7)
        if identity == selected:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor("#FFFFFF"), 1.6))
            painter.drawRoundedRect(plate.adjusted(-2, -2, 2, 2), 9, 9)
        painter.setPen(QColor("#17201D"))
        painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, text)


def draw_trails(
    painter: QPainter,
    view: ViewTransform,
    tracks: Tracks,
    times: NDArray[np.float64],
    frame: int,
    to_scene: NDArray[np.float64] | None = None,
) -> None:
    """Where the foot points have been, fading with age; dotted where the track coasted.

    Where the camera moves they lie on the ground: ``to_scene`` (3, 3) is that of this picture.
    """
    onto = None if to_scene is None or tracks.scene_box is None else inverse(to_scene)
    scale, shift = _onto(view)
    since = int(np.searchsorted(times, times[frame] - TRAIL_SECONDS))
    rows = tracks.rows_of(frame)
    with Strokes(painter) as strokes:
        for identity in tracks.identity[rows].tolist():
            path = tracks.path_of(identity)
            first, now = np.searchsorted(tracks.frame[path], (since, frame)).tolist()
            step = 1 + (now - first) // TRAIL_POINTS
            part = path[first + (now - first) % step : now + 1 : step]  # the last point is that of this frame
            box = tracks.box[part] if onto is None else tracks.lying[part]
            feet = np.column_stack([(box[:, 0] + box[:, 2]) / 2, box[:, 3]])
            feet = (feet if onto is None else apply(onto, feet.astype(np.float64))) * scale + shift
            coasted = (tracks.state[part] == TrackState.COASTING).tolist()
            tint = identity_colour(identity)
            for begin, past, unseen in _trail_pieces(coasted):
                age = past / len(feet)
                style = Qt.PenStyle.DotLine if unseen else Qt.PenStyle.SolidLine
                strokes.draw(feet[begin : past + 1], colour(tint, int(30 + 200 * age)), 1.0 + 1.2 * age, style)


def _trail_pieces(coasted: list[bool]) -> list[tuple[int, int, bool]]:
    """Stretches of a trail that are drawn alike: cut where coasting starts or ends, and by age."""
    last = len(coasted) - 1
    cuts = {round(k * last / TRAIL_PIECES) for k in range(TRAIL_PIECES + 1)}
    cuts |= {k for k in range(1, last) if coasted[k] != coasted[k - 1]}
    ordered = sorted(cuts)
    return [(a, b, coasted[a]) for a, b in zip(ordered[:-1], ordered[1:], strict=True)]


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
    painter.setPen(colour(DAY))
    painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, caption)


def draw_clock(painter: QPainter, height: float, now: float, frame: int) -> None:
    """Time and frame in the lower left corner; ``height`` of what is painted on, ``now`` s."""
    hours, rest = divmod(now, 3600)
    minutes, seconds = divmod(rest, 60)
    words = f"{int(hours):02d}:{int(minutes):02d}:{seconds:05.2f}   {frame + 1}"
    painter.setFont(number_font(12, bold=True))
    plate = QRectF(10, height - 32, painter.fontMetrics().horizontalAdvance(words) + 18, 22)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour(FIELD, 215))
    painter.drawRoundedRect(plate, 4, 4)
    painter.setPen(colour(DAY))
    painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, words)


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
            painter.setPen(_pen(colour(NIGHT, 140), 4.0))
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
