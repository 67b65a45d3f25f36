"""A picture in ever smaller sizes, each half of the one before: means of two by two pixels."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["Grey", "halve", "pyramid", "resized", "smoothed"]

Grey = NDArray[np.uint8]
LEAST = 24  # px a side under which a picture is not halved again


def pyramid(grey: Grey, levels: int) -> list[Grey]:
    """The picture (height, width) uint8 and up to ``levels`` - 1 halves of it.

    A point (x, y) of the picture lies at (x / 2, y / 2) of its half: coordinates begin at the corner of a pixel.
    """
    out = [np.ascontiguousarray(grey)]
    while len(out) < levels and min(out[-1].shape) >= 2 * LEAST:
        out.append(halve(out[-1]))
    return out


@njit(cache=True, nogil=True)
def halve(grey: Grey) -> Grey:  # pragma: no cover
    """Means of two by two, (height / 2, width / 2) uint8; an odd last row or column is left out."""
    rows, columns = grey.shape[0] // 2, grey.shape[1] // 2
    out = np.empty((rows, columns), np.uint8)
    sums = np.empty(2 * columns, np.uint16)
    for r in range(rows):
        top, low = grey[2 * r], grey[2 * r + 1]
        for x in range(2 * columns):
            sums[x] = np.uint16(top[x]) + np.uint16(low[x])
        row = out[r]
        for c in range(columns):
            row[c] = np.uint8((sums[2 * c] + sums[2 * c + 1] + np.uint16(2)) >> np.uint16(2))
    return out


@njit(cache=True, nogil=True)
def resized(grey: Grey, rows: int, columns: int) -> Grey:  # pragma: no cover
    """The picture in another size (rows, columns), between its pixels in straight lines."""
    height, width = grey.shape
    out = np.empty((rows, columns), np.uint8)
    for r in range(rows):
        y = min(max((r + 0.5) * height / rows - 0.5, 0.0), height - 1.0)
        y0 = min(int(y), max(height - 2, 0))
        y1, fy = min(y0 + 1, height - 1), np.float32(y - y0)
        for c in range(columns):
            x = min(max((c + 0.5) * width / columns - 0.5, 0.0), width - 1.0)
            x0 = min(int(x), max(width - 2, 0))
            x1, fx = min(x0 + 1, width - 1), np.float32(x - x0)
            top = grey[y0, x0] + fx * (np.float32(grey[y0, x1]) - np.float32(grey[y0, x0]))
            low = grey[y1, x0] + fx * (np.float32(grey[y1, x1]) - np.float32(grey[y1, x0]))
            out[r, c] = np.uint8(top + fy * (low - top) + np.float32(0.5))
    return out


@njit(cache=True, nogil=True)
def smoothed(grey: Grey) -> Grey:  # pragma: no cover
    """Means of five by five, (height, width) uint8; beyond the rim the rim goes on."""
    height, width = grey.shape
    out = np.empty((height, width), np.uint8)
    down = np.empty(width, np.int32)
    for y in range(height):
        down[:] = 0
        for v in range(y - 2, y + 3):
            row = grey[min(max(v, 0), height - 1)]
            for x in range(width):
                down[x] += np.int32(row[x])
        for x in range(width):
            if 2 <= x < width - 2:
                total = down[x - 2] + down[x - 1] + down[x] + down[x + 1] + down[x + 2]
            else:
                total = np.int32(0)
                for u in range(x - 2, x + 3):
                    total += down[min(max(u, 0), width - 1)]
            out[y, x] = np.uint8((total + 12) // 25)
    return out
