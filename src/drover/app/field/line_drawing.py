"""How counting lines look: the line with its direction, counts on both sides, a glow as it counts."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPolygonF

from drover.app.field.ground_view import view_on
from drover.app.field.view_transform import ViewTransform
from drover.app.icons import arrow_path
from drover.app.theme import DAY, MOSS, NIGHT, OCHRE, colour, number_font
from drover.core.count.tallies import Tally, tally
from drover.core.recipe import LineSettings
from drover.core.types import Crossings

__all__ = ["arrow_of", "count_places", "draw_lines"]

PULSE = 0.5  # s for which a line shows that it counted
ROOM = 84.0  # px across that two figures of two places take


def draw_lines(
    painter: QPainter,
    view: ViewTransform,
    lines: tuple[LineSettings, ...],
    crossings: Crossings | None,
    now: float,
    *,
    hover: tuple[int, int] | None = None,
    held: int | None = None,
    totals: Mapping[str, tuple[int, int]] | None = None,
    to_scene: NDArray[np.float64] | None = None,
) -> None:
    """All lines; ``now`` s is the moment up to which running counts go.

    ``totals`` are passages forward and back by line, where that is all that is known, as live. ``hover`` is the line
    and corner under the mouse, corner -1 for the line itself; ``held`` the line that is dragged; ``to_scene`` (3, 3) is
    that of the picture shown, where the camera moves.
    """
    picture = view
    for number, line in enumerate(lines):
        view = view_on(picture, to_scene, line.fixed_to)
        grabbed = hover[1] if hover is not None and hover[0] == number else None
        strong = held == number or grabbed is not None
        corners = view.corners(line.points)
        known = crossings if crossings is not None and number < len(crossings.line_names) else None
        _draw_track(painter, corners, _pulse(known, number, now), strong=strong)
        for corner, at in enumerate(corners):
            _draw_handle(painter, at, grabbed=grabbed == corner)
        middle, ahead = arrow_of(line, view)
        _draw_direction(painter, middle, ahead)
        so_far = None if totals is None else totals.get(line.name, (0, 0))
        _draw_counts(painter, picture, line, (known, number), corners, ahead, now, so_far)
        if len(lines) > 1 or line.name:
            _draw_name(painter, max(corners, key=lambda point: point.y()), line.name)


def count_places(
    view: ViewTransform, lines: tuple[LineSettings, ...], to_scene: NDArray[np.float64] | None = None
) -> tuple[QRectF, ...]:
    """Where the counts of lines stand on the widget, with room for large ones."""
    out = []
    for line in lines:
        laid = view_on(view, to_scene, line.fixed_to)
        anchor, ahead = _anchor(laid.corners(line.points)), arrow_of(line, laid)[1]
        out += [_plate(view, anchor, way, ROOM) for way in (ahead, -ahead)]
    return tuple(out)


def arrow_of(line: LineSettings, view: ViewTransform) -> tuple[QPointF, QPointF]:
    """Middle of a line's middle segment and the unit direction of forward, on the widget."""
    corners = view.corners(line.points)
    k = (len(corners) - 1) // 2
    a, b = corners[k], corners[k + 1]
    along = b - a
    length = math.hypot(along.x(), along.y()) or 1.0
    return (a + b) / 2, QPointF(-along.y() / length, along.x() / length)


def _pulse(crossings: Crossings | None, number: int, now: float) -> float:
    """1 as the line counts, fading to 0 in half a second; ``now`` s."""
    if crossings is None:
        return 0.0
    when = crossings.time[(crossings.line == number) & (crossings.time <= now + 1e-9)]
    return max(0.0, 1.0 - (now - float(when[-1])) / PULSE) if len(when) else 0.0


def _draw_track(painter: QPainter, corners: list[QPointF], pulse: float, *, strong: bool) -> None:
    solid, round_ = Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if pulse > 0:
        painter.setPen(QPen(colour(OCHRE, round(200 * pulse)), 5 + 9 * pulse, solid, round_))
        painter.drawPolyline(QPolygonF(corners))
    painter.setPen(QPen(colour(NIGHT, 150), 6 if strong else 5, solid, round_))
    painter.drawPolyline(QPolygonF(corners))
    painter.setPen(QPen(QColor("#FFFFFF"), 3 if strong else 2.2, solid, round_))
    painter.drawPolyline(QPolygonF(corners))


def _draw_handle(painter: QPainter, at: QPointF, *, grabbed: bool) -> None:
    painter.setPen(QPen(QColor(NIGHT), 1.2))
    painter.setBrush(QColor(DAY if not grabbed else "#FFFFFF"))
    painter.drawEllipse(at, 6.5 if grabbed else 5, 6.5 if grabbed else 5)


