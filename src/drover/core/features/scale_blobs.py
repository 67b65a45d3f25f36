"""Blobs of any size: places that are lighter or darker than what surrounds them.

Extremes of the difference of Gaussians in place and scale (Lowe 2004, "Distinctive image features from scale-invariant
keypoints", sections 3 and 4), edges left out by the ratio of their curvatures (his section 4.1).
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy import ndimage

from drover.core.features.points import Points
from drover.core.features.pyramid import Grey

__all__ = ["scale_blobs"]

EACH = 3  # scales to a doubling
FIRST = 1.6  # px, the blur of the first
EDGE = 10.0  # ratio of curvatures from which a place is an edge
LEAST = 2.0  # levels that a blob must differ
ACROSS = 8.0  # blurs that a blob's patch is across
LEAST_SIDE = 24

Float32 = NDArray[np.float32]


def scale_blobs(grey: Grey, *, most: int = 4000) -> Points:
    """The strongest blobs of a picture (height, width) uint8, at most ``most``, without direction."""
    found = []
    picture = ndimage.gaussian_filter(grey.astype(np.float32), np.sqrt(FIRST**2 - 0.5**2), truncate=3.0)
    zoom = 1.0
    while min(picture.shape) >= LEAST_SIDE:
        blurred = [picture]
        for k in range(1, EACH + 3):
            before, now = (FIRST * 2 ** (j / EACH) for j in (k - 1, k))
            blurred.append(ndimage.gaussian_filter(blurred[-1], np.sqrt(now**2 - before**2), truncate=3.0))
        steps = np.stack([after - before for before, after in zip(blurred[:-1], blurred[1:], strict=True)])
        rows = _extremes(steps.astype(np.float32), np.float32(LEAST), EDGE)
        size = ACROSS * FIRST * 2 ** (rows[:, 2] / EACH) * zoom
        found.append(np.column_stack([rows[:, :2] * zoom, rows[:, 3], size]))
        picture, zoom = np.ascontiguousarray(blurred[EACH][::2, ::2]), 2 * zoom
    table = np.concatenate(found) if found else np.zeros((0, 4))
    table = table[np.argsort(-table[:, 2], kind="stable")[:most]]
    return Points(table[:, :2].copy(), table[:, 2].copy(), table[:, 3].copy(), np.zeros(len(table)))


@njit(cache=True, nogil=True)
def _extremes(steps: Float32, least: np.float32, edge: float) -> NDArray[np.float64]:  # pragma: no cover
    """Extremes of (scales, height, width): x, y px, scale, strength, (n, 4)."""
    scales, height, width = steps.shape
    out = np.empty((1024, 4), np.float64)
    count = 0
    for s in range(1, scales - 1):
        for y in range(2, height - 2):
            for x in range(2, width - 2):
                value = steps[s, y, x]
                if abs(value) < least or not _is_extreme(steps, s, y, x, value):
                    continue
                xx = steps[s, y, x + 1] + steps[s, y, x - 1] - 2 * value
                yy = steps[s, y + 1, x] + steps[s, y - 1, x] - 2 * value
                xy = 0.25 * (
                    steps[s, y + 1, x + 1] - steps[s, y + 1, x - 1] - steps[s, y - 1, x + 1] + steps[s, y - 1, x - 1]
                )
                whole = xx * yy - xy * xy
                if whole <= 0 or (xx + yy) ** 2 * edge >= (edge + 1) ** 2 * whole:
                    continue
                if count == len(out):
                    more = np.empty((2 * count, 4), np.float64)
                    more[:count] = out
                    out = more
                ss = steps[s + 1, y, x] + steps[s - 1, y, x] - 2 * value
                out[count, 0] = x + 0.5 - _slope(steps[s, y, x - 1], steps[s, y, x + 1], xx)
                out[count, 1] = y + 0.5 - _slope(steps[s, y - 1, x], steps[s, y + 1, x], yy)
                out[count, 2] = s - _slope(steps[s - 1, y, x], steps[s + 1, y, x], ss)
                out[count, 3] = abs(value)
                count += 1
    return out[:count]


@njit(cache=True, nogil=True)
def _slope(low: float, high: float, bend: float) -> float:  # pragma: no cover
    """How far before a sample the extreme lies, -0.5..0.5."""
    return min(max(0.5 * (high - low) / bend, -0.5), 0.5) if bend != 0 else 0.0


@njit(cache=True, nogil=True)
def _is_extreme(steps: Float32, s: int, y: int, x: int, value: np.float32) -> bool:  # pragma: no cover
    """Whether none of the 26 neighbours lies as far to the same side."""
    sign = np.float32(1.0) if value > 0 else np.float32(-1.0)
    for k in range(s - 1, s + 2):
        for v in range(y - 1, y + 2):
            for u in range(x - 1, x + 2):
                if sign * steps[k, v, u] >= sign * value and not (k == s and v == y and u == x):
                    return False
    return True
