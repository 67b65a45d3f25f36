"""Things that stand still: how long they stay detections, and ghosts that were never there.

When a parked object leaves, the background still holds it, and the place it left looks like a thing that
stands. Such a ghost has its edges in the background and not in the picture; it is dropped at once
(the idea of Cucchiara et al. 2003, "Detecting moving objects, ghosts, and shadows in video streams", decided
by edges instead of motion).
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.recipe import StillSettings

__all__ = ["StillWatch", "edge_strengths"]

GHOST_AGE = 0.8  # s: a thing must have stood this long to be looked at
STILL_CHANGE = 5.0  # grey levels: mean change of a thing that stands
CLEARLY = 4.0  # standard deviations of noise that an edge must have to be one
INWARD = (2, 4, 7)  # px from the rim
GHOST_EDGES = 0.6  # a ghost's edges are at most this share as strong in the picture as in the background


class StillWatch:
    """Counts for how many frames each pixel has been moving, and judges blobs by it."""

    def __init__(self, settings: StillSettings, size: tuple[int, int]) -> None:
        self.settings = settings
        width, height = size
        self._age = np.zeros((height, width), np.uint16)
        self._young = np.ones((height, (width + 63) // 64), np.bool_)
        self._before: list[tuple[float, NDArray[np.uint8]]] = []

    def look(self, moving: NDArray[np.uint64], grey: NDArray[np.uint8], time: float) -> None:
        """Take in a frame's cleaned mask and its picture."""
        grow_ages(moving, self._age, self._young)
        if not self._before or time - self._before[-1][0] >= 0.3:
            self._before = [*self._before[-1:], (time, grey.copy())]

    def settled(
        self,
        runs: NDArray[np.int16],
        run_count: NDArray[np.int64],
        grey: NDArray[np.uint8],
        background: NDArray[np.float32],
        interval: float,
        noise: float = 1.0,
    ) -> NDArray[np.bool_]:
        """Which blobs should join the background now: they stood for long enough, or they are ghosts.

        ``interval`` is the time between frames, s; ``noise`` that of the picture, levels.
        """
        start = np.concatenate([[0], np.cumsum(run_count)])
        out = np.zeros(len(run_count), np.bool_)
        if not self._before or len(out) == 0:
            return out
        soonest = min(GHOST_AGE, self.settings.keep_for) / max(interval, 1e-6)
        facts = stand_facts(runs, start, self._age, grey, self._before[0][1], soonest)
        seconds = facts[:, 0] * interval
        standing = facts[:, 1] < STILL_CHANGE
        out |= standing & (seconds >= self.settings.keep_for)
        if self.settings.drop_ghosts:
            for k in np.flatnonzero(standing & (seconds >= GHOST_AGE) & ~out).tolist():
                here, there = edge_strengths(runs[start[k] : start[k + 1]], grey, background)
                out[k] = here < GHOST_EDGES * there and there > CLEARLY * noise
        return out


@njit(cache=True, nogil=True)
def grow_ages(
    moving: NDArray[np.uint64], age: NDArray[np.uint16], young: NDArray[np.bool_]
) -> None:  # pragma: no cover
    """One frame older where it moves, 0 elsewhere; ``young`` (height, words) marks words whose ages are all 0."""
    height, width = age.shape
    for y in range(height):
        for w in range(moving.shape[1]):
            bits = moving[y, w]
            if bits == 0 and young[y, w]:
                continue
            first, past = w * 64, min(width, w * 64 + 64)
            young[y, w] = bits == 0
            if bits == 0:
                age[y, first:past] = 0
                continue
            for x in range(first, past):
                moves = np.uint32((bits >> np.uint64(x - first)) & np.uint64(1))
                age[y, x] = np.uint16(min(np.uint32(age[y, x]) + np.uint32(1), np.uint32(65535)) * moves)


@njit(cache=True, nogil=True)
def stand_facts(
    runs: NDArray[np.int16],
    start: NDArray[np.int64],
    age: NDArray[np.uint16],
    grey: NDArray[np.uint8],
    before: NDArray[np.uint8],
    least_age: float,
) -> NDArray[np.float64]:  # pragma: no cover
    """Per blob: mean age in frames, mean change from an earlier picture in grey levels.

    The change is only looked at where the age is at least ``least_age``, and infinite elsewhere.
    """
    out = np.zeros((start.shape[0] - 1, 2))
    for k in range(start.shape[0] - 1):
        old, changed, n = 0, 0, 0
        for r in range(start[k], start[k + 1]):
            y = runs[r, 0]
            n += runs[r, 2] - runs[r, 1]
            for x in range(runs[r, 1], runs[r, 2]):
                old += np.int64(age[y, x])
        n = max(1, n)
        out[k, 0], out[k, 1] = old / n, np.inf
        if out[k, 0] < least_age:
            continue
        for r in range(start[k], start[k + 1]):
            y = runs[r, 0]
            for x in range(runs[r, 1], runs[r, 2]):
                changed += abs(np.int64(grey[y, x]) - np.int64(before[y, x]))
        out[k, 1] = changed / n
    return out


@njit(cache=True, nogil=True)
def edge_strengths(
    runs: NDArray[np.int16], grey: NDArray[np.uint8], background: NDArray[np.float32]
) -> tuple[float, float]:  # pragma: no cover
    """Mean step across the left and right rim of a blob, in the picture and in the background, grey levels.

    The rim may lie a little outside the body, where it is only weakly seen: the largest of a few steps inward counts.
    """
    width = grey.shape[1]
    here, there, n = 0.0, 0.0, 0
    for r in range(runs.shape[0]):
        y = runs[r, 0]
        for end in range(2):
            outside = runs[r, 1] - 3 if end == 0 else runs[r, 2] + 2
            if outside < 0 or outside >= width:
                continue
            most_here, most_there = -1.0, -1.0
            for deep in INWARD:
                inside = runs[r, 1] + deep if end == 0 else runs[r, 2] - 1 - deep
                if inside < runs[r, 1] or inside >= runs[r, 2]:
                    continue
                most_here = max(most_here, abs(np.float64(grey[y, inside]) - np.float64(grey[y, outside])))
                most_there = max(
                    most_there, abs(np.float64(background[y, inside]) - np.float64(background[y, outside]))
                )
            if most_here >= 0:
                here += most_here
                there += most_there
                n += 1
    return here / max(1, n), there / max(1, n)
