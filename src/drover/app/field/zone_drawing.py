"""How zones look: their area with a name and how many are inside; in clay when there are too many."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPolygonF

from drover.app.field.ground_view import view_on
from drover.app.field.view_transform import ViewTransform
from drover.app.theme import CLAY, DAY, NIGHT, colour, number_font
from drover.core.count.whole_clip import Counted
from drover.core.count.zones import inside_now
from drover.core.recipe import ZoneSettings

__all__ = ["draw_zones", "plate_of"]


def draw_zones(
    painter: QPainter,
    view: ViewTransform,
    zones: tuple[ZoneSettings, ...],
    counted: Counted | None,
    now: float,
    *,
    hover: tuple[int, int] | None = None,
    to_scene: NDArray[np.float64] | None = None,
) -> None:
    """All zones with their names and how many are inside at ``now`` s; ``hover`` is zone and corner under the mouse,
    ``to_scene`` (3, 3) that of the picture shown, where the camera moves.
    """
    picture = view
    for number, zone in enumerate(zones):
        view = view_on(picture, to_scene, zone.fixed_to)
        known = counted is not None and number < len(counted.visits.zone_names)
        inside = len(inside_now(counted.visits, number, now)) if counted is not None and known else 0
        grabbed = hover[1] if hover is not None and hover[0] == number else None
        _draw_zone(painter, view, zone, inside, grabbed)


def _draw_zone(painter: QPainter, view: ViewTransform, zone: ZoneSettings, inside: int, grabbed: int | None) -> None:
    over = 0 < zone.most_inside < inside
    corners = view.corners(zone.points)
    shape = QPolygonF(corners)
    tint = CLAY if over else DAY
    painter.setBrush(colour(tint, 44 if inside else 24))
    painter.setPen(QPen(colour(NIGHT, 150), 4))
    painter.drawPolygon(shape)
    painter.setPen(QPen(colour(tint if over else "#FFFFFF", 235), 1.8, Qt.PenStyle.DashDotLine))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPolygon(shape)
    for corner, at in enumerate(corners):
        painter.setPen(QPen(QColor(NIGHT), 1.2))
        painter.setBrush(QColor("#FFFFFF" if grabbed == corner else DAY))
        side = 6.0 if grabbed == corner else 4.5
        painter.drawRect(QRectF(at.x() - side, at.y() - side, 2 * side, 2 * side))
    plate, words = plate_of(zone, view, inside, over=over)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour(CLAY if over else NIGHT, 215))
    painter.drawRoundedRect(plate, 4, 4)
    painter.setPen(QColor(DAY))
    painter.setFont(number_font(11, bold=True))
    painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, words)


def plate_of(zone: ZoneSettings, view: ViewTransform, inside: int, *, over: bool) -> tuple[QRectF, str]:
    """Where a zone's plate lies on the widget, and what it says."""
    words = f"{zone.name}: {inside} inside" + (f", over {zone.most_inside}" if over else "")
    width = QFontMetricsF(number_font(11, bold=True)).horizontalAdvance(words) + 14
    box = QPolygonF(view.corners(zone.points)).boundingRect()
    plate = QRectF(0, 0, width, 18)
    plate.moveCenter(QPointF(box.center().x(), box.top() + 16))
    return plate, words
