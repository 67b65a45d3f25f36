"""The view of a picture in coordinates of the scene: what stands on the ground moves as the camera does."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF

from drover.app.field.view_transform import ViewTransform
from drover.core.features.models import apply, inverse

__all__ = ["GroundView", "view_on"]

FARTHEST = 4.0  # frames beyond the first picture that a point may lie


@dataclass(frozen=True)
class GroundView(ViewTransform):
    """Maps the scene's px to widget px; ``to_scene`` (3, 3), row by row, is that of the picture shown."""

    to_scene: tuple[float, ...] = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)

    @property
    def _matrix(self) -> NDArray[np.float64]:
        return np.array(self.to_scene).reshape(3, 3)

    def to_widget(self, x: float, y: float) -> QPointF:
        """Widget position of a point of the scene."""
        there = apply(inverse(self._matrix), np.array([[x, y]]))[0]
        return super().to_widget(float(there[0]), float(there[1]))

    def to_picture(self, point: QPointF) -> QPointF:
        """Point of the scene under a widget position."""
        at = super().to_picture(point)
        there = apply(self._matrix, np.array([[at.x(), at.y()]]))[0]
        return QPointF(float(there[0]), float(there[1]))

    def held(self, value: float) -> float:
        """A fraction within reach: the scene goes on beyond the first picture."""
        return round(min(max(value, -FARTHEST), 1 + FARTHEST), 5)


def view_on(view: ViewTransform, to_scene: NDArray[np.float64] | None, fixed_to: str) -> ViewTransform:
    """The view that a thing fixed to the picture or to the scene is shown in."""
    if to_scene is None or fixed_to != "scene":
        return view
    same = {part.name: getattr(view, part.name) for part in fields(ViewTransform)}
    return GroundView(**same, to_scene=tuple(float(value) for value in to_scene.ravel()))
