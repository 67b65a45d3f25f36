"""Who takes which detection: in rounds, a greedy way for comparison, and by how much each link beat its rival."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.assignment import match_pairs

__all__ = ["assign_greedy", "margins", "match_rounds"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]


@njit(cache=True, nogil=True)
def assign_greedy(
    track: Int, detection: Int, cost: Float, use: NDArray[np.bool_], detections: int, match: Int
) -> None:  # pragma: no cover
    """The cheapest pair first, then the next that is still free: for comparison; writes ``match`` in place."""
    taken = np.zeros(detections, np.bool_)
    for k in range(match.shape[0]):
        if match[k] >= 0:
            taken[match[k]] = True
    for e in np.argsort(cost, kind="mergesort"):
        if use[e] and match[track[e]] < 0 and not taken[detection[e]]:
            match[track[e]] = detection[e]
            taken[detection[e]] = True


@njit(cache=True, nogil=True)
def margins(track: Int, detection: Int, cost: Float, match: Int, detections: int) -> Float:  # pragma: no cover
    """By how much each link beats its runner-up: the next detection for the track or the next track for the detection.

    (tracks,) float64 in units of cost; infinite without a rival or without a link.
    """
    chosen = np.full(match.shape[0], np.inf)
    owner = np.full(detections, -1, np.int64)
    for k in range(match.shape[0]):
        if match[k] >= 0:
            owner[match[k]] = k
    for e in range(track.shape[0]):
        if match[track[e]] == detection[e]:
            chosen[track[e]] = cost[e]
    out = np.full(match.shape[0], np.inf)
    for e in range(track.shape[0]):
        t, d = track[e], detection[e]
        if match[t] == d:
            continue
        if np.isfinite(chosen[t]):
            out[t] = min(out[t], cost[e] - chosen[t])
        if owner[d] >= 0 and np.isfinite(chosen[owner[d]]):
            out[owner[d]] = min(out[owner[d]], cost[e] - chosen[owner[d]])
    return out


@njit(cache=True, nogil=True)
def match_rounds(
    track: Int,
    detection: Int,
    cost: Float,
    believed: NDArray[np.bool_],
    confidence: NDArray[np.float32],
    sure_from: float,
    greedy: bool,
    tracks: int,
    detections: int,
) -> Int:  # pragma: no cover
    """Detection of each track, -1 for none, (tracks,) int64.

    Believed tracks choose first among sure detections, then among weak ones; tentative ones take what is left.
    """
    match = np.full(tracks, -1, np.int64)
    free = np.ones(detections, np.bool_)
    use = np.empty(track.shape[0], np.bool_)
    for turn in range(3):
        some = False
        for e in range(track.shape[0]):
            known, sure = believed[track[e]], confidence[detection[e]] >= sure_from
            mine = not known if turn == 2 else known and sure == (turn == 0)
            use[e] = mine and match[track[e]] < 0 and free[detection[e]]
            some |= use[e]
        if not some:
            continue
        if greedy:
            assign_greedy(track, detection, cost, use, detections, match)
        else:
            match_pairs(track, detection, cost, use, tracks, detections, match)
        for k in range(tracks):
            if match[k] >= 0:
                free[match[k]] = False
    return match
