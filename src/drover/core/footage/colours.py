"""Between a picture as it is drawn on and as it is stored: three bytes a pixel, four, and the planes of a video."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["fill_planes"]


@njit(cache=True, nogil=True)
def fill_planes(
    picture: NDArray[np.uint32], width: int, luma: NDArray[np.uint8], blue: NDArray[np.uint8], red: NDArray[np.uint8]
) -> None:  # pragma: no cover
    """A 32-bit picture into brightness and, at half size, both colour differences, in studio range.

    ITU-R BT.601, section 2.5, in whole numbers of 1/256; colour is the mean of four pixels.

    Parameters
    ----------
    picture : (≥ height, ≥ width) uint32, 0xAARRGGBB
    width : int, px, even
    luma : (height, ≥ width) uint8, an even number of rows; filled as far as ``width``
    blue, red : (height / 2, ≥ width / 2) uint8; filled
    """
    height = luma.shape[0]
    for y in range(height):
        for x in range(width):
            p = picture[y, x]
            b, g, r = np.int32(p & 255), np.int32((p >> 8) & 255), np.int32((p >> 16) & 255)
            luma[y, x] = np.uint8((66 * r + 129 * g + 25 * b + 4224) >> 8)
    for y in range(height // 2):
        for x in range(width // 2):
            p, q = picture[2 * y, 2 * x], picture[2 * y, 2 * x + 1]
            s, t = picture[2 * y + 1, 2 * x], picture[2 * y + 1, 2 * x + 1]
            b = np.int32((p & 255) + (q & 255) + (s & 255) + (t & 255))
            g = np.int32(((p >> 8) & 255) + ((q >> 8) & 255) + ((s >> 8) & 255) + ((t >> 8) & 255))
            r = np.int32(((p >> 16) & 255) + ((q >> 16) & 255) + ((s >> 16) & 255) + ((t >> 16) & 255))
            blue[y, x] = np.uint8((112 * b - 74 * g - 38 * r + 131584) >> 10)
            red[y, x] = np.uint8((112 * r - 94 * g - 18 * b + 131584) >> 10)
