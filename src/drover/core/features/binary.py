"""Descriptions of 256 bits: which of two places near a point is lighter, turned to the point's own direction.

Calonder et al. 2010, "BRIEF: Binary robust independent elementary features" (pairs drawn from a Gaussian, their layout
II); turned along as by Rublee et al. 2011, section 4.1.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.features.points import Points
from drover.core.features.pyramid import Grey, smoothed
from drover.core.features.scales import PATCH, by_rung, ladder

__all__ = ["BITS", "describe_binary"]

BITS = 256
RUNGS = 12
_reach = PATCH // 2 - 2
PAIRS = np.clip(np.random.default_rng(20).normal(0, PATCH / 5, (BITS, 4)), -_reach, _reach).astype(np.float32)


def describe_binary(grey: Grey, points: Points) -> NDArray[np.uint64]:
    """(n, 4) uint64, a description of each point of a picture (height, width) uint8."""
    out, steps = np.zeros((len(points), BITS // 64), np.uint64), ladder(grey, RUNGS)
    for rows, step, zoom in by_rung(points, steps):
        out[rows] = _compared(smoothed(step), points.place[rows] / zoom, points.turn[rows], PAIRS)
    return out


@njit(cache=True, nogil=True)
def _compared(
    grey: Grey, place: NDArray[np.float64], turn: NDArray[np.float64], pairs: NDArray[np.float32]
) -> NDArray[np.uint64]:  # pragma: no cover
    height, width = grey.shape
    out = np.zeros((len(place), len(pairs) // 64), np.uint64)
    for k in range(len(place)):
        c, s = np.cos(turn[k]), np.sin(turn[k])
        for b in range(len(pairs)):
            ax, ay, bx, by = pairs[b]
            x0 = min(max(int(np.floor(place[k, 0] + c * ax - s * ay)), 0), width - 1)
            y0 = min(max(int(np.floor(place[k, 1] + s * ax + c * ay)), 0), height - 1)
            x1 = min(max(int(np.floor(place[k, 0] + c * bx - s * by)), 0), width - 1)
            y1 = min(max(int(np.floor(place[k, 1] + s * bx + c * by)), 0), height - 1)
            if grey[y0, x0] < grey[y1, x1]:
                out[k, b // 64] |= np.uint64(1) << np.uint64(b % 64)
    return out
