"""Arrays to pictures Qt can draw."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QColor, QImage

__all__ = ["grey_image", "mask_image", "pixels_of", "rgb_image"]


def rgb_image(rgb: NDArray[np.uint8]) -> QImage:
    """(height, width, 3) uint8 to an image of its own memory."""
    height, width = rgb.shape[:2]
    held = np.ascontiguousarray(rgb)
    image = QImage(held.data, width, height, 3 * width, QImage.Format.Format_RGB888)
    return image.convertToFormat(QImage.Format.Format_RGB32)


def pixels_of(image: QImage) -> NDArray[np.uint32]:
    """(height, width) uint32 of 0xAARRGGBB, of a 32-bit picture; a view, to be let go of before the picture is."""
    words = np.frombuffer(image.bits(), np.uint32).reshape(image.height(), image.bytesPerLine() // 4)
    return words[:, : image.width()]


def grey_image(grey: NDArray[np.uint8]) -> QImage:
    """(height, width) uint8 to an image of its own memory."""
    height, width = grey.shape
    held = np.ascontiguousarray(grey)
    return QImage(held.data, width, height, width, QImage.Format.Format_Grayscale8).convertToFormat(
        QImage.Format.Format_RGB32
    )


def mask_image(mask: NDArray[np.uint8], on: str, alpha: int = 255, *, off: str | None = None) -> QImage:
    """(height, width) of 0 and 1 to a tinted image; clear where 0 unless ``off`` is given."""
    height, width = mask.shape
    held = np.ascontiguousarray(mask)
    image = QImage(held.data, width, height, width, QImage.Format.Format_Indexed8)
    tint = QColor(on)
    tint.setAlpha(alpha)
    clear = QColor(off) if off else QColor(0, 0, 0, 0)
    image.setColorTable([clear.rgba(), tint.rgba()])
    return image.convertToFormat(QImage.Format.Format_ARGB32_Premultiplied)
