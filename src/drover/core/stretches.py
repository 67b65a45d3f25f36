"""Stretches of true: where something begins to hold and where it ends."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["stretches"]


def stretches(holds: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """First place and one past the last of every unbroken stretch of true."""
    edge = np.diff(np.concatenate([[0], np.asarray(holds, np.int8), [0]]))
    return np.flatnonzero(edge == 1), np.flatnonzero(edge == -1)
