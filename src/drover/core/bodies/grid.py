"""The grid on which pictures of a body are laid over each other: cells that keep their place on it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["CELL", "GRID", "REACH", "Laid", "away", "cell_middles", "enough_known", "line_at"]

Float = NDArray[np.float64]
Mask = NDArray[np.bool_]
GRID = 40  # cells each way
REACH = 1.5  # bodies that are looked at each way from the middle of what is seen
AWAY = 1.0  # bodies from that middle, beyond which the ground is
CELL = 2 * REACH / GRID
LEAST_LOOKS, LEAST_KNOWN = 4, 0.4  # pictures, and share of them, in which a cell is free of others
LEAST_GROUND = 80  # cells of ground, to measure by


@dataclass(frozen=True)
class Laid:
    """Pictures laid over each other so that a body keeps its place.

    ``looks`` (n, planes, GRID, GRID) float32 are differences from the empty scene in multiples of its noise,
    ``light`` (n, GRID, GRID) float32 is how bright each cell is, 1 as in that scene, and ``free`` (n, GRID, GRID) says
    where nothing else is followed.
    """

    looks: NDArray[np.float32]
    light: NDArray[np.float32]
    free: Mask


def cell_middles() -> Float:
    """Where the middles of the cells lie from the middle of what is seen, in bodies, (GRID,)."""
    return ((np.arange(GRID) + 0.5) / GRID * 2 - 1) * REACH


def line_at(place: float) -> int:
    """The line between cells nearest to a place."""
    return min(max(round((place + REACH) / CELL), 0), GRID)


def away() -> Mask:
    """The cells (GRID, GRID) that are too far from the middle to be of the body."""
    off = np.abs(cell_middles())
    return np.maximum(off[:, None], off[None, :]) > AWAY


def enough_known(free: Mask) -> Mask:
    """The cells that were free of others in enough pictures; none where too few of the ground are.

    ``free`` (n, GRID, GRID) says in which picture each was.
    """
    known = free.sum(axis=0) >= max(LEAST_LOOKS, LEAST_KNOWN * len(free))
    return known if (known & away()).sum() >= LEAST_GROUND else np.zeros_like(known)
