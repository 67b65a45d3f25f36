"""Who is nearest to somebody in a frame, found from the left and right rather than among everybody."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["find_beside", "in_order_across"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
NEARBY = 1.5  # sizes in which another is a rival


@njit(cache=True, nogil=True)
def in_order_across(frame_start: Int, rows: int) -> tuple[Int, Float, Float]:  # pragma: no cover
    """Room for the rows of each frame from left to right, their middles, and the widest of each frame; -1 for none.

    A frame is put in order when it is first asked for: most never are.
    """
    return np.empty(rows, np.int64), np.empty(rows), np.full(frame_start.shape[0] - 1, -1.0)


@njit(cache=True, nogil=True)
def _put_in_order(
    frame: int, frame_start: Int, box: NDArray[np.float32], usual: Float, path_of_row: Int, order: Int, middle: Float,
    widest: Float,
) -> None:  # pragma: no cover  # fmt: skip
    low, high = frame_start[frame], frame_start[frame + 1]
    x, wide = np.empty(high - low), 0.0
    for r in range(low, high):
        x[r - low] = 0.5 * (np.float64(box[r, 0]) + np.float64(box[r, 2]))
        wide = max(wide, usual[path_of_row[r], 0])
    by = np.argsort(x)
    for k in range(high - low):
        order[low + k], middle[low + k] = low + by[k], x[by[k]]
    widest[frame] = wide


@njit(cache=True, nogil=True)
def find_beside(
    frame: int, one: int, frame_start: Int, start: Int, row: Int, frame_of: Int, box: NDArray[np.float32], usual: Float,
    path_of_row: Int, order: Int, middle: Float, widest: Float,
) -> int:  # pragma: no cover  # fmt: skip
    """The path nearest to another in a frame, within reach, in their mean sizes; -1 for none.

    ``order``, ``middle`` and ``widest`` are those of :func:`in_order_across`, filled on the way.
    """
    low, high = start[one], start[one + 1]
    while low < high:
        half = (low + high) // 2
        if frame_of[row[half]] < frame:
            low = half + 1
        else:
            high = half
    if low == start[one + 1] or frame_of[row[low]] != frame:
        return -1
    if widest[frame] < 0:
        _put_in_order(frame, frame_start, box, usual, path_of_row, order, middle, widest)
    mine = row[low]
    x = 0.5 * (np.float64(box[mine, 0]) + np.float64(box[mine, 2]))
    y = 0.5 * (np.float64(box[mine, 1]) + np.float64(box[mine, 3]))
    first, past = frame_start[frame], frame_start[frame + 1]
    at, end = first, past
    while at < end:
        half = (at + end) // 2
        if middle[half] < x:
            at = half + 1
        else:
            end = half
    far = 0.5 * (usual[one, 0] + widest[frame])  # no pair of this one is wider
    best, least, least_row = -1, NEARBY, past
    for way in (-1, 1):
        k = at if way > 0 else at - 1
        while first <= k < past and abs(middle[k] - x) < least * far:
            r = order[k]
            across = abs(middle[k] - x)
            k += way
            if r == mine:
                continue
            other = path_of_row[r]
            wide = 0.5 * (usual[one, 0] + usual[other, 0])
            if across > least * wide:
                continue
            down = abs(0.5 * (np.float64(box[r, 1]) + np.float64(box[r, 3])) - y)
            tall = 0.5 * (usual[one, 1] + usual[other, 1])
            away = max(across / wide, down / tall)
            if away < least or (away == least and best >= 0 and r < least_row):
                best, least, least_row = other, away, r
    return int(best)
