"""The direction of a point: from it to the centre of brightness round it.

Rosin 1999, "Measuring corner properties"; used for descriptions that turn along by Rublee et al. 2011, "ORB: an
efficient alternative to SIFT or SURF", section 3.2.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["turns_of"]

RADIUS = 15  # px


@njit(cache=True, nogil=True)
def turns_of(grey: NDArray[np.uint8], place: NDArray[np.float64]) -> NDArray[np.float64]:  # pragma: no cover
    """Directions (n,) rad, from -pi to pi, of points (n, 2) px; beyond the rim the rim goes on."""
    height, width = grey.shape
    out = np.zeros(len(place), np.float64)
    for k in range(len(place)):
        cx, cy = int(np.floor(place[k, 0])), int(np.floor(place[k, 1]))
        right, down = 0, 0
        for dy in range(-RADIUS, RADIUS + 1):
            half = int(np.sqrt(RADIUS * RADIUS - dy * dy))
            y = min(max(cy + dy, 0), height - 1)
            row_sum, row_moment = 0, 0
            for dx in range(-half, half + 1):
                value = int(grey[y, min(max(cx + dx, 0), width - 1)])
                row_sum += value
                row_moment += dx * value
            right += row_moment
            down += dy * row_sum
        out[k] = np.arctan2(float(down), float(right))
    return out
