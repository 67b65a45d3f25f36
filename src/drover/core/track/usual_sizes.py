"""How like the sure objects of a clip each track is in size: what is faint, yet as large as a body is there, is one.

Leaves, waves and noise are of any size; bodies of one kind are not. Widths and heights of those that are objects
beyond doubt are fitted over the level of their feet, in logarithms, by least absolute values (weights made anew in each
round; Schlossmacher 1973, "An iterative technique for absolute deviations curve fitting"). Where sure objects of one
place are of many sizes, sizes say nothing.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["likeness"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
LEAST_SURE = 3  # objects beyond doubt
UNLIKE = 1.0  # summed log ratio of width and height from which nothing is alike
MIXED = 0.7  # summed spread of those that are sure, from which sizes say nothing
ON_THE_LINE = 2  # of those that are sure lie on it because it was fitted to them
ROUNDS = 20
CLOSE = 0.05  # log ratio off the line under which nothing weighs more


def likeness(
    start: Int, row: Int, box: NDArray[np.float32], seen: NDArray[np.bool_], sure: NDArray[np.bool_]
) -> Float | None:
    """Of each path how like the sure ones of its place it is in size, (paths,) 0 to 1; None where they do not tell.

    ``start`` and ``row`` say which rows each path has, ``box`` (rows, 4) px, ``seen`` (rows,) which were not coasting,
    ``sure`` (paths,) which paths are objects beyond doubt.
    """
    if np.count_nonzero(sure) < LEAST_SURE:
        return None
    sides, foot, rows = usual_sides(start, row, box, seen)
    unlike, spread = np.zeros(len(foot)), 0.0
    for side in sides:
        off = np.abs(np.log(side) - _line(foot[sure], np.log(side[sure]), rows[sure], foot))
        unlike += off
        spread += float(np.median(np.sort(off[sure])[ON_THE_LINE:]))
    return np.maximum(1.0 - unlike / UNLIKE, 0.0) if spread <= MIXED else None


def _line(x: Float, y: Float, weight: Float, at: Float) -> Float:
    """The straight line through y over x with least absolute distances, at other places."""
    columns, each = np.column_stack([np.ones_like(x), x]), weight.copy()
    line = np.zeros(2)
    for _ in range(ROUNDS):
        weighted = columns * each[:, None]
        line = np.linalg.solve(weighted.T @ columns + 1e-6 * np.eye(2), weighted.T @ y)
        each = weight / np.maximum(np.abs(y - columns @ line), CLOSE)
    return line[0] + line[1] * at


@njit(cache=True, nogil=True)
def usual_sides(
    start: Int, row: Int, box: NDArray[np.float32], seen: NDArray[np.bool_]
) -> tuple[Float, Float, Float]:  # pragma: no cover
    """Median width and height (2, paths) and foot (paths,) px of the seen rows of each path, and how many they are."""
    n = start.shape[0] - 1
    sides, foot, count = np.ones((2, n)), np.zeros(n), np.zeros(n)
    for p in range(n):
        rows = row[start[p] : start[p + 1]]
        rows = rows[seen[rows]]
        if rows.shape[0] == 0:
            continue
        for axis in range(2):
            sides[axis, p] = max(np.median(box[rows, axis + 2] - box[rows, axis]), 1.0)
        foot[p], count[p] = np.median(box[rows, 3]), rows.shape[0]
    return sides, foot, count
