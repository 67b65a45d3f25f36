"""Who is nearest to somebody in a frame, found from the left and right rather than among everybody."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.both_cores import in_halves_from
from drover.core.types import Tracks

__all__ = ["Across", "Beside", "find_beside", "row_in_frame"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
NEARBY = 1.5  # sizes in which another is a rival
MANY = 64  # frames from which two threads put them in order


class Across(NamedTuple):
    """The rows of each frame from left to right.

    ``order`` (rows,) int64 the rows themselves; ``facts`` (rows, 4) float64 px the middle and the usual size of each;
    ``widest`` (frames,) float64 px the widest usual size, -1 where a frame was not put in order yet.
    """

    order: Int
    facts: Float
    widest: Float


class Beside:
    """The frames of a result put in order across, each when it is first asked for: most never are."""

    def __init__(self, tracks: Tracks, usual: Float, path_of_row: Int) -> None:
        self._tracks, self._usual, self._path_of_row = tracks, usual, path_of_row
        rows, frames = len(tracks), tracks.frame_count
        self._across = Across(np.empty(rows, np.int64), np.empty((rows, 4)), np.full(frames, -1.0))

    def across(self, frames: Int) -> Across:
        """The rows from left to right, in order at least in these frames (n,)."""
        wanted = np.zeros(self._tracks.frame_count, np.bool_)
        wanted[frames] = True
        new = np.flatnonzero(wanted & (self._across.widest < 0))
        in_halves_from(
            MANY, put_in_order, len(new), new, self._tracks.frame_start, self._tracks.box, self._usual,
            self._path_of_row, self._across,
        )  # fmt: skip
        return self._across


@njit(cache=True, nogil=True)
def put_in_order(
    frames: Int, frame_start: Int, box: NDArray[np.float32], usual: Float, path_of_row: Int, across: Across, begin: int,
    past: int,
) -> None:  # pragma: no cover  # fmt: skip
    """Fill in the frames from ``begin`` to ``past`` of those asked for, in place."""
    for f in range(begin, past):
        low, high = frame_start[frames[f]], frame_start[frames[f] + 1]
        x, wide = np.empty(high - low), 0.0
        for r in range(low, high):
            x[r - low] = 0.5 * (np.float64(box[r, 0]) + np.float64(box[r, 2]))
            wide = max(wide, usual[path_of_row[r], 0])
        by = np.argsort(x)
        for k in range(high - low):
            r = low + by[k]
            across.order[low + k], across.facts[low + k, 0] = r, x[by[k]]
            across.facts[low + k, 1] = 0.5 * (np.float64(box[r, 1]) + np.float64(box[r, 3]))
            across.facts[low + k, 2], across.facts[low + k, 3] = usual[path_of_row[r], 0], usual[path_of_row[r], 1]
        across.widest[frames[f]] = wide


@njit(cache=True, nogil=True)
def row_in_frame(frame: int, one: int, start: Int, row: Int, frame_of: Int) -> int:  # pragma: no cover
    """The row of a path in a frame, -1 for none."""
    low, high = start[one], start[one + 1]
    guess = low + frame - frame_of[row[low]]  # right wherever the path has no hole
    if guess < low:
        return -1
    if guess < high and frame_of[row[guess]] == frame:
        return int(row[guess])
    high = min(high, guess)
    while low < high:
        half = (low + high) // 2
        if frame_of[row[half]] < frame:
            low = half + 1
        else:
            high = half
    return int(row[low]) if low < start[one + 1] and frame_of[row[low]] == frame else -1


@njit(cache=True, nogil=True)
def find_beside(
    frame: int, one: int, frame_start: Int, start: Int, row: Int, frame_of: Int, box: NDArray[np.float32], usual: Float,
    path_of_row: Int, across: Across,
) -> int:  # pragma: no cover  # fmt: skip
    """The path nearest to another in a frame, within reach, in their mean sizes; -1 for none.

    ``across`` has this frame in order.
    """
    mine = row_in_frame(frame, one, start, row, frame_of)
    if mine < 0:
        return -1
    facts = across.facts
    x = 0.5 * (np.float64(box[mine, 0]) + np.float64(box[mine, 2]))
    y = 0.5 * (np.float64(box[mine, 1]) + np.float64(box[mine, 3]))
    own_wide, own_tall = usual[one, 0], usual[one, 1]
    first, past = frame_start[frame], frame_start[frame + 1]
    at, end = first, past
    while at < end:
        half = (at + end) // 2
        if facts[half, 0] < x:
            at = half + 1
        else:
            end = half
    far = 0.5 * (own_wide + across.widest[frame])  # no pair of this one is wider
    best, least = past, NEARBY
    for way in (-1, 1):
        k = at if way > 0 else at - 1
        while first <= k < past and abs(facts[k, 0] - x) <= least * far:  # and who is just as far
            wide, tall = 0.5 * (own_wide + facts[k, 2]), 0.5 * (own_tall + facts[k, 3])
            away = max(abs(facts[k, 0] - x) / wide, abs(facts[k, 1] - y) / tall)
            r = across.order[k]
            if r != mine and (away < least or (away == least and r < best < past)):
                best, least = r, away
            k += way
    return int(path_of_row[best]) if best < past else -1
