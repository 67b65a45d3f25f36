"""Zones on the field: shown with who is inside, moved and bent with the mouse."""

from __future__ import annotations

import math
from dataclasses import dataclass

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPolygonF

from drover.app.field.ground_view import view_on
from drover.app.field.view_transform import ViewTransform, distance_to
from drover.app.field.zone_drawing import draw_zones, plate_of
from drover.app.session import Session
from drover.core.count.edits import with_item, without_item
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
        view = self._view_of(zone, view)
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
        view = self._view_of(hold.zone, view)
        at = view.fraction_at(point)
        dx, dy = at[0] - hold.start[0], at[1] - hold.start[1]
        moved = list(hold.before)
        if hold.corner >= 0:
            moved[hold.corner] = at
        else:
            for far in (min, max):
                x, y = far(x for x, _ in moved), far(y for _, y in moved)
                dx, dy = view.held(x + dx) - x, view.held(y + dy) - y
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
            if QPolygonF(self._view_of(number, view).corners(zone.points)).containsPoint(
                point, Qt.FillRule.OddEvenFill
            ):
                return number
        return None

    def remove(self, number: int) -> None:
        """Take a zone away."""
        name = self._zones()[number].name
        self.hover = None
        self.session.edit(without_item(self.session.recipe, "zone", number), f"remove zone '{name}'")

    def draw(self, painter: QPainter, view: ViewTransform, now: float) -> None:
        """All zones with their names and how many are inside at ``now`` s."""
        draw_zones(
            painter, view, self._zones(), self.session.counted, now, hover=self.hover, to_scene=self.session.to_scene
        )

    # --- parts ----------------------------------------------------------------------------------------------

    def _view_of(self, number: int, view: ViewTransform) -> ViewTransform:
        """The view that a zone is shown in: on the ground, or in the picture."""
        return view_on(view, self.session.to_scene, self._zones()[number].fixed_to)

    def _zones(self) -> tuple[ZoneSettings, ...]:
        return self.session.recipe.count.zone

    def _at(self, point: QPointF, view: ViewTransform, *, sides: bool = False) -> tuple[int, int] | None:
        """Zone and corner under the mouse; corner -1 is its name, -2 - k its k-th side."""
        picture = view
        for number, zone in enumerate(self._zones()):
            view = self._view_of(number, picture)
            corners = view.corners(zone.points)
            for corner, at in enumerate(corners):
                if math.hypot(*(at - point).toTuple()) <= REACH:
                    return number, corner
            if sides:
                for k, (a, b) in enumerate(zip(corners, corners[1:] + corners[:1], strict=True)):
                    if distance_to(point, a, b) <= REACH - 2:
                        return number, -2 - k
            if plate_of(zone, view, 10, over=False)[0].contains(point):
                return number, -1
        return None
