"""The proof picture: a frame with every line and zone, their names, directions and rules, for someone else to check."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPen, QPolygonF

from drover.app.icons import arrow_path
from drover.app.theme import CLAY, DAY, FIELD, MOSS, NIGHT, OCHRE, colour, number_font
from drover.core.count.audit import rule_words
from drover.core.errors import DroverError
from drover.core.footage_types import ClipInfo
from drover.core.recipe import CountSettings, LineSettings, ZoneSettings

__all__ = ["draw_proof", "proof_caption", "save_picture"]

TINTS = (MOSS, CLAY, OCHRE, "#3C5E86", "#6B4F7A", "#23302C")


def draw_proof(picture: QImage, settings: CountSettings, caption: str) -> QImage:
    """The picture with all lines and zones drawn on it, and beneath it the caption and each one's rule."""
    unit = max(1.0, picture.width() / 1280)
    notes = [_line_note(line) for line in settings.line] + [_zone_note(zone) for zone in settings.zone]
    row = round(20 * unit)
    rows = [text for note in notes for text in _wrapped(note, picture.width() - 44 * unit, round(13 * unit))]
    out = QImage(picture.width(), picture.height() + row * (len(rows) + 2), QImage.Format.Format_RGB32)
    out.fill(QColor(DAY))
    with QPainter(out) as painter:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.drawImage(0, 0, picture)
        size = picture.width(), picture.height()
        for number, zone in enumerate(settings.zone):
            _draw_zone(painter, zone, size, unit, TINTS[(len(settings.line) + number) % len(TINTS)])
        for number, line in enumerate(settings.line):
            _draw_line(painter, line, size, unit, TINTS[number % len(TINTS)])
        painter.setPen(QColor(NIGHT))
        painter.setFont(number_font(round(13 * unit), bold=True))
        top = picture.height() + round(0.4 * row)
        painter.drawText(QRectF(12 * unit, top, size[0], row), Qt.AlignmentFlag.AlignVCenter, caption)
        painter.setFont(number_font(round(13 * unit)))
        for k, text in enumerate(rows, 1):
            rect = QRectF(12 * unit, top + k * row, size[0] - 24 * unit, row)
            painter.drawText(rect, Qt.AlignmentFlag.AlignVCenter, text)
    return out


def proof_caption(clip: ClipInfo, frame: int) -> str:
    """Which clip and which frame (from 0) a proof picture shows."""
    name = Path(clip.path).name
    return f"{name}, frame {frame + 1}, {clip.times[frame]:.2f} s, {clip.width} × {clip.height} px"


def save_picture(image: QImage, path: Path) -> None:
    """Write a picture as PNG.

    Raises
    ------
    DroverError
        When it cannot be written.
    """
    if not image.save(str(path), "PNG"):  # type: ignore[call-overload]
        raise DroverError(f"{path}: cannot be written; choose another folder or name")


def _line_note(line: LineSettings) -> str:
    ways = f"{line.forward_name} along the arrow, {line.back_name} against it"
    return f"Line {line.name}: {ways}; {rule_words(line)}"


def _zone_note(zone: ZoneSettings) -> str:
    points = ", ".join(f"({x:.4f}, {y:.4f})" for x, y in zone.points)
    by = f"{zone.least_share:g} of the box" if zone.inside_by == "area" else f"{zone.inside_by} of the box"
    return f"Zone {zone.name}: {points}; inside by {by}"


def _wrapped(text: str, width: float, size: int) -> list[str]:
    """The text in lines of at most so many px."""
    metrics, out, line = QFontMetricsF(number_font(size)), list[str](), ""
    for word in text.split():
        longer = f"{line} {word}".strip()
        if line and metrics.horizontalAdvance(longer) > width:
            out.append(line)
            line = "    " + word
        else:
            line = longer if not line.startswith("    ") else f"{line} {word}"
    return [*out, line]


