"""How far coding shows as blocks: steps between neighbours are larger where one block ends and the next begins.

After Wang, Bovik and Evans 2000, "Blind measurement of blocking artifacts in images": there a spectrum of the steps,
here their mean on the edges of blocks against that of the columns beside them.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["BLOCK", "block_strength"]

BLOCK = 8  # px: what block coders transform at once
ROWS = 3  # every third row says enough
LARGEST = 24  # levels from which a step is an edge of the scene


def block_strength(greys: NDArray[np.uint8]) -> float:
    """By what share steps on the edges of blocks are larger than beside them; ``greys`` (n, height, width).

    0 where nothing can be said. Both ways are looked at, and the weaker counts: a fence is striped one way only.
    """
    return max(0.0, min(_along(greys), _along(np.swapaxes(greys, 1, 2))))


def _along(greys: NDArray[np.uint8]) -> float:
    if greys.shape[2] < 4 * BLOCK:
        return 0.0
    step = np.abs(np.diff(greys[:, ::ROWS].astype(np.int16), axis=2))
    step = np.where(step < LARGEST, step, 0).mean(axis=(0, 1), dtype=np.float64)
    edge = np.arange(BLOCK - 1, len(step) - BLOCK // 2, BLOCK)
    # Beside an edge lie the middles of blocks: smoothing after coding reaches a few px from the edge.
    beside = 0.5 * (step[edge - BLOCK // 2] + step[edge + BLOCK // 2])
    return float(step[edge].mean() / max(float(beside.mean()), 1e-6) - 1.0)
