"""Of each pixel's samples the shortest half: where the ground lies, and how much it jitters; rows of pixels at once."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.kernel_parts import sort_stack

__all__ = ["middle_of", "shortest_halves"]

HALF_NORMAL = 0.6745  # half width of the middle half of a normal distribution, in standard deviations
SHRINKS = 0.9  # of the shortest half, which is shorter than the middle one by chance
QUANTILE, AT_QUANTILE = 0.8, 1.28  # share of distances, and where it lies for a normal distribution
APART = 4.0  # standard deviations between two faces of a pixel
LEAST_SHARE = 0.15  # of the samples that a second face has
ACROSS = 256  # pixels that are worked on together: their samples stay near at hand

Float32 = NDArray[np.float32]


@njit(cache=True, nogil=True)
def middle_of(shots: NDArray[np.uint8]) -> Float32:  # pragma: no cover
    """The median of an odd number of pictures (n, height, width), (height, width) float32."""
    n, height, width = shots.shape
    out = np.empty((height, width), np.float32)
    row = np.empty((n, width), np.float32)
    for y in range(height):
        for k in range(n):
            row[k] = shots[k, y]
        sort_stack(row)
        out[y] = row[n // 2]
    return out


@njit(cache=True, nogil=True)
def shortest_halves(
    shots: NDArray[np.uint8],
    factor: Float32,
    zero: np.float32,
    least: float,
    middle: Float32,
    sigma: Float32,
    tail: Float32,
    first_row: int,
    past_row: int,
) -> None:  # pragma: no cover
    """Mean and width of the shortest half of each pixel's samples, and the quantile of their distances, for some rows.

    ``factor`` (n,) brings each picture to one light, about the level ``zero``; ``least`` is the smallest noise, levels.
    """
    n, width = shots.shape[0], shots.shape[2]
    for y in range(first_row, past_row):
        for x in range(0, width, ACROSS):
            past = min(x + ACROSS, width)
            seen = np.empty((n, past - x), np.float32)
            for k in range(n):
                _lit(shots[k, y, x:past], factor[k], zero, seen[k])
            _describe(seen, np.float32(least), middle[y, x:past], sigma[y, x:past], tail[y, x:past])


@njit(cache=True, nogil=True, fastmath=True)
def _lit(now: NDArray[np.uint8], factor: np.float32, zero: np.float32, out: Float32) -> None:  # pragma: no cover
    for x in range(now.shape[0]):
        out[x] = (np.float32(now[x]) - zero) * factor + zero


@njit(cache=True, nogil=True)
def _describe(
    seen: Float32, least: np.float32, middle: Float32, sigma: Float32, tail: Float32
) -> None:  # pragma: no cover
    """The three figures of pixels side by side; ``seen`` (n, pixels) is in order of time."""
    n, across = seen.shape
    values = seen.copy()
    sort_stack(values)
    many = np.zeros(across, np.int32)
    _halves(values, middle, sigma)
    _outside(values, middle, sigma, least, many)
    _quantiles(values, middle, tail)
    enough = max(4, int(LEAST_SHARE * n))
    for x in range(across):
        if many[x] >= enough:
            mean, spread, other, wide = longest_seen(values[:, x], seen[:, x], middle[x], sigma[x], least)
            middle[x], sigma[x] = mean, spread
            tail[x] = _quantile_without(values[:, x], mean, other, wide, spread)


@njit(cache=True, nogil=True, fastmath=True)
def _halves(values: Float32, middle: Float32, sigma: Float32) -> None:  # pragma: no cover
    """Mean and noise of the shortest half of rising values, each column on its own."""
    n, across = values.shape
    half = n // 2 + 1
    total, best = np.zeros(across, np.float32), np.full(across, np.float32(1e9))
    for k in range(half):
        row = values[k]
        for x in range(across):
            total[x] += row[x]
    for k in range(n - half + 1):
        first, last = values[k], values[k + half - 1]
        for x in range(across):
            shorter = last[x] - first[x] < best[x]
            best[x] = min(best[x], last[x] - first[x])
            middle[x] = total[x] if shorter else middle[x]
        if k + half < n:
            past = values[k + half]
            for x in range(across):
                total[x] += past[x] - first[x]
    for x in range(across):
        middle[x] /= np.float32(half)
        sigma[x] = np.float32(SHRINKS * 0.5 / HALF_NORMAL) * best[x]


@njit(cache=True, nogil=True, fastmath=True)
def _outside(
    values: Float32, middle: Float32, sigma: Float32, least: np.float32, many: NDArray[np.int32]
) -> None:  # pragma: no cover
    """How many values lie far below the middle or far above it, whichever is more."""
    n, across = values.shape
    below = np.zeros(across, np.int32)
    for k in range(n):
        row = values[k]
        for x in range(across):
            reach = np.float32(APART) * max(sigma[x], least)
            below[x] += np.int32(row[x] < middle[x] - reach)
            many[x] += np.int32(row[x] > middle[x] + reach)
    for x in range(across):
        many[x] = max(many[x], below[x])


@njit(cache=True, nogil=True, fastmath=True)
def _quantiles(values: Float32, middle: Float32, tail: Float32) -> None:  # pragma: no cover
    """The quantile of the distances from the middle: of rising values the nearest ones lie side by side."""
    n, across = values.shape
    last = int(QUANTILE * (n - 1) + 0.5)
    tail[:] = np.float32(1e9)
    for k in range(n - last):
        low, high = values[k], values[k + last]
        for x in range(across):
            tail[x] = min(tail[x], max(middle[x] - low[x], high[x] - middle[x]))
    for x in range(across):
        tail[x] /= np.float32(AT_QUANTILE)


@njit(cache=True, nogil=True)
def _quantile_without(
    values: Float32, mean: np.float32, other: np.float32, wide: np.float32, spread: np.float32
) -> np.float32:  # pragma: no cover
    """The same of one pixel, without its other face: whoever stood there for a while is no restlessness."""
    away = np.empty(values.shape[0], np.float32)
    m = 0
    for k in range(values.shape[0]):
        if abs(values[k] - other) > wide:
            away[m] = abs(values[k] - mean)
            m += 1
    if m == 0:
        return spread
    away[:m].sort()
    return away[min(int(QUANTILE * (m - 1) + 0.5), m - 1)] / np.float32(AT_QUANTILE)


@njit(cache=True, nogil=True)
def shortest_half(values: Float32, first: int, past: int) -> tuple[np.float32, np.float32]:  # pragma: no cover
    """Mean of the shortest half of rising values from ``first`` to ``past``, and the noise that its width tells."""
    half = (past - first) // 2 + 1
    best, width = first, np.float32(1e9)
    for k in range(first, past - half + 1):
        if values[k + half - 1] - values[k] < width:
            best, width = k, values[k + half - 1] - values[k]
    total = np.float32(0.0)
    for k in range(best, best + half):
        total += values[k]
    return total / np.float32(half), np.float32(SHRINKS * 0.5 / HALF_NORMAL) * width


@njit(cache=True, nogil=True)
def longest_seen(
    values: Float32, seen: Float32, mean: np.float32, spread: np.float32, least: np.float32
) -> tuple[np.float32, np.float32, np.float32, np.float32]:  # pragma: no cover
    """Of two faces that a pixel has the one seen over the longer time: mean and noise; and where the other one lies.

    The other is given by its level and its half width, which is below 0 where there is none.

    Whatever stands somewhere for a while is seen in one stretch; the ground is seen before it and after. ``values``
    (n,) rise; ``seen`` (n,) are the same in order of time.
    """
    n = values.shape[0]
    reach = APART * max(spread, least)
    low, high = 0, n
    while low < n and values[low] < mean - reach:
        low += 1
    while high > 0 and values[high - 1] > mean + reach:
        high -= 1
    # The other face lies below or above, whichever has more.
    first, past = (0, low) if low >= n - high else (high, n)
    count = past - first
    if count < max(4, int(LEAST_SHARE * n)):
        return mean, spread, mean, np.float32(-1.0)
    other, noise = shortest_half(values, first, past)
    if noise > APART * max(spread, least):
        return mean, spread, mean, np.float32(-1.0)
    spans = np.zeros(2, np.int64)
    for face in range(2):
        at, wide = (mean, reach) if face == 0 else (other, APART * max(noise, least))
        begins, ends = n, -1
        for k in range(n):
            if abs(seen[k] - at) <= wide:
                begins, ends = min(begins, k), max(ends, k)
        spans[face] = ends - begins
    if spans[1] > spans[0] + 1:
        return other, noise, mean, np.float32(reach)
    return mean, spread, other, np.float32(APART * max(noise, least))
