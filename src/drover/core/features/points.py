"""Points of a picture that can be found again, and how they are chosen: the strongest, spread over the picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["Points", "join_points", "no_points", "peaks", "spread"]

Float = NDArray[np.float64]
Float32 = NDArray[np.float32]


@dataclass(frozen=True)
class Points:
    """``place`` (n, 2) float64 x, y px; ``strength`` (n,); ``size`` (n,) px across; ``turn`` (n,) rad, 0 along x."""

    place: Float
    strength: Float
    size: Float
    turn: Float

    def __len__(self) -> int:
        return len(self.place)

    def take(self, rows: NDArray[np.int64] | NDArray[np.bool_]) -> Points:
        """Only some of them, in the order given."""
        return Points(self.place[rows], self.strength[rows], self.size[rows], self.turn[rows])


def no_points() -> Points:
    """None at all."""
    return Points(np.zeros((0, 2)), np.zeros(0), np.zeros(0), np.zeros(0))


def join_points(parts: list[Points]) -> Points:
    """All of several sets."""
    if not parts:
        return no_points()
    return Points(
        np.concatenate([part.place for part in parts]),
        np.concatenate([part.strength for part in parts]),
        np.concatenate([part.size for part in parts]),
        np.concatenate([part.turn for part in parts]),
    )


def spread(points: Points, size: tuple[int, int], most: int, cells: tuple[int, int] = (16, 9)) -> Points:
    """At most ``most`` of the points: the strongest of each cell of the picture, turn by turn.

    So what is rich in detail does not take all the points from what has little.
    """
    if len(points) <= most:
        return points
    cell = np.clip((points.place / size * cells).astype(np.int64), 0, np.array(cells) - 1)
    number = cell[:, 1] * cells[0] + cell[:, 0]
    order = np.lexsort((-points.strength, number))
    first = np.searchsorted(number[order], number[order], side="left")
    rank = np.arange(len(order)) - first
    chosen = order[np.lexsort((-points.strength[order], rank))[:most]]
    return points.take(np.sort(chosen))


@njit(cache=True, nogil=True)
def peaks(strength: Float32, least: float, rim: int) -> Float:  # pragma: no cover
    """Places (n, 3) of a map (height, width) that are stronger than all around them and than ``least``: x, y, strength.

    x and y px to a fraction, by a parabola through the place and its neighbours; ``rim`` px at the edge are left out.
    """
    height, width = strength.shape
    out = np.empty((1024, 3), np.float64)
    count = 0
    for y in range(max(rim, 1), height - max(rim, 1)):
        above, row, below = strength[y - 1], strength[y], strength[y + 1]
        for x in range(max(rim, 1), width - max(rim, 1)):
            value = row[x]
            if value < least or value <= row[x - 1] or value < row[x + 1]:
                continue
            if value <= above[x - 1] or value <= above[x] or value <= above[x + 1]:
                continue
            if value < below[x - 1] or value < below[x] or value < below[x + 1]:
                continue
            if count == len(out):
                more = np.empty((2 * count, 3), np.float64)
                more[:count] = out
                out = more
            out[count, 0] = x + 0.5 + _past(row[x - 1], value, row[x + 1])
            out[count, 1] = y + 0.5 + _past(above[x], value, below[x])
            out[count, 2] = value
            count += 1
    return out[:count]


@njit(cache=True, nogil=True)
def _past(low: float, middle: float, high: float) -> float:  # pragma: no cover
    """How far beyond the middle of three the top of a parabola through them lies, -0.5..0.5."""
    bend = 2.0 * middle - low - high
    return min(max(0.5 * (high - low) / bend, -0.5), 0.5) if bend > 0 else 0.0
