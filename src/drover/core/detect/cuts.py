"""Cuts of an edited film: a picture that has nothing in common with the one before it.

What is compared is how light and dark lie in the picture, without what varies slowly over it: the correlation of small
means less their neighbourhood (normalised cross-correlation; Lewis 1995, "Fast normalized cross-correlation", eq. 1).
Light that changes leaves it as it is, and so do things that move, unless they fill most of the picture.
"""

from __future__ import annotations

from collections import deque

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["CutWatch", "glance", "likeness", "one_shot", "shot_times"]

SKIP, POOL = 4, 4  # every fourth pixel both ways, and the mean of four by four of those
AROUND = 5  # of those means that are taken for the neighbourhood
AT_MOST = 1.5  # times what is usual that a place may differ from its neighbourhood
SAME = 0.5  # likeness of two pictures in a row, under which there may be a cut
FALLS = 0.3  # and by how much it must be less than it usually is: noise alone has no likeness at all
LATELY = 25  # pictures by which that is judged
FLAT = 0.2  # of the contrast of the picture before, under which a picture shows nothing: a blackout is no cut
OF_ONE_SHOT = 0.2  # likeness of pictures of one shot that are some time apart, at best with one of
BACK = 4  # pictures before
BETWEEN_SHOTS = 3600.0  # s: longer than anything may stay unseen

Float32 = NDArray[np.float32]


@njit(cache=True, nogil=True)
def glance(grey: NDArray[np.uint8]) -> Float32:  # pragma: no cover
    """What is compared of a picture (height, width) uint8: (height / 16, width / 16) float32 levels."""
    means = _small_means(grey)
    rows, columns = means.shape
    half, out = AROUND // 2, np.empty((rows, columns), np.float32)
    down = np.empty(columns, np.float32)
    for r in range(rows):
        down[:] = 0
        for v in range(r - half, r + half + 1):
            row = means[min(max(v, 0), rows - 1)]
            for c in range(columns):
                down[c] += row[c]
        for c in range(columns):
            total = np.float32(0.0)
            for u in range(c - half, c + half + 1):
                total += down[min(max(u, 0), columns - 1)]
            out[r, c] = means[r, c] - total / np.float32(AROUND * AROUND)
    return out


@njit(cache=True, nogil=True)
def _small_means(grey: NDArray[np.uint8]) -> Float32:  # pragma: no cover
    """Means of four by four of every fourth pixel both ways, (height / 16, width / 16)."""
    side = SKIP * POOL
    height, width = grey.shape
    rows, columns = max(1, height // side), max(1, width // side)
    means, sums = np.empty((rows, columns), np.float32), np.empty(columns, np.int32)
    for r in range(rows):
        sums[:] = 0
        for y in range(r * side, min(r * side + side, height), SKIP):
            row = grey[y]
            for c in range(columns):
                for x in range(c * side, min(c * side + side, width), SKIP):
                    sums[c] += np.int32(row[x])
        for c in range(columns):
            means[r, c] = np.float32(sums[c]) / np.float32(POOL * POOL)
    return means


def likeness(one: Float32, other: Float32) -> float:
    """Correlation of two glances, -1..1; 0 where either shows nothing. No single thing counts for the whole picture."""
    return float((_evened(one) * _evened(other)).sum())


@njit(cache=True, nogil=True)
def _evened(look: Float32) -> Float32:  # pragma: no cover
    """A glance with no place further off than is usual, and of length one; all zero where it shows nothing."""
    most = np.float32(AT_MOST) * np.float32(np.median(np.abs(look)))
    out = np.minimum(np.maximum(look, -most), most)
    length = np.sqrt((out.astype(np.float64) ** 2).sum())
    return (out / length).astype(np.float32) if length > 0 else np.zeros_like(look)


@njit(cache=True, nogil=True)
def _contrast(look: Float32) -> float:  # pragma: no cover
    """Standard deviation of a glance."""
    return float(look.std())


def one_shot(greys: list[NDArray[np.uint8]]) -> NDArray[np.bool_]:
    """Which of some pictures, in order of time, are of the same shot as the first one; those of nothing are not."""
    keeps = np.zeros(len(greys), np.bool_)
    kept: list[Float32] = []
    for k, grey in enumerate(greys):
        now = glance(grey)
        shows = not kept or now.std() > FLAT * kept[-1].std()
        if not kept or (shows and max(likeness(now, one) for one in kept[-BACK:]) >= OF_ONE_SHOT):
            keeps[k] = True
            kept.append(now)
    return keeps


def shot_times(times: NDArray[np.float64], cuts: tuple[int, ...]) -> NDArray[np.float64]:
    """Times of the frames, s, with so long between two shots that nothing goes on from one to the other."""
    if not cuts:
        return times
    shot = np.zeros(len(times), np.int64)
    shot[[cut for cut in cuts if cut < len(times)]] = 1
    return times + BETWEEN_SHOTS * np.cumsum(shot)


class CutWatch:
    """Looks at picture after picture and says where another shot begins."""

    def __init__(self) -> None:
        self._before: Float32 | None = None
        self._contrast = 0.0
        self._lately: deque[float] = deque(maxlen=LATELY)

    def is_cut(self, grey: NDArray[np.uint8]) -> bool:
        """Whether this picture begins another shot."""
        look = glance(grey)
        contrast, before = _contrast(look), self._before
        if before is not None and contrast <= FLAT * self._contrast:
            return False
        now = self._before = _evened(look)
        self._contrast = contrast
        if before is None:
            return False
        alike = float(np.vdot(now, before))
        cut = alike < SAME and len(self._lately) > 0 and alike < float(np.median(self._lately)) - FALLS
        if cut:
            self._lately.clear()
        else:
            self._lately.append(alike)
        return cut
