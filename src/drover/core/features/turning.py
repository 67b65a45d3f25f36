"""Kernels of motions in the plane: points taken along, and a turn and zoom fitted to what agrees with it."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["FREEDOM", "carry", "refine_turning"]

Float = NDArray[np.float64]
FREEDOM = {"shift": 0, "rigid": 1, "similarity": 2}  # what a motion in closed form may be
TINY = 1e-12


@njit(cache=True, nogil=True, error_model="numpy")
def carry(matrix: Float, points: Float) -> Float:  # pragma: no cover
    """Points (n, 2) taken along by a motion (3, 3)."""
    out = np.empty((points.shape[0], 2))
    for k in range(points.shape[0]):
        x, y = points[k, 0], points[k, 1]
        last = matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2]
        if abs(last) < TINY:
            last = TINY
        out[k, 0] = (matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2]) / last
        out[k, 1] = (matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2]) / last
    return out


@njit(cache=True, nogil=True, error_model="numpy")
def refine_turning(
    matrix: Float, a: Float, b: Float, votes: Float, tolerance: float, rounds: int, freedom: int
) -> Float:  # pragma: no cover
    """A motion (3, 3) fitted ``rounds`` times to the pairs (n, 2) that agree with it; not a number where none is fixed.

    Each pair counts by its vote (n,), the less the farther off it is (Tukey 1974); the fit is the closed form of
    Umeyama 1991, "Least-squares estimation of transformation parameters", in the plane, where turn and zoom are one
    complex factor. ``freedom`` is of :data:`FREEDOM`.
    """
    n, out, reach = a.shape[0], matrix.copy(), 2.0 * tolerance
    weight = np.empty(n)
    for _ in range(rounds):
        there = carry(out, a)
        total, some = 0.0, 0
        ax, ay, bx, by = 0.0, 0.0, 0.0, 0.0
        for k in range(n):
            off = np.hypot(there[k, 0] - b[k, 0], there[k, 1] - b[k, 1]) / reach
            w = votes[k] * (1.0 - off * off) ** 2 if off < 1.0 else 0.0
            weight[k] = w
            if w > 0.0:
                some, total = some + 1, total + w
                ax, ay, bx, by = ax + w * a[k, 0], ay + w * a[k, 1], bx + w * b[k, 0], by + w * b[k, 1]
        if some < min(1 + freedom, 2):
            return np.full((3, 3), np.nan)
        total = max(total, TINY)
        ax, ay, bx, by = ax / total, ay / total, bx / total, by / total
        cos, sin = 1.0, 0.0
        if freedom > 0:
            spread, along, across = 0.0, 0.0, 0.0
            for k in range(n):
                if weight[k] > 0.0:
                    share, px, py = weight[k] / total, a[k, 0] - ax, a[k, 1] - ay
                    qx, qy = b[k, 0] - bx, b[k, 1] - by
                    spread += share * (px * px + py * py)
                    along += share * (px * qx + py * qy)
                    across += share * (px * qy - py * qx)
            length = np.hypot(along, across) if freedom == 1 else spread
            if spread < TINY or length == 0.0:
                return np.full((3, 3), np.nan)
            cos, sin = along / length, across / length
        out = np.array(
            [[cos, -sin, bx - (cos * ax - sin * ay)], [sin, cos, by - (sin * ax + cos * ay)], [0.0, 0.0, 1.0]]
        )
        reach = max(0.75 * reach, tolerance)
    return out
