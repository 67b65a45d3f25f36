"""Many lines over a picture: drawn by our own kernel, as the toolkit's takes most of a picture's time."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QImage, QPainter

from drover.app.images import pixels_of
from drover.core.strokes import draw_stroke

__all__ = ["Strokes"]

_WHOLE = (QImage.Format.Format_RGB32, QImage.Format.Format_ARGB32_Premultiplied)
_BROKEN = {Qt.PenStyle.SolidLine: (0.0, 0.0), Qt.PenStyle.DashLine: (4.0, 3.0), Qt.PenStyle.DotLine: (1.0, 2.0)}


class Strokes:
    """Lines in widget px onto what a painter paints on: into its picture where it is one, else over it when ``done``.

    Use it in a ``with`` block; lines are cut at the painter's clip.
    """

    def __init__(self, painter: QPainter) -> None:
        self._painter, device = painter, painter.device()
        self._ratio = device.devicePixelRatioF()
        self._layer: QImage | None = None
        if isinstance(device, QImage) and device.format() in _WHOLE:
            image = device
        else:
            size = device.width(), device.height()
            if not isinstance(device, QImage):
                size = round(size[0] * self._ratio), round(size[1] * self._ratio)
            image = self._layer = QImage(*size, QImage.Format.Format_ARGB32_Premultiplied)
            image.fill(0)
            image.setDevicePixelRatio(self._ratio)
        self._pixels = pixels_of(image)
        clip = painter.clipBoundingRect() if painter.hasClipping() else None
        edges = (0.0, 0.0, 1e6, 1e6) if clip is None else (clip.left(), clip.top(), clip.right(), clip.bottom())
        self._window = np.round(np.array(edges) * self._ratio).astype(np.int64)

    def draw(
        self,
        points: NDArray[np.float32],
        tint: QColor,
        width: float,
        style: Qt.PenStyle = Qt.PenStyle.SolidLine,
    ) -> None:
        """One line through (n, 2) points."""
        if len(points) < 2:
            return
        unit = max(1.0, width) * self._ratio
        drawn, left_out = _BROKEN[style]
        draw_stroke(
            self._pixels, self._window, np.ascontiguousarray(points * np.float32(self._ratio), np.float32),
            width * self._ratio,
            np.array([tint.alpha(), tint.red(), tint.green(), tint.blue()]), (drawn * unit, left_out * unit),
        )  # fmt: skip

    def __enter__(self) -> Strokes:
        return self

    def __exit__(self, *_: object) -> None:
        del self._pixels
        if self._layer is not None:
            self._painter.drawImage(0, 0, self._layer)
