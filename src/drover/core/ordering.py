"""Stable orders of whole numbers by counting, which tables of many rows need again and again."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["order_by", "order_of"]

HALF = 16  # bits that NumPy sorts by counting instead of comparing


def order_of(values: NDArray[np.integer]) -> NDArray[np.int64]:
    """What puts whole numbers (n,) in rising order, equal ones as they stand; (n,) int64.

    By halves of 16 bits, the low ones first (radix sort; Knuth, volume 3, 5.2.5): several times as fast as comparing.
    """
    if len(values) == 0:
        return np.zeros(0, np.int64)
    least, most = int(values.min()), int(values.max())
    if most - least >= 1 << (2 * HALF):
        return np.argsort(values, kind="stable")
    plain = (values.astype(np.int64) - least).astype(np.uint32)
    order = np.argsort(plain.astype(np.uint16), kind="stable")
    if most - least >= 1 << HALF:
        order = order[np.argsort((plain[order] >> HALF).astype(np.uint16), kind="stable")]
    return order


def order_by(*keys: NDArray[np.integer]) -> NDArray[np.int64]:
    """The order by the first of some whole numbers (n,), then by the second where those are equal, and so on."""
    order = order_of(keys[-1])
    for key in keys[-2::-1]:
        order = order[order_of(key[order])]
    return order
