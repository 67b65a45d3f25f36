"""Small pieces that several kernels are made of."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["longer", "read_only", "root_of", "slope", "sort_stack"]


def read_only(column: NDArray[Any]) -> NDArray[Any]:
    """A view that cannot be written: of the one kind that a kernel was compiled for beforehand, wherever it is from."""
    view = column.view()
    view.flags.writeable = False
    return view


@njit(cache=True, nogil=True)
def longer(column: Any, room: int) -> Any:  # pragma: no cover
    """A column, of whatever kind and width, with more room."""
    out = np.empty((room, *column.shape[1:]), column.dtype)
    out[: column.shape[0]] = column
    return out


@njit(cache=True, nogil=True)
def root_of(parent: NDArray[np.int64], k: int) -> int:  # pragma: no cover
    """The head of the set that ``k`` is in, paths halved on the way (disjoint sets, Tarjan and van Leeuwen 1984)."""
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k


@njit(cache=True, nogil=True)
def slope(times: NDArray[np.float64], values: NDArray[np.float64]) -> float:  # pragma: no cover
    """Least squares slope of values (n,) over times (n,); 0 where all are of one time."""
    n = times.shape[0]
    t0, x0 = 0.0, 0.0
    for k in range(n):
        t0 += times[k] / n
        x0 += values[k] / n
    over, under = 0.0, 0.0
    for k in range(n):
        over += (times[k] - t0) * (values[k] - x0)
        under += (times[k] - t0) * (times[k] - t0)
    return over / under if under > 0 else 0.0


@njit(cache=True, nogil=True)
def sort_stack(stack: NDArray[np.float32]) -> None:  # pragma: no cover
    """Sort every column of (n, m) float32 upward, in place.

    Merge exchange (Batcher 1968, "Sorting networks and their applications"; Knuth, volume 3, algorithm 5.2.2 M): what
    is compared does not depend on the values, so that each step takes whole rows at once.
    """
    n = stack.shape[0]
    top = 1
    while 2 * top < n:
        top *= 2
    p = top if n > 1 else 0
    while p > 0:
        q, r, apart = top, 0, p
        while True:
            for i in range(n - apart):
                if i & p == r:
                    _in_order(stack[i], stack[i + apart])
            if q == p:
                break
            apart, q, r = q - p, q // 2, p
        p //= 2


@njit(cache=True, nogil=True, fastmath=True)
def _in_order(low: NDArray[np.float32], high: NDArray[np.float32]) -> None:  # pragma: no cover
    """The smaller of each pair into the first row, the larger into the second."""
    for x in range(low.shape[0]):
        a, b = low[x], high[x]
        low[x], high[x] = min(a, b), max(a, b)
