"""Counting lines on the field: drawn, moved, bent and reversed with the mouse, with their counts beside them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from drover.app.field.ground_view import view_on
from drover.app.field.line_drawing import arrow_of, draw_lines
from drover.app.field.view_transform import ViewTransform, distance_to
from drover.app.session import Session
from drover.core.count.edits import with_item, with_new, without_item
from drover.core.errors import DroverError
from drover.core.recipe import LineSettings
from drover.core.types import Crossings

__all__ = ["LineEditor"]

REACH = 9.0  # widget px within which the mouse takes hold


@dataclass(frozen=True)
class _Hold:
    """What the mouse has hold of: a corner of a line, or the whole line (corner -1)."""

    line: int
    corner: int
    start: QPointF
    before: tuple[tuple[float, float], ...]


class LineEditor:
    """Mouse work on lines; the field passes it the events. Recipes go out through the session."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.shown_crossings: Callable[[], Crossings | None] = lambda: session.crossings
        self.drawing = False
        self.hover: tuple[int, int] | None = None
        self._hold: _Hold | None = None
        self._new_start: tuple[float, float] | None = None
        self._new_end: tuple[float, float] | None = None

    @property
    def busy(self) -> bool:
        """Whether a line is being dragged or drawn."""
        return self._hold is not None or self._new_start is not None

    # --- mouse ----------------------------------------------------------------------------------------------

    def start_drawing(self) -> None:
        """The next press and drag makes a new line."""
        self.drawing = True

    def stop(self) -> None:
        """Give up drawing, or put a dragged line back."""
        self.drawing, self._new_start = False, None
        if self._hold is not None:
            self._preview(self._hold.line, self._hold.before)
            self._hold = None

    def press(self, point: QPointF, view: ViewTransform, *, bend: bool = False) -> bool:
        """Take hold of what is under the mouse; True when it was a line's. ``bend`` adds a corner there."""
        if self.drawing:
            self._new_start = self._new_end = view_on(view, self.session.to_scene, "scene").fraction_at(point)
            return True
        found = self._at(point, view)
        if found is None:
            return False
        line, corner = found
        view = self._view_of(line, view)
        points = self._lines()[line].points
        if bend and corner < 0:
            corner = self._nearest_segment(point, view, points) + 1
            points = (*points[:corner], view.fraction_at(point), *points[corner:])
        self._hold = _Hold(line, corner, self._fraction_point(point, view), points)
        return True

    def move(self, point: QPointF, view: ViewTransform) -> bool:
        """Follow the mouse; True when something on screen changed."""
        if self._new_start is not None:
            self._new_end = view_on(view, self.session.to_scene, "scene").fraction_at(point)
            return True
        if self._hold is not None:
            view = self._view_of(self._hold.line, view)
            self._drag(self._fraction_point(point, view), view)
            return True
        hover = self._at(point, view)
        changed, self.hover = hover != self.hover, hover
        return changed

    def release(self, point: QPointF, view: ViewTransform) -> bool:
        """Let go: what was dragged becomes one edit."""
        if self._new_start is not None:
            self._finish_new(point, view)
            return True
        if self._hold is None:
            return False
        line = self._lines()[self._hold.line]
        self._hold = None
        self.session.edit(self.session.recipe, f"move line '{line.name}'")
        return True

    def reverse(self, number: int) -> None:
        """Turn a line round: forward becomes back."""
        line = self._lines()[number]
        turned = with_item(self.session.recipe, "line", number, {"points": line.points[::-1]})
        self.session.edit(turned, f"reverse line '{line.name}'")

    def remove(self, number: int) -> None:
        """Take a line away."""
        name = self._lines()[number].name
        self.hover = None
        self.session.edit(without_item(self.session.recipe, "line", number), f"remove line '{name}'")

    def reverse_at(self, point: QPointF, view: ViewTransform) -> bool:
        """Reverse the line whose arrow is under the mouse."""
        for number in range(len(self._lines())):
            middle, ahead = arrow_of(self._lines()[number], self._view_of(number, view))
            if math.hypot(*(point - (middle + ahead * 14)).toTuple()) <= REACH + 3:
                self.reverse(number)
                return True
        return False

    def line_at(self, point: QPointF, view: ViewTransform) -> int | None:
        """Number of the line under the mouse."""
        found = self._at(point, view)
        return found[0] if found else None

    # --- parts ----------------------------------------------------------------------------------------------

    def _lines(self) -> tuple[LineSettings, ...]:
        return self.session.recipe.count.line

    def _view_of(self, number: int, view: ViewTransform) -> ViewTransform:
        """The view that a line is shown in: on the ground, or in the picture."""
        return view_on(view, self.session.to_scene, self._lines()[number].fixed_to)

    def _drag(self, at: QPointF, view: ViewTransform) -> None:
        hold = self._hold
        assert hold is not None
        dx, dy = at.x() - hold.start.x(), at.y() - hold.start.y()
        moved = list(hold.before)
        if hold.corner >= 0:
            x, y = moved[hold.corner]
            moved[hold.corner] = (view.held(x + dx), view.held(y + dy))
        else:
            low_x, high_x = min(x for x, _ in moved), max(x for x, _ in moved)
            low_y, high_y = min(y for _, y in moved), max(y for _, y in moved)
            dx, dy = view.held(low_x + dx) - low_x, view.held(low_y + dy) - low_y
            dx, dy = view.held(high_x + dx) - high_x, view.held(high_y + dy) - high_y
            moved = [(round(x + dx, 5), round(y + dy, 5)) for x, y in moved]
        if any(point != moved[0] for point in moved):
            self._preview(hold.line, tuple(moved))

    def _preview(self, number: int, points: tuple[tuple[float, float], ...]) -> None:
        self.session.preview(with_item(self.session.recipe, "line", number, {"points": points}))

    def _finish_new(self, point: QPointF, view: ViewTransform) -> None:
        view = view_on(view, self.session.to_scene, "scene")
        start, end = self._new_start, view.fraction_at(point)
        self.drawing, self._new_start = False, None
        assert start is not None
        pixels = view.to_widget(start[0] * view.picture_width, start[1] * view.picture_height) - point
        if math.hypot(pixels.x(), pixels.y()) < 6:
            return
        try:
            recipe = with_new(self.session.recipe, "line", [start, end])
            self.session.edit(recipe, f"draw line '{recipe.count.line[-1].name}'")
        except DroverError as error:
            self.session.message_raised.emit(str(error))

    def _fraction_point(self, point: QPointF, view: ViewTransform) -> QPointF:
        at = view.to_picture(point)
        return QPointF(at.x() / view.picture_width, at.y() / view.picture_height)

    def _at(self, point: QPointF, view: ViewTransform) -> tuple[int, int] | None:
        for number, line in enumerate(self._lines()):
            corners = self._view_of(number, view).corners(line.points)
            for corner, at in enumerate(corners):
                if math.hypot(*(at - point).toTuple()) <= REACH:
                    return number, corner
        for number, line in enumerate(self._lines()):
            corners = self._view_of(number, view).corners(line.points)
            if any(distance_to(point, a, b) <= REACH - 2 for a, b in zip(corners[:-1], corners[1:], strict=True)):
                return number, -1
        return None

    def _nearest_segment(self, point: QPointF, view: ViewTransform, points: tuple[tuple[float, float], ...]) -> int:
        at = view.corners(points)
        return min(range(len(at) - 1), key=lambda k: distance_to(point, at[k], at[k + 1]))

    # --- drawing --------------------------------------------------------------------------------------------

    def draw(self, painter: QPainter, view: ViewTransform, now: float) -> None:
        """All lines with their direction and counts; ``now`` s is the moment up to which running counts go."""
        held = None if self._hold is None else self._hold.line
        draw_lines(
            painter, view, self._lines(), self.shown_crossings(), now, hover=self.hover, held=held,
            to_scene=self.session.to_scene,
        )  # fmt: skip
        if self._new_start is not None and self._new_end is not None:
            view = view_on(view, self.session.to_scene, "scene")
            ends = [
                view.to_widget(x * view.picture_width, y * view.picture_height)
                for x, y in (self._new_start, self._new_end)
            ]
            painter.setPen(QPen(QColor("#FFFFFF"), 2, Qt.PenStyle.DashLine))
            painter.drawLine(ends[0], ends[1])
