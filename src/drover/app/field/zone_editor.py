"""Zones on the field: shown with who is inside, moved and bent with the mouse."""

from __future__ import annotations

import math
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPolygonF

from drover.app.field.view_transform import ViewTransform, distance_to
from drover.app.session import Session
from drover.app.theme import CLAY, INK, PAPER, colour, number_font
from drover.core.count.edits import with_item, without_item
from drover.core.count.zones import inside_now
from drover.core.errors import DroverError
from drover.core.recipe import Recipe, ZoneSettings

__all__ = ["ZoneEditor"]

REACH = 9.0  # widget px within which the mouse takes hold


@dataclass(frozen=True)
class _Hold:
    zone: int
    corner: int
    start: tuple[float, float]
    before: tuple[tuple[float, float], ...]
    recipe: Recipe


class ZoneEditor:
    """Mouse work on zones; a zone is taken hold of by a corner, or by its name."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.hover: tuple[int, int] | None = None
        self._hold: _Hold | None = None

    @property
    def busy(self) -> bool:
        """Whether a zone is being dragged."""
        return self._hold is not None

    def press(self, point: QPointF, view: ViewTransform, *, bend: bool = False) -> bool:
        """Take hold of what is under the mouse; True when it was a zone's. ``bend`` adds a corner on a side."""
        found = self._at(point, view, sides=bend)
        if found is None:
            return False
        zone, corner = found
        points = self._zones()[zone].points
        if corner <= -2:
            corner = -corner - 1
            points = (*points[:corner], view.fraction_at(point), *points[corner:])
        self._hold = _Hold(zone, corner, view.fraction_at(point), points, self.session.recipe)
        return True

    def move(self, point: QPointF, view: ViewTransform) -> bool:
        """Follow the mouse; True when something on screen changed."""
        hold = self._hold
        if hold is None:
            hover = self._at(point, view)
            changed, self.hover = hover != self.hover, hover
            return changed
        at = view.fraction_at(point)
        dx, dy = at[0] - hold.start[0], at[1] - hold.start[1]
        moved = list(hold.before)
        if hold.corner >= 0:
            moved[hold.corner] = at
        else:
            dx = min(max(dx, -min(x for x, _ in moved)), 1 - max(x for x, _ in moved))
            dy = min(max(dy, -min(y for _, y in moved)), 1 - max(y for _, y in moved))
            moved = [(round(x + dx, 5), round(y + dy, 5)) for x, y in moved]
        try:
            self.session.preview(with_item(hold.recipe, "zone", hold.zone, {"points": moved}))
        except DroverError:
            return False  # sides that cross, or no area: the zone stays where it last was in order
        return True

    def release(self) -> bool:
        """Let go: what was dragged becomes one edit."""
        hold, self._hold = self._hold, None
        if hold is None:
            return False
        self.session.edit(self.session.recipe, f"move zone '{self._zones()[hold.zone].name}'")
        return True

    def stop(self) -> None:
        """Put a dragged zone back."""
        if self._hold is not None:
            self.session.preview(self._hold.recipe)
            self._hold = None

    def zone_at(self, point: QPointF, view: ViewTransform) -> int | None:
        """Number of the zone under the mouse."""
        for number, zone in enumerate(self._zones()):
            if QPolygonF(view.corners(zone.points)).containsPoint(point, Qt.FillRule.OddEvenFill):
                return number
        return None

    def remove(self, number: int) -> None:
        """Take a zone away."""
        name = self._zones()[number].name
        self.hover = None
        self.session.edit(without_item(self.session.recipe, "zone", number), f"remove zone '{name}'")

    # --- drawing --------------------------------------------------------------------------------------------

    def draw(self, painter: QPainter, view: ViewTransform, now: float) -> None:
        """All zones with their names and how many are inside at ``now`` s."""
        counted = self.session.counted
        for number, zone in enumerate(self._zones()):
            known = counted is not None and number < len(counted.visits.zone_names)
            inside = len(inside_now(counted.visits, number, now)) if counted is not None and known else 0
            over = 0 < zone.most_inside < inside
            self._draw_zone(painter, view, number, zone, inside, over=over)

    def _draw_zone(
        self, painter: QPainter, view: ViewTransform, number: int, zone: ZoneSettings, inside: int, *, over: bool
    ) -> None:
        corners = view.corners(zone.points)
        shape = QPolygonF(corners)
        tint = CLAY if over else PAPER
        painter.setBrush(colour(tint, 44 if inside else 24))
        painter.setPen(QPen(colour(INK, 150), 4))
        painter.drawPolygon(shape)
        painter.setPen(QPen(colour(tint if over else "#FFFFFF", 235), 1.8, Qt.PenStyle.DashDotLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(shape)
        for corner, at in enumerate(corners):
            grabbed = self.hover == (number, corner)
            painter.setPen(QPen(QColor(INK), 1.2))
            painter.setBrush(QColor("#FFFFFF" if grabbed else PAPER))
            side = 6.0 if grabbed else 4.5
            painter.drawRect(QRectF(at.x() - side, at.y() - side, 2 * side, 2 * side))
        plate, words = self._plate(zone, view, inside, over=over)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour(CLAY if over else INK, 215))
        painter.drawRoundedRect(plate, 4, 4)
        painter.setPen(QColor(PAPER))
        painter.setFont(number_font(11, bold=True))
        painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, words)

    def _plate(self, zone: ZoneSettings, view: ViewTransform, inside: int, *, over: bool) -> tuple[QRectF, str]:
        words = f"{zone.name}: {inside} inside" + (f", over {zone.most_inside}" if over else "")
        width = QFontMetricsF(number_font(11, bold=True)).horizontalAdvance(words) + 14
        box = QPolygonF(view.corners(zone.points)).boundingRect()
        plate = QRectF(0, 0, width, 18)
        plate.moveCenter(QPointF(box.center().x(), box.top() + 16))
        return plate, words

    # --- parts ----------------------------------------------------------------------------------------------

    def _zones(self) -> tuple[ZoneSettings, ...]:
        return self.session.recipe.count.zone

    def _at(self, point: QPointF, view: ViewTransform, *, sides: bool = False) -> tuple[int, int] | None:
        """Zone and corner under the mouse; corner -1 is its name, -2 - k its k-th side."""
        for number, zone in enumerate(self._zones()):
            corners = view.corners(zone.points)
            for corner, at in enumerate(corners):
                if math.hypot(*(at - point).toTuple()) <= REACH:
                    return number, corner
            if sides:
                for k, (a, b) in enumerate(zip(corners, corners[1:] + corners[:1], strict=True)):
                    if distance_to(point, a, b) <= REACH - 2:
                        return number, -2 - k
            if self._plate(zone, view, 10, over=False)[0].contains(point):
                return number, -1
        return None