def _draw_direction(painter: QPainter, middle: QPointF, ahead: QPointF) -> None:
    painter.setPen(QPen(colour(NIGHT, 150), 4.5))
    painter.drawLine(middle, middle + ahead * 12)
    painter.setPen(QPen(QColor("#FFFFFF"), 2.2))
    painter.drawLine(middle, middle + ahead * 12)
    painter.setPen(QPen(colour(NIGHT, 150), 1))
    painter.setBrush(QColor("#FFFFFF"))
    painter.drawPath(arrow_path(middle + ahead * 20, ahead, 10))


def _draw_counts(
    painter: QPainter,
    view: ViewTransform,
    line: LineSettings,
    of: tuple[Crossings | None, int],
    corners: list[QPointF],
    ahead: QPointF,
    now: float,
    running: tuple[int, int] | None,
) -> None:
    """A plate on each side: how many went over to it so far, and of how many in the whole clip where it has an end."""
    crossings, number = of
    anchor = _anchor(corners)
    if running is not None:
        _draw_plate(painter, view, anchor, ahead, (running[0], ""))
        _draw_plate(painter, view, anchor, -ahead, (running[1], ""))
        return
    if crossings is None:
        total = so_far = Tally(line.name, "all", 0, 0, 0, 0)
    else:
        total, so_far = tally(crossings, number), tally(crossings, number, until=now)
    _draw_plate(painter, view, anchor, ahead, (so_far.identities_forward, f"of {total.identities_forward}"))
    _draw_plate(painter, view, anchor, -ahead, (so_far.identities_back, f"of {total.identities_back}"))


def _anchor(corners: list[QPointF]) -> QPointF:
    """Above the highest corner of a line: its counts stand on both sides of this."""
    return min(corners, key=lambda point: point.y()) + QPointF(0, -16)


def _plate(view: ViewTransform, anchor: QPointF, way: QPointF, width: float) -> QRectF:
    """Where the count of one way stands, so many px across."""
    sideways = _sideways(way)
    offset = QPointF(math.copysign(width / 2 + 8, way.x()), 0) if sideways else QPointF(0, math.copysign(16, way.y()))
    rect = QRectF(0, 0, width, 23)
    rect.moveCenter(anchor + offset)
    bounds = view.picture_rect().intersected(QRectF(4, 4, view.widget_width - 8, view.widget_height - 8))
    rect.moveTop(min(max(rect.top(), bounds.top() + 2), bounds.bottom() - 25))
    return rect


def _sideways(way: QPointF) -> bool:
    return abs(way.x()) >= abs(way.y())


def _draw_plate(
    painter: QPainter, view: ViewTransform, anchor: QPointF, way: QPointF, counted: tuple[int, str]
) -> None:
    big, small = number_font(14, bold=True), number_font(11)
    text, rest = str(counted[0]), counted[1]
    wide_big = QFontMetricsF(big).horizontalAdvance(text)
    wide_small = QFontMetricsF(small).horizontalAdvance(rest)
    rect = _plate(view, anchor, way, wide_big + wide_small + 34)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour(DAY, 240))
    painter.drawRoundedRect(rect, 5, 5)
    tip_first = way.x() < 0 if _sideways(way) else False
    at = rect.left() + (20 if tip_first else 8)
    painter.setFont(big)
    painter.setPen(QColor(NIGHT))
    painter.drawText(QRectF(at, rect.top(), wide_big + 2, 23), Qt.AlignmentFlag.AlignVCenter, text)
    painter.setFont(small)
    painter.setPen(QColor("#5A6761"))
    painter.drawText(QRectF(at + wide_big + 5, rect.top() + 1, wide_small + 4, 23), Qt.AlignmentFlag.AlignVCenter, rest)
    centre = QPointF(rect.left() + 10 if tip_first else rect.right() - 10, rect.center().y())
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(MOSS))
    painter.drawPath(arrow_path(centre + way * 5, way, 10))


def _draw_name(painter: QPainter, foot: QPointF, name: str) -> None:
    font = number_font(11, bold=True)
    painter.setFont(font)
    width = QFontMetricsF(font).horizontalAdvance(name) + 12
    rect = QRectF(foot.x() - width / 2, foot.y() + 10, width, 17)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour(NIGHT, 200))
    painter.drawRoundedRect(rect, 4, 4)
    painter.setPen(QColor(DAY))
    painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, name)
