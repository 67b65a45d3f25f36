"""Where picture pixels lie on the widget: fit, zoom about a point, pan."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from PySide6.QtCore import QPointF, QRectF

from drover.core.settings.base import Points

__all__ = ["ViewTransform", "distance_to", "held"]


@dataclass(frozen=True)
class ViewTransform:
    """Maps picture px to widget px.

    ``zoom`` 1 fits the whole picture; ``centre`` is the picture point in the middle, as fractions;
    ``margin`` widget px stay free around a picture that fits.
    """

    picture_width: float = 1.0
    picture_height: float = 1.0
    widget_width: float = 1.0
    widget_height: float = 1.0
    zoom: float = 1.0
    centre_x: float = 0.5
    centre_y: float = 0.5
    margin: float = 12.0

    @property
    def scale(self) -> float:
        """Widget px per picture px."""
        fit = min(
            max(1.0, self.widget_width - 2 * self.margin) / self.picture_width,
            max(1.0, self.widget_height - 2 * self.margin) / self.picture_height,
        )
        return fit * self.zoom

    def to_widget(self, x: float, y: float) -> QPointF:
        """Widget position of a picture point."""
        s = self.scale
        return QPointF(
            self.widget_width / 2 + (x - self.centre_x * self.picture_width) * s,
            self.widget_height / 2 + (y - self.centre_y * self.picture_height) * s,
        )

    def to_picture(self, point: QPointF) -> QPointF:
        """Picture point under a widget position."""
        s = self.scale
        return QPointF(
            (point.x() - self.widget_width / 2) / s + self.centre_x * self.picture_width,
            (point.y() - self.widget_height / 2) / s + self.centre_y * self.picture_height,
        )

    def fraction_at(self, point: QPointF) -> tuple[float, float]:
        """Where a widget position lies, in fractions of the picture, held inside it."""
        at = self.to_picture(point)
        return self.held(at.x() / self.picture_width), self.held(at.y() / self.picture_height)

    def held(self, value: float) -> float:
        """A fraction held inside the picture."""
        return held(value)

    def corners(self, points: Points) -> list[QPointF]:
        """Widget positions of points given in fractions."""
        return [self.to_widget(x * self.picture_width, y * self.picture_height) for x, y in points]

    def picture_rect(self) -> QRectF:
        """The whole picture on the widget."""
        return QRectF(self.to_widget(0, 0), self.to_widget(self.picture_width, self.picture_height))

    def sized(self, width: float, height: float) -> ViewTransform:
        """The same view on a widget of another size."""
        return replace(self, widget_width=width, widget_height=height)

    def fitted(self) -> ViewTransform:
        """The whole picture in view."""
        return replace(self, zoom=1.0, centre_x=0.5, centre_y=0.5)

    def zoomed(self, factor: float, about: QPointF) -> ViewTransform:
        """Zoom so that the picture point under ``about`` stays where it is; 1 to 40 times."""
        fixed = self.to_picture(about)
        zoom = min(max(self.zoom * factor, 1.0), 40.0)
        if zoom == 1.0:
            return self.fitted()
        changed = replace(self, zoom=zoom)
        moved = changed.to_picture(about)
        return changed.shifted(fixed.x() - moved.x(), fixed.y() - moved.y())

    def panned(self, by: QPointF) -> ViewTransform:
        """Move the picture by widget px."""
        return self.shifted(-by.x() / self.scale, -by.y() / self.scale)

    def shifted(self, dx: float, dy: float) -> ViewTransform:
        """Move the middle by picture px, held inside the picture."""
        if self.zoom <= 1.0:
            return self.fitted()
        return replace(
            self,
            centre_x=min(max(self.centre_x + dx / self.picture_width, 0.0), 1.0),
            centre_y=min(max(self.centre_y + dy / self.picture_height, 0.0), 1.0),
        )


def held(value: float) -> float:
    """A fraction held in 0..1, to five decimals as recipes keep it."""
    return round(min(max(value, 0.0), 1.0), 5)


def distance_to(point: QPointF, a: QPointF, b: QPointF) -> float:
    """Distance of a point from the straight piece between two others, px."""
    along = b - a
    squared = along.x() ** 2 + along.y() ** 2
    t = 0.0 if squared == 0 else max(0.0, min(1.0, QPointF.dotProduct(point - a, along) / squared))
    return math.hypot(*(point - (a + along * t)).toTuple())
