"""Small drawn signs: no font is asked for glyphs it may not have."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPainterPath, QPixmap, QPolygonF

from drover.app.theme import INK

__all__ = ["arrow_path", "sign"]


def _triangle(x: float, way: int) -> QPolygonF:
    return QPolygonF([QPointF(x, 4), QPointF(x + 8 * way, 10), QPointF(x, 16)])


def _paths(name: str) -> QPainterPath:
    path = QPainterPath()
    if name == "play":
        path.addPolygon(QPolygonF([QPointF(6, 3.5), QPointF(16, 10), QPointF(6, 16.5)]))
    elif name == "pause":
        path.addRect(QRectF(5.5, 4, 3, 12))
        path.addRect(QRectF(11.5, 4, 3, 12))
    elif name == "next":
        path.addPolygon(_triangle(6, 1))
    elif name == "previous":
        path.addPolygon(_triangle(14, -1))
    elif name == "end":
        path.addPolygon(_triangle(5, 1))
        path.addRect(QRectF(13.5, 4, 2, 12))
    elif name == "home":
        path.addPolygon(_triangle(15, -1))
        path.addRect(QRectF(4.5, 4, 2, 12))
    path.setFillRule(Qt.FillRule.WindingFill)
    return path


def sign(name: str, tint: str = INK) -> QIcon:
    """An icon of 20 x 20: play, pause, next, previous, home, end."""
    pixmap = QPixmap(40, 40)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(2, 2)
    painter.fillPath(_paths(name), QColor(tint))
    painter.end()
    pixmap.setDevicePixelRatio(2)
    return QIcon(pixmap)


def arrow_path(tip: QPointF, direction: QPointF, size: float) -> QPainterPath:
    """A filled arrow head with its tip at a point, along a unit direction."""
    side = QPointF(-direction.y(), direction.x())
    back = tip - direction * size
    path = QPainterPath(tip)
    path.lineTo(back + side * size * 0.6)
    path.lineTo(back - side * size * 0.6)
    path.closeSubpath()
    return path
