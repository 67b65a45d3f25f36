"""An identity on one side of a moment: its place, speed, size and look, and how well two sides go together."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["LOOKS", "WORST", "cost_of", "side_of"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
AROUND = 0.5  # s before and after from which place, speed and look are taken
MOST_ROWS = 16
LOOKS = 32
WORST = 4.0  # of any cost


@njit(cache=True, nogil=True)
def side_of(
    out: Float, p: int, frame: int, way: int, start: Int, row: Int, frame_of: Int, seen: NDArray[np.bool_],
    box: NDArray[np.float32], detection: NDArray[np.int32], usual: Float, times: Float, look: NDArray[np.uint8],
) -> bool:  # pragma: no cover  # fmt: skip
    """Time, place, speed (least squares), size and look of a path on one side of a frame; whether there is one."""
    out[:] = 0.0
    rows = np.empty(MOST_ROWS, np.int64)
    n = 0
    low, high = start[p], start[p + 1]
    while low < high:  # the first place at or after the frame
        middle = (low + high) // 2
        if frame_of[row[middle]] < frame:
            low = middle + 1
        else:
            high = middle
    k = low if way > 0 else low - 1
    if way < 0 and low < start[p + 1] and frame_of[row[low]] == frame:
        k = low
    nearest = -1.0
    while start[p] <= k < start[p + 1] and n < MOST_ROWS:
        r = row[k]
        k += way
        if not seen[r]:
            continue
        if nearest < 0:
            nearest = times[frame_of[r]]
        if abs(times[frame_of[r]] - nearest) > AROUND:
            break
        rows[n] = r
        n += 1
    if n == 0:
        return False
    t0 = 0.0
    for k in range(n):
        t0 += times[frame_of[rows[k]]] / n
    under = 0.0
    for k in range(n):
        under += (times[frame_of[rows[k]]] - t0) ** 2
    for axis in range(2):
        mean, over = 0.0, 0.0
        for k in range(n):
            mean += 0.5 * (np.float64(box[rows[k], axis]) + np.float64(box[rows[k], axis + 2])) / n
        for k in range(n):
            middle = 0.5 * (np.float64(box[rows[k], axis]) + np.float64(box[rows[k], axis + 2]))
            over += (times[frame_of[rows[k]]] - t0) * (middle - mean)
        speed = over / under if under > 0 and n > 2 else 0.0
        out[1 + axis] = mean + speed * (nearest - t0)
        out[3 + axis] = speed
        sides = np.empty(n)
        for k in range(n):
            sides[k] = np.float64(box[rows[k], axis + 2]) - np.float64(box[rows[k], axis])
        out[5 + axis] = max(np.median(sides), 1.0)
    out[0] = nearest
    for k in range(n):
        d = detection[rows[k]]
        if 0 <= d < look.shape[0]:
            for c in range(LOOKS):
                out[7 + c] += look[d, c]
    return True


@njit(cache=True, nogil=True)
def cost_of(what: int, before: Float, after: Float) -> float:  # pragma: no cover
    """How badly two sides go together: place (0), speed (1), look (2), size (3)."""
    gap = max(after[0] - before[0], 0.0)
    if what == 0:
        away = 0.0
        for axis in range(2):
            size = 0.5 * (before[5 + axis] + after[5 + axis])
            forecast = before[1 + axis] + 0.5 * (before[3 + axis] + after[3 + axis]) * gap
            away += ((after[1 + axis] - forecast) / (size * (0.3 + 0.7 * gap))) ** 2
        return min(np.log1p(np.sqrt(away)), WORST)
    if what == 1:
        change = 0.0
        for axis in range(2):
            size = 0.5 * (before[5 + axis] + after[5 + axis])
            change += ((after[3 + axis] - before[3 + axis]) / (size * (1.0 + gap))) ** 2
        return min(np.log1p(np.sqrt(change)), WORST)
    if what == 2:
        ab = aa = bb = 0.0
        for c in range(7, 7 + LOOKS):
            ab, aa, bb = ab + before[c] * after[c], aa + before[c] * before[c], bb + after[c] * after[c]
        return 0.0 if aa == 0 or bb == 0 else min(4.0 * (1.0 - ab / np.sqrt(aa * bb)), WORST)
    ratio = 0.0
    for axis in range(2):
        ratio += abs(np.log(after[5 + axis] / before[5 + axis]))
    return min(ratio, WORST)
