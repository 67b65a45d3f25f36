"""Which detection continues which track: distance, gate, cost, optimal assignment."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.assignment import solve_assignment

__all__ = ["REFUSED", "assign", "match_costs", "match_distances"]

REFUSED = 1e6


@njit(cache=True, nogil=True)
def match_distances(
    mean: NDArray[np.float64], cov: NDArray[np.float64], measured: NDArray[np.float64], box_noise: float
) -> NDArray[np.float64]:  # pragma: no cover
    """Mahalanobis distance of every detection's centre from every forecast (Mahalanobis 1936).

    Parameters
    ----------
    mean, cov : (n, 6), (n, 8) float64, see :mod:`drover.core.track.motion`
    measured : (m, 4) float64, centre and size, px
    box_noise : float, px

    Returns
    -------
    (n, m) float64, standard deviations of the innovation
    """
    r = box_noise * box_noise
    out = np.empty((mean.shape[0], measured.shape[0]))
    for k in range(mean.shape[0]):
        sx, sy = cov[k, 0] + r, cov[k, 3] + r
        for j in range(measured.shape[0]):
            dx, dy = measured[j, 0] - mean[k, 0], measured[j, 1] - mean[k, 1]
            out[k, j] = np.sqrt(dx * dx / sx + dy * dy / sy)
    return out


def match_costs(
    distance: NDArray[np.float64],
    overlap: NDArray[np.float64],
    wait: NDArray[np.float64],
    *,
    gate: float,
    overlap_weight: float,
) -> NDArray[np.float64]:
    """Cost of every pair, ``REFUSED`` beyond the gate.

    ``overlap_weight`` shares the cost between lack of overlap and distance (as a fraction of the gate);
    ``wait`` (n,), 0..1 is how much of its longest gap a track has been unseen: those seen lately go first.
    """
    cost = (1 - overlap_weight) * distance / gate + overlap_weight * (1 - overlap) + 0.3 * wait[:, None]
    return np.where(distance <= gate, cost, REFUSED)


def assign(cost: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Pairs (rows, columns) of least total cost, refused pairs left out (Kuhn 1955; Crouse 2016)."""
    if cost.size == 0:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    rows, columns = solve_assignment(cost)
    good = cost[rows, columns] < REFUSED
    return rows[good], columns[good]
