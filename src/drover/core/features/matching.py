"""Descriptions of two pictures held against each other: which point of one is which of the other.

A pair is kept where it is clearly nearer than the next best (ratio test, Lowe 2004, section 7.1) and where each is the
other's nearest.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["match"]

FARTHEST_BITS = 80  # of 256, from which two descriptions have nothing to do with each other
FARTHEST = 0.9  # distance of two of length one, likewise


def match(
    a: NDArray[np.uint64] | NDArray[np.float32],
    b: NDArray[np.uint64] | NDArray[np.float32],
    *,
    ratio: float = 0.85,
    mutual: bool = True,
) -> NDArray[np.int64]:
    """Rows of ``a`` and of ``b`` that belong together, (k, 2) int64, by rising row of ``a``.

    Both are binary (n, 4) uint64 or both (n, 128) float32. ``ratio`` is how much nearer than the second nearest a pair
    must be; 1 takes every nearest one.
    """
    if not len(a) or not len(b):
        return np.zeros((0, 2), np.int64)
    binary = a.dtype == np.uint64
    apart = _bits_apart(a, b) if binary else _lengths_apart(a, b)
    farthest = FARTHEST_BITS if binary else FARTHEST
    nearest, rows = apart.argmin(axis=1), np.arange(len(a))
    best = apart[rows, nearest]
    keeps = best <= farthest
    if len(b) > 1:
        second = np.partition(apart, 1, axis=1)[:, 1]
        keeps &= best <= ratio * second
    if mutual:
        keeps &= apart.argmin(axis=0)[nearest] == rows
    return np.column_stack([rows[keeps], nearest[keeps]]).astype(np.int64)


def _lengths_apart(a: NDArray, b: NDArray) -> NDArray[np.float32]:
    """Distances (n, m) of descriptions of length one."""
    return np.sqrt(np.maximum(2.0 - 2.0 * (a @ b.T), 0.0)).astype(np.float32)


@njit(cache=True, nogil=True)
def _bits_apart(a: NDArray, b: NDArray) -> NDArray[np.float32]:  # pragma: no cover
    """Bits (n, m) in which descriptions differ, counted as in Warren 2003, "Hacker's delight", chapter 5."""
    out = np.empty((len(a), len(b)), np.float32)
    one, two = np.uint64(0x5555555555555555), np.uint64(0x3333333333333333)
    four, all_ = np.uint64(0x0F0F0F0F0F0F0F0F), np.uint64(0x0101010101010101)
    for i in range(len(a)):
        for j in range(len(b)):
            total = np.uint64(0)
            for k in range(a.shape[1]):
                v = a[i, k] ^ b[j, k]
                v = v - ((v >> np.uint64(1)) & one)
                v = (v & two) + ((v >> np.uint64(2)) & two)
                v = (v + (v >> np.uint64(4))) & four
                total += (v * all_) >> np.uint64(56)
            out[i, j] = np.float32(total)
    return out
