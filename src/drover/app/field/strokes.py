"""Many lines over a picture: drawn by our own kernel, as the toolkit's takes most of a picture's time."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QImage, QPainter

from drover.app.images import pixels_of
from drover.core.strokes import draw_strokes

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
        self._lines: list[NDArray[np.float32]] = []
        self._pens: list[tuple[float, ...]] = []  # width, px drawn and left out, alpha, red, green, blue
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
        """One line through (n, 2) points, over those before it; all are drawn when done."""
        if len(points) < 2:
            return
        unit = max(1.0, width)
        drawn, left_out = _BROKEN[style]
        self._lines.append(points)
        self._pens.append((width, drawn * unit, left_out * unit, *_channels(tint.rgba())))

    def __enter__(self) -> Strokes:
        return self

    def __exit__(self, *_: object) -> None:
        if self._lines:
            pens = np.array(self._pens, np.float64)
            pens[:, :3] *= self._ratio
            points = np.concatenate(self._lines, dtype=np.float32) * np.float32(self._ratio)
            start = np.concatenate([[0], np.cumsum([len(line) for line in self._lines])]).astype(np.int64)
            width, broken, tint = (np.ascontiguousarray(part) for part in (pens[:, 0], pens[:, 1:3], pens[:, 3:]))
            draw_strokes(self._pixels, self._window, points, start, width, tint.astype(np.int64), broken)
        del self._pixels
        if self._layer is not None:
            self._painter.drawImage(0, 0, self._layer)


@lru_cache(maxsize=256)
def _channels(rgba: int) -> tuple[int, int, int, int]:
    """Alpha, red, green, blue of 0xAARRGGBB."""
    return rgba >> 24 & 255, rgba >> 16 & 255, rgba >> 8 & 255, rgba & 255
