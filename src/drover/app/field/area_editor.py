"""Areas on the field: polygons in which detections count or do not, drawn corner by corner."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Literal

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPainterPath, QPen, QPolygonF

from drover.app.field.ground_view import view_on
from drover.app.field.view_transform import ViewTransform
from drover.app.session import Session
from drover.app.theme import DAY, FIELD, colour, number_font
from drover.core.count.edits import with_new
from drover.core.errors import DroverError
from drover.core.recipe import value_of, with_value

__all__ = ["AreaEditor", "AreaKind"]

AreaKind = Literal["include", "ignore", "exit", "zone", "ground"]
CLOSE = 10.0  # widget px from the first corner at which a click closes the polygon
PATHS: dict[AreaKind, str] = {
    "include": "detect.where.include", "ignore": "detect.where.ignore", "exit": "track.life.exits",
}  # fmt: skip
WORDS: dict[AreaKind, str] = {
    "include": "count only inside an area", "ignore": "ignore an area", "exit": "draw an exit",
}  # fmt: skip


class AreaEditor:
    """Draws and removes areas; the field passes it the mouse."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.ground_picked: Callable[[list[tuple[float, float]]], None] = lambda points: None
        self.kind: AreaKind | None = None
        self.corners: list[tuple[float, float]] = []
        self._mouse: QPointF | None = None

    @property
    def drawing(self) -> bool:
        """Whether clicks add corners now."""
        return self.kind is not None

    def start(self, kind: AreaKind) -> None:
        """The next clicks are corners of a new area."""
        self.kind, self.corners, self._mouse = kind, [], None

    def stop(self) -> None:
        """Give up the area being drawn."""
        self.kind, self.corners = None, []

    def click(self, point: QPointF, view: ViewTransform) -> None:
        """Add a corner, or close the area at its first one."""
        if len(self.corners) >= 3 and self._near_first(point, view):
            self.finish()
            return
        self.corners.append(self._view(view).fraction_at(point))
        if self.kind == "ground" and len(self.corners) == 4:
            self.finish()

    def move(self, point: QPointF) -> None:
        """Follow the mouse with the open side."""
        self._mouse = point

    def finish(self) -> None:
        """Close the area and make it an edit; fewer than three corners are given up."""
        kind, corners = self.kind, self.corners
        self.stop()
        if kind is None or len(corners) < 3:
            return
        if kind == "ground":
            if len(corners) == 4:
                self.ground_picked(corners)
            return
        if kind == "zone":
            self._add_zone(corners)
            return
        areas = [*self._areas(kind), corners]
        self._edit(kind, areas, WORDS[kind])

    def _add_zone(self, corners: list[tuple[float, float]]) -> None:
        try:
            self.session.edit(with_new(self.session.recipe, "zone", corners), "draw a zone")
        except DroverError as error:
            self.session.message_raised.emit(str(error))

    def area_at(self, point: QPointF, view: ViewTransform) -> tuple[AreaKind, int] | None:
        """Kind and number of the area under the mouse."""
        for kind in PATHS:
            for number, area in enumerate(self._areas(kind)):
                if self._polygon(area, view).containsPoint(point, Qt.FillRule.OddEvenFill):
                    return kind, number
        return None

    def remove(self, kind: AreaKind, number: int) -> None:
        """Take an area away."""
        areas = [area for n, area in enumerate(self._areas(kind)) if n != number]
        self._edit(kind, areas, "remove an area")

    def draw(self, painter: QPainter, view: ViewTransform) -> None:
        """Dim what does not count, and show the area being drawn."""
        self._draw_dimmed(painter, view)
        self._draw_exits(painter, view)
        self._draw_ground(painter, view)
        if not self.corners:
            return
        view = self._view(view)
        points = [self._at(corner, view) for corner in self.corners]
        if self._mouse is not None:
            points.append(self._mouse)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor("#FFFFFF"), 2, Qt.PenStyle.DashLine))
        painter.drawPolyline(QPolygonF(points))
        painter.setBrush(QColor(DAY))
        painter.setPen(QPen(QColor(FIELD), 1.2))
        for corner in self.corners:
            painter.drawEllipse(self._at(corner, view), 4.5, 4.5)

    # --- parts ----------------------------------------------------------------------------------------------

    def _draw_dimmed(self, painter: QPainter, view: ViewTransform) -> None:
        include, ignore = self._areas("include"), self._areas("ignore")
        if not include and not ignore:
            return
        off = QPainterPath()
        if include:
            off.addRect(view.picture_rect())
            for area in include:
                off = off.subtracted(self._path(area, view))
        for area in ignore:
            off = off.united(self._path(area, view))
        painter.setPen(QPen(colour(DAY, 150), 1))
        painter.setBrush(colour(FIELD, 120))
        painter.drawPath(off)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QBrush(colour(DAY, 60), Qt.BrushStyle.BDiagPattern))
        painter.drawPath(off)

    def _draw_ground(self, painter: QPainter, view: ViewTransform) -> None:
        """The four points of the ground's measure, numbered."""
        points, view = self.session.recipe.count.ground.points, view_on(view, self.session.to_scene, "scene")
        painter.setFont(number_font(11, bold=True))
        for number, corner in enumerate(points, 1):
            at = self._at(corner, view)
            painter.setPen(QPen(colour(FIELD, 200), 1.2))
            painter.setBrush(QColor(DAY))
            painter.drawEllipse(at, 8, 8)
            painter.setPen(colour(FIELD))
            painter.drawText(QRectF(at.x() - 8, at.y() - 8, 16, 16), Qt.AlignmentFlag.AlignCenter, str(number))

    def _draw_exits(self, painter: QPainter, view: ViewTransform) -> None:
        """Exits as dashed outlines with a word."""
        painter.setBrush(colour(DAY, 28))
        for area in self._areas("exit"):
            shape = self._polygon(area, view)
            painter.setPen(QPen(colour(FIELD, 160), 3))
            painter.drawPolygon(shape)
            painter.setPen(QPen(colour(DAY, 230), 1.4, Qt.PenStyle.DashLine))
            painter.drawPolygon(shape)
            painter.drawText(shape.boundingRect(), Qt.AlignmentFlag.AlignCenter, "exit")

    def _areas(self, kind: AreaKind) -> list[list[tuple[float, float]]]:
        return [list(area) for area in value_of(self.session.recipe, PATHS[kind])]

    def _edit(self, kind: AreaKind, areas: list[list[tuple[float, float]]], what: str) -> None:
        self.session.edit(with_value(self.session.recipe, PATHS[kind], areas), what)

    def _view(self, view: ViewTransform) -> ViewTransform:
        """The view in which the area being drawn is given: zones and the ground's measure stand on the ground."""
        return view_on(view, self.session.to_scene, "scene" if self.kind in ("zone", "ground") else "picture")

    def _at(self, corner: tuple[float, float], view: ViewTransform) -> QPointF:
        return view.to_widget(corner[0] * view.picture_width, corner[1] * view.picture_height)

    def _polygon(self, area: list[tuple[float, float]], view: ViewTransform) -> QPolygonF:
        return QPolygonF([self._at(corner, view) for corner in area])

    def _path(self, area: list[tuple[float, float]], view: ViewTransform) -> QPainterPath:
        path = QPainterPath()
        path.addPolygon(self._polygon(area, view))
        path.closeSubpath()
        return path

    def _near_first(self, point: QPointF, view: ViewTransform) -> bool:
        return math.hypot(*(self._at(self.corners[0], self._view(view)) - point).toTuple()) <= CLOSE
