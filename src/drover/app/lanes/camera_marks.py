"""What the camera did, along the top of the lanes: covered, held, another view."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPen

from drover.app.theme import CLAY, INK, OCHRE, colour
from drover.core.camera.motion import CameraMotion, FrameState

__all__ = ["paint_camera"]

TALL = 4.0  # px


def paint_camera(painter: QPainter, motion: CameraMotion, x_of: Callable[[float], float], height: float) -> None:
    """A bar where something large hides the ground, hatched where the motion cannot be told, a line at another view."""
    for state, tint, pattern in (
        (FrameState.COVERED, OCHRE, Qt.BrushStyle.SolidPattern), (FrameState.HELD, CLAY, Qt.BrushStyle.BDiagPattern),
    ):  # fmt: skip
        edges = np.flatnonzero(np.diff(np.concatenate([[0], (motion.state == state).astype(np.int8), [0]])))
        painter.setPen(QPen(colour(tint, 255), 0.8))
        painter.setBrush(QBrush(QColor(tint), pattern))
        for first, past in edges.reshape(-1, 2).tolist():
            left = x_of(first)
            painter.drawRect(QRectF(left, 0.5, max(2.0, x_of(past) - left), TALL))
    painter.setPen(QPen(QColor(INK), 1.2, Qt.PenStyle.DashLine))
    for cut in motion.cuts:
        painter.drawLine(QPointF(x_of(cut), 0), QPointF(x_of(cut), height))
