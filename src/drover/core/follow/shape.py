"""What the outline of a thing may look like from elsewhere."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["shapely"]

SLANT = 6.0  # times that a side of the outline may be longer than the one across it


def shapely(outline: NDArray[np.float64], own: NDArray[np.float64]) -> bool:
    """Whether an outline (4, 2) can be that of a thing: it goes round as its own does, no side out of all measure."""
    edges = np.diff(outline, axis=0, append=outline[:1])
    nexts = np.roll(edges, -1, axis=0)
    turns = edges[:, 0] * nexts[:, 1] - edges[:, 1] * nexts[:, 0]
    lengths = np.maximum(np.hypot(*edges.T), 1e-6)
    ratio = lengths / np.maximum(np.hypot(*np.diff(own, axis=0, append=own[:1]).T), 1e-6)
    return bool((turns > 0).all() and ratio.max() / ratio.min() < SLANT)
