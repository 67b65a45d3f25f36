"""Where paths cross a directed polyline, exact between frames, and which of those passages hold.

A path step a -> b crosses a segment p -> q when a and b lie on different sides of p -> q, and p and q on
different sides of a -> b. Zero counts as the positive side in both tests, so a path through a corner of the
line crosses exactly one of the two segments that meet there, and a path that touches the line and turns back
crosses it twice or not at all.

Around the line lies a dead band. Passages between which a path has not left the band are one attempt; what holds of
it is where it came out: forward and back within the band add nothing.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.kernel_parts import longer

__all__ = ["find_passages", "line_distance", "settled_passages", "two_of"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]


@njit(cache=True, nogil=True)
def find_passages(
    x: Float, y: Float, owner: NDArray[np.int32], corners: Float
) -> tuple[Int, Float, NDArray[np.int8]]:  # pragma: no cover
    """Steps that cross a polyline: index of the step's first row, share of the step before the crossing, direction."""
    low_x, high_x = corners[:, 0].min(), corners[:, 0].max()
    low_y, high_y = corners[:, 1].min(), corners[:, 1].max()
    most = 256
    step, share, direction = np.empty(most, np.int64), np.empty(most, np.float64), np.empty(most, np.int8)
    n = 0
    for i in range(x.shape[0] - 1):
        ax, ay, bx, by = x[i], y[i], x[i + 1], y[i + 1]
        if (ax < low_x and bx < low_x) or (ax > high_x and bx > high_x):
            continue
        if (ay < low_y and by < low_y) or (ay > high_y and by > high_y) or owner[i] != owner[i + 1]:
            continue
        first = n
        for s in range(corners.shape[0] - 1):
            px, py, qx, qy = corners[s, 0], corners[s, 1], corners[s + 1, 0], corners[s + 1, 1]
            before = (qx - px) * (ay - py) - (qy - py) * (ax - px)
            after = (qx - px) * (by - py) - (qy - py) * (bx - px)
            if (before >= 0) == (after >= 0):
                continue
            of_p = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
            of_q = (bx - ax) * (qy - ay) - (by - ay) * (qx - ax)
            if (of_p >= 0) == (of_q >= 0):
                continue
            if n == most:
                most *= 2
                step, share, direction = longer(step, most), longer(share, most), longer(direction, most)
            step[n] = i
            share[n] = before / (before - after)
            direction[n] = 1 if after >= 0 else -1
            n += 1
        # One step may cross several segments of a bent line: put them in the order in which it does.
        for a in range(first + 1, n):
            b = a
            while b > first and share[b] < share[b - 1]:
                share[b], share[b - 1] = share[b - 1], share[b]
                direction[b], direction[b - 1] = direction[b - 1], direction[b]
                b -= 1
    return step[:n].copy(), share[:n].copy(), direction[:n].copy()


@njit(cache=True, nogil=True)
def line_distance(x: float, y: float, corners: Float) -> float:  # pragma: no cover
    """Distance of a point from a polyline, px."""
    least = np.inf
    for s in range(corners.shape[0] - 1):
        px, py = corners[s, 0], corners[s, 1]
        dx, dy = corners[s + 1, 0] - px, corners[s + 1, 1] - py
        length = dx * dx + dy * dy
        t = 0.0 if length == 0.0 else min(max(((x - px) * dx + (y - py) * dy) / length, 0.0), 1.0)
        away = (x - px - t * dx) ** 2 + (y - py - t * dy) ** 2
        least = min(least, away)
    return np.sqrt(least)


@njit(cache=True, nogil=True)
def settled_passages(
    x: Float,
    y: Float,
    size: Float,
    owner: NDArray[np.int32],
    corners: Float,
    band: float,
    step: Int,
    direction: NDArray[np.int8],
) -> NDArray[np.bool_]:  # pragma: no cover
    """Which passages hold, (passages,) bool: of each attempt the last ones in the direction in which it came out.

    ``band`` is the half width of the dead band in sizes of the object, ``size`` (rows,) px. An attempt ends once the
    path has left the band, or with the path.
    """
    holds = np.zeros(step.shape[0], np.bool_)
    first = 0
    while first < step.shape[0]:
        net = int(direction[first])
        past = first + 1
        while past < step.shape[0] and owner[step[past]] == owner[step[first]]:
            if _leaves(x, y, size, corners, band, step[past - 1] + 1, step[past] + 1):
                break
            net += direction[past]
            past += 1
        k = past - 1
        while net != 0 and k >= first:
            if (direction[k] > 0) == (net > 0):
                holds[k] = True
                net -= direction[k]
            k -= 1
        first = past
    return holds


@njit(cache=True, nogil=True)
def _leaves(
    x: Float, y: Float, size: Float, corners: Float, band: float, first: int, past: int
) -> bool:  # pragma: no cover
    """Whether the path is outside the band at one of the rows ``first`` to ``past`` - 1."""
    for i in range(first, past):  # noqa: SIM110 - the kernel compiler knows no any()
        if line_distance(x[i], y[i], corners) > band * size[i]:
            return True
    return False


def two_of(passages: list[tuple[int, float, int, int]]) -> list[tuple[int, float, int]]:
    """Passages of one identity that two of its points have made.

    Parameters
    ----------
    passages : (step, share, direction, point) of every point, in order of time

    Returns
    -------
    (step, share, direction) of the moment at which the second point goes over. Each point's passages so far add up to
    a number; the object is over when two points' numbers are above (forward) or below (back) where it stood.
    """
    level, out = 0, []
    sums: dict[int, int] = {}
    for step, share, direction, point in passages:
        sums[point] = sums.get(point, 0) + direction
        values = [*sums.values(), *[0] * (5 - len(sums))]
        if direction > 0 and sum(value > level for value in values) >= 2:
            level += 1
            out.append((step, share, 1))
        elif direction < 0 and sum(value < level for value in values) >= 2:
            level -= 1
            out.append((step, share, -1))
    return out
