"""Pixel loops of a moving camera: a large painted view looked at through a motion, and flat pictures laid into it."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["lay_flat", "look_through", "owners_through"]

Float = NDArray[np.float64]


@njit(cache=True, nogil=True)
def _weights(f: float, out: NDArray[np.float32]) -> None:  # pragma: no cover
    """Of the four pixels round a place, by cubic convolution (Keys 1981, "Cubic convolution interpolation", eq. 15)."""
    out[0] = 0.5 * (-f + 2 * f * f - f * f * f)
    out[1] = 0.5 * (2 - 5 * f * f + 3 * f * f * f)
    out[2] = 0.5 * (f + 4 * f * f - 3 * f * f * f)
    out[3] = 0.5 * (f * f * f - f * f)


@njit(cache=True, nogil=True)
def _mirrored(place: int, count: int) -> int:  # pragma: no cover
    """A place that lies beyond the rim, as if the rim were a mirror."""
    if place < 0:
        place = -1 - place
    if place >= count:
        place = 2 * count - 1 - place
    return min(max(place, 0), count - 1)


@njit(cache=True, nogil=True, fastmath=True)
def look_through(
    large: NDArray[np.uint8], back: Float, noise: NDArray[np.int8], noise_x: int, noise_y: int, out: NDArray[np.uint8]
) -> None:  # pragma: no cover
    """The picture (height, width, 3) of a large view, whose px ``back`` (3, 3) gives for those of the picture.

    ``noise`` in tenths of a level is laid over it from a place on; beyond its rim the large view goes on mirrored.
    """
    rows, columns = large.shape[:2]
    wx, wy = np.empty(4, np.float32), np.empty(4, np.float32)
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            u, v = x + 0.5, y + 0.5
            last = back[2, 0] * u + back[2, 1] * v + back[2, 2]
            px = (back[0, 0] * u + back[0, 1] * v + back[0, 2]) / last - 0.5
            py = (back[1, 0] * u + back[1, 1] * v + back[1, 2]) / last - 0.5
            x0, y0 = int(np.floor(px)), int(np.floor(py))
            _weights(px - x0, wx)
            _weights(py - y0, wy)
            grain = noise[(y + noise_y) % noise.shape[0], (x + noise_x) % noise.shape[1]] * np.float32(0.1)
            for c in range(3):
                total = np.float32(0)
                for i in range(4):
                    row = _mirrored(y0 - 1 + i, rows)
                    for j in range(4):
                        total += wy[i] * wx[j] * large[row, _mirrored(x0 - 1 + j, columns), c]
                out[y, x, c] = np.uint8(min(max(total + grain + np.float32(0.5), 0.0), 255.0))


@njit(cache=True, nogil=True)
def owners_through(owner: NDArray[np.int32], back: Float, out: NDArray[np.int32]) -> None:  # pragma: no cover
    """Whose each pixel of the picture is, likewise; nobody's beyond the large view."""
    rows, columns = owner.shape
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            u, v = x + 0.5, y + 0.5
            last = back[2, 0] * u + back[2, 1] * v + back[2, 2]
            col = int(np.floor((back[0, 0] * u + back[0, 1] * v + back[0, 2]) / last))
            row = int(np.floor((back[1, 0] * u + back[1, 1] * v + back[1, 2]) / last))
            out[y, x] = owner[row, col] if 0 <= row < rows and 0 <= col < columns else 0


@njit(cache=True, nogil=True)
def lay_flat(
    picture: NDArray[np.float32],
    owner: NDArray[np.int32],
    flat: NDArray[np.float32],
    back: Float,
    who: int,
    area: NDArray[np.int64],
) -> None:  # pragma: no cover
    """Lay a flat picture (rows, columns, 3) into a view, whose px ``back`` (3, 3) gives for those of the view.

    ``area`` is the box of the view, x1, y1, x2, y2, in which it may lie. Its pixels become ``who``'s.
    """
    rows, columns = flat.shape[:2]
    for y in range(max(area[1], 0), min(area[3], picture.shape[0])):
        for x in range(max(area[0], 0), min(area[2], picture.shape[1])):
            u, v = x + 0.5, y + 0.5
            last = back[2, 0] * u + back[2, 1] * v + back[2, 2]
            px = (back[0, 0] * u + back[0, 1] * v + back[0, 2]) / last
            py = (back[1, 0] * u + back[1, 1] * v + back[1, 2]) / last
            if not (0 <= px < columns and 0 <= py < rows):
                continue
            gx, gy = min(max(px - 0.5, 0.0), columns - 1.001), min(max(py - 0.5, 0.0), rows - 1.001)
            x0, y0 = int(gx), int(gy)
            fx, fy = gx - x0, gy - y0
            for c in range(3):
                top = flat[y0, x0, c] * (1 - fx) + flat[y0, x0 + 1, c] * fx
                low = flat[y0 + 1, x0, c] * (1 - fx) + flat[y0 + 1, x0 + 1, c] * fx
                picture[y, x, c] = top * (1 - fy) + low * fy
            owner[y, x] = who
