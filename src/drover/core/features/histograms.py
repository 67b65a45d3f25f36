"""Descriptions of 128 numbers: how gradients lie in four by four cells round a point, turned to its own direction.

Lowe 2004, section 6: weights that fall off from the point, each gradient shared between neighbouring cells and
directions, the whole of length one, no number over 0.2.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.features.points import Points
from drover.core.features.pyramid import Grey, smoothed
from drover.core.features.scales import by_rung, ladder

__all__ = ["describe_gradients"]

RUNGS = 12
CELLS, WAYS = 4, 8
ACROSS = 20  # samples across the patch
APART = 1.25  # px of a rung between them
MOST = 0.2

Float32 = NDArray[np.float32]


def describe_gradients(grey: Grey, points: Points) -> Float32:
    """(n, 128) float32 of length one, a description of each point of a picture (height, width) uint8."""
    out, steps = np.zeros((len(points), CELLS * CELLS * WAYS), np.float32), ladder(grey, RUNGS)
    for rows, step, zoom in by_rung(points, steps):
        out[rows] = _gathered(smoothed(step), points.place[rows] / zoom, points.turn[rows])
    return out


@njit(cache=True, nogil=True)
def _gathered(grey: Grey, place: NDArray[np.float64], turn: NDArray[np.float64]) -> Float32:  # pragma: no cover
    height, width = grey.shape
    out = np.zeros((len(place), CELLS * CELLS * WAYS), np.float32)
    middle = (ACROSS - 1) / 2.0
    for k in range(len(place)):
        c, s = np.cos(turn[k]), np.sin(turn[k])
        for i in range(ACROSS):
            for j in range(ACROSS):
                u, v = (j - middle) * APART, (i - middle) * APART
                x = min(max(int(np.floor(place[k, 0] + c * u - s * v)), 1), width - 2)
                y = min(max(int(np.floor(place[k, 1] + s * u + c * v)), 1), height - 2)
                dx = float(grey[y, x + 1]) - float(grey[y, x - 1])
                dy = float(grey[y + 1, x]) - float(grey[y - 1, x])
                strength = np.sqrt(dx * dx + dy * dy)
                if strength == 0:
                    continue
                way = ((np.arctan2(dy, dx) - turn[k]) / (2 * np.pi) * WAYS) % WAYS
                fall = ((i - middle) ** 2 + (j - middle) ** 2) / (2 * (ACROSS / 2.0) ** 2)
                _share(out[k], i, j, way, strength * np.exp(-fall))
        _evened(out[k])
    return out


@njit(cache=True, nogil=True)
def _share(row: Float32, i: int, j: int, way: float, value: float) -> None:  # pragma: no cover
    """Add to the two by two cells and two directions nearest to a sample."""
    across = (j + 0.5) / ACROSS * CELLS - 0.5
    down = (i + 0.5) / ACROSS * CELLS - 0.5
    x0, y0, w0 = int(np.floor(across)), int(np.floor(down)), int(way)
    fx, fy, fw = across - x0, down - y0, way - w0
    for b in range(2):
        y = y0 + b
        if y < 0 or y >= CELLS:
            continue
        for a in range(2):
            x = x0 + a
            if x < 0 or x >= CELLS:
                continue
            part = value * (fx if a else 1 - fx) * (fy if b else 1 - fy)
            base = (y * CELLS + x) * WAYS
            row[base + w0 % WAYS] += part * (1 - fw)
            row[base + (w0 + 1) % WAYS] += part * fw


@njit(cache=True, nogil=True)
def _evened(row: Float32) -> None:  # pragma: no cover
    """Bring a description to length one with no number over ``MOST``, in place."""
    for _ in range(2):
        length = np.sqrt((row.astype(np.float64) ** 2).sum())
        if length == 0:
            return
        for k in range(len(row)):
            row[k] = min(row[k] / length, MOST)
    length = np.sqrt((row.astype(np.float64) ** 2).sum())
    for k in range(len(row)):
        row[k] /= length