def _draw_line(painter: QPainter, line: LineSettings, size: tuple[int, int], unit: float, tint: str) -> None:
    corners = [QPointF(x * size[0], y * size[1]) for x, y in line.points]
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for pen in (QPen(QColor("#FFFFFF"), 7 * unit), QPen(QColor(tint), 3.4 * unit)):
        painter.setPen(pen)
        painter.drawPolyline(QPolygonF(corners))
    for a, b in zip(corners[:-1], corners[1:], strict=True):
        _draw_arrow(painter, a, b, unit, tint)
    k = (len(corners) - 1) // 2
    a, b = corners[k], corners[k + 1]
    ahead = _ahead(a, b)
    middle = (a + b) / 2
    _plate(painter, middle + ahead * _clear(line.forward_name, ahead, 50, unit), line.forward_name, size, unit, tint)
    _plate(painter, middle - ahead * _clear(line.back_name, ahead, 14, unit), line.back_name, size, unit, "#6E7B75")
    lowest = max(corners, key=lambda corner: corner.y())
    _plate(painter, lowest + QPointF(0, 22 * unit), line.name, size, unit, FIELD)
    painter.setPen(QPen(QColor(NIGHT), 1.4 * unit))
    painter.setBrush(QColor(DAY))
    for number, corner in enumerate(corners, 1):
        painter.drawEllipse(corner, 9 * unit, 9 * unit)
        painter.setFont(number_font(round(11 * unit), bold=True))
        painter.drawText(_around(corner, 9 * unit), Qt.AlignmentFlag.AlignCenter, str(number))


def _clear(words: str, ahead: QPointF, gap: float, unit: float) -> float:
    """How far from the line a plate's middle lies for its near edge to be ``gap`` away."""
    wide = QFontMetricsF(number_font(round(13 * unit), bold=True)).horizontalAdvance(words) + 14 * unit
    return gap * unit + 0.5 * (abs(ahead.x()) * wide + abs(ahead.y()) * 20 * unit)


def _draw_arrow(painter: QPainter, a: QPointF, b: QPointF, unit: float, tint: str) -> None:
    middle, ahead = (a + b) / 2, _ahead(a, b)
    tip = middle + ahead * (26 * unit)
    painter.setPen(QPen(QColor("#FFFFFF"), 6 * unit))
    painter.drawLine(middle, tip)
    painter.setPen(QPen(QColor(tint), 3 * unit))
    painter.drawLine(middle, tip)
    painter.setPen(QPen(QColor("#FFFFFF"), 1.2 * unit))
    painter.setBrush(QColor(tint))
    painter.drawPath(arrow_path(tip + ahead * (9 * unit), ahead, 15 * unit))


def _ahead(a: QPointF, b: QPointF) -> QPointF:
    """Unit direction of forward across a segment."""
    along = b - a
    length = (along.x() ** 2 + along.y() ** 2) ** 0.5 or 1.0
    return QPointF(-along.y() / length, along.x() / length)


def _draw_zone(painter: QPainter, zone: ZoneSettings, size: tuple[int, int], unit: float, tint: str) -> None:
    shape = QPolygonF([QPointF(x * size[0], y * size[1]) for x, y in zone.points])
    painter.setPen(QPen(QColor("#FFFFFF"), 5 * unit))
    painter.setBrush(colour(tint, 60))
    painter.drawPolygon(shape)
    painter.setPen(QPen(QColor(tint), 2.4 * unit, Qt.PenStyle.DashDotLine))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPolygon(shape)
    box = shape.boundingRect()
    _plate(painter, QPointF(box.center().x(), box.top() + 16 * unit), zone.name, size, unit, tint)


def _plate(painter: QPainter, at: QPointF, words: str, size: tuple[int, int], unit: float, tint: str) -> None:
    """Words on a plate, held inside the picture."""
    font = number_font(round(13 * unit), bold=True)
    painter.setFont(font)
    plate = QRectF(0, 0, QFontMetricsF(font).horizontalAdvance(words) + 14 * unit, 20 * unit)
    plate.moveCenter(at)
    plate.moveLeft(min(max(plate.left(), 2), size[0] - plate.width() - 2))
    plate.moveTop(min(max(plate.top(), 2), size[1] - plate.height() - 2))
    painter.setPen(QPen(QColor("#FFFFFF"), 1.2 * unit))
    painter.setBrush(QColor(tint))
    painter.drawRoundedRect(plate, 4 * unit, 4 * unit)
    painter.setPen(QColor("#FFFFFF"))
    painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, words)


def _around(at: QPointF, reach: float) -> QRectF:
    return QRectF(at.x() - reach, at.y() - reach, 2 * reach, 2 * reach)
