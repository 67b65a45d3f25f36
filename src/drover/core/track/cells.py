"""Boxes put into the cells of a grid, so that what is near a place is found without looking at all of them."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["cells_between", "cells_touching", "into_cells", "largest_sides"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
MOST_ACROSS = 4096  # cells along a side, whatever the boxes


@njit(cache=True, nogil=True)
def into_cells(box: NDArray[np.floating]) -> tuple[Int, Int, Float, float, int, int]:  # pragma: no cover
    """Boxes (n, 4) in order of the cell that their middle lies in, row by row, about one to a cell.

    Returns
    -------
    order : (n,) int64, boxes cell by cell, those of one cell in their own order
    start : (cells + 1,) int64, first place in ``order`` of each cell
    corner : (2,) float64 px, the grid's; then the side of a cell px, columns and rows
    """
    n = box.shape[0]
    corner, far = np.zeros(2), np.zeros(2)
    for axis in range(2):
        if n > 0:
            corner[axis], far[axis] = np.inf, -np.inf
        for k in range(n):
            at = 0.5 * (np.float64(box[k, axis]) + np.float64(box[k, axis + 2]))
            corner[axis], far[axis] = min(corner[axis], at), max(far[axis], at)
    wide, tall = far[0] - corner[0], far[1] - corner[1]
    side = max(np.sqrt(wide * tall / max(n, 1)), max(wide, tall) / min(MOST_ACROSS, n + 1), 1e-6)
    columns, rows = int(wide / side) + 1, int(tall / side) + 1
    place = np.empty(n, np.int64)
    start = np.zeros(columns * rows + 1, np.int64)
    for k in range(n):
        x = 0.5 * (np.float64(box[k, 0]) + np.float64(box[k, 2]))
        y = 0.5 * (np.float64(box[k, 1]) + np.float64(box[k, 3]))
        place[k] = min(int((y - corner[1]) / side), rows - 1) * columns + min(int((x - corner[0]) / side), columns - 1)
        start[place[k] + 1] += 1
    for c in range(columns * rows):
        start[c + 1] += start[c]
    order, put = np.empty(n, np.int64), start[:-1].copy()
    for k in range(n):
        order[put[place[k]]] = k
        put[place[k]] += 1
    return order, start, corner, side, columns, rows


@njit(cache=True, nogil=True, inline="always")
def cells_between(
    middle: float, reach: float, corner: float, side: float, count: int
) -> tuple[int, int]:  # pragma: no cover
    """First cell and one past the last, along one axis, that may hold what is within ``reach`` px of ``middle``."""
    low, high = (middle - reach - corner) / side, (middle + reach - corner) / side
    if not (low < count and high >= 0.0):
        return 0, 0
    return int(max(low, 0.0)), int(min(high, count - 1.0)) + 1


@njit(cache=True, nogil=True)
def largest_sides(box: NDArray[np.floating]) -> tuple[float, float]:  # pragma: no cover
    """The largest width and the largest height (px) of some boxes (n, 4)."""
    wide, tall = 0.0, 0.0
    for k in range(box.shape[0]):
        wide = max(wide, np.float64(box[k, 2]) - np.float64(box[k, 0]))
        tall = max(tall, np.float64(box[k, 3]) - np.float64(box[k, 1]))
    return wide, tall


@njit(cache=True, nogil=True)
def cells_touching(
    box: NDArray[np.floating], k: int, widest: tuple[float, float], corner: Float, side: float, columns: int, rows: int
) -> tuple[int, int, int, int]:  # pragma: no cover
    """Cells that may hold what touches box ``k``: first column, one past the last, first row, one past the last.

    ``widest`` are the sides (px) of the largest box in the cells, see :func:`largest_sides`.
    """
    x, wide = 0.5 * (np.float64(box[k, 0]) + np.float64(box[k, 2])), np.float64(box[k, 2]) - np.float64(box[k, 0])
    y, tall = 0.5 * (np.float64(box[k, 1]) + np.float64(box[k, 3])), np.float64(box[k, 3]) - np.float64(box[k, 1])
    left, right = cells_between(x, 0.5 * (wide + widest[0]), corner[0], side, columns)
    top, bottom = cells_between(y, 0.5 * (tall + widest[1]), corner[1], side, rows)
    return left, right, top, bottom
