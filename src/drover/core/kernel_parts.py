"""Small pieces that several kernels are made of."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["longer", "root_of"]


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
