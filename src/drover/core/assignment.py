"""Optimal assignments: of one table, and of the pairs that a gate leaves.

Candidate pairs leave a graph with few edges. It is solved along these alone, so that cost grows with crowding and not
with the square of the number: by bids and then shortest augmenting paths with potentials (Jonker and Volgenant 1987),
with a way out for every row that is better left without a partner. A path is sought by Dijkstra's search (1959), which
ends where the first way out is found.
"""

from __future__ import annotations

from heapq import heappop, heappush

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["NOBODY", "assign_most", "match_pairs", "solve_assignment"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
NOBODY = 2.5  # cost of leaving a row without a partner: above that of any pair
BIDS = 8  # a row, on average, before the rest is searched for: near draws would go on for long


def solve_assignment(
    table: NDArray[np.float64], *, maximize: bool = False
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows and columns of the pairs of least (or largest) total, each row and column used once.

    The shortest augmenting path method (Crouse 2016, "On implementing 2D rectangular assignment algorithms"), from
    SciPy; brought in at its first use, since importing it takes a third of a second.
    """
    from scipy.optimize import linear_sum_assignment

    return linear_sum_assignment(table, maximize=maximize)


def assign_most(row: Int, column: Int, value: Float) -> Int:
    """Places of the pairs of largest total value with no row and no column used twice, rising.

    ``row``, ``column`` (pairs,) int64 from 0; ``value`` (pairs,) float64, all positive.
    """
    if len(row) == 0:
        return np.zeros(0, np.int64)
    rows, columns = int(row.max()) + 1, int(column.max()) + 1
    match = np.full(rows, -1, np.int64)
    # A row left alone costs as much as a pair of no value, so the least total cost is the largest total value.
    cost = NOBODY * (1.0 - value / value.max())
    match_pairs(row, column, cost, np.ones(len(row), np.bool_), rows, columns, match)
    return np.flatnonzero(match[row] == column)


@njit(cache=True, nogil=True)
def match_pairs(
    track: Int, detection: Int, cost: Float, use: NDArray[np.bool_], tracks: int, detections: int, match: Int
) -> None:  # pragma: no cover
    """Match tracks to detections at least total cost, in place.

    Parameters
    ----------
    track, detection, cost : (pairs,)
        The pairs within the gate, each once.
    use : (pairs,) bool
        Pairs that may be used in this round.
    match : (tracks,) int64
        Detection of each track, -1 for none; those matched before are left alone. Written here.
    """
    # Most pairs have no rival on either side: those are taken as they are.
    rivals = np.zeros(tracks + detections, np.int64)
    for e in range(track.shape[0]):
        if use[e]:
            rivals[track[e]] += 1
            rivals[tracks + detection[e]] += 1
    rest = np.empty(track.shape[0], np.int64)
    left = 0
    for e in range(track.shape[0]):
        if not use[e]:
            continue
        if rivals[track[e]] == 1 and rivals[tracks + detection[e]] == 1:
            match[track[e]] = detection[e]
        else:
            rest[left] = e
            left += 1
    if left > 0:
        _assign_rest(rest[:left], track, detection, cost, tracks, detections, match)


@njit(cache=True, nogil=True)
def _assign_rest(
    rest: Int, track: Int, detection: Int, cost: Float, tracks: int, detections: int, match: Int
) -> None:  # pragma: no cover
    """The pairs ``rest`` row by row, each row with what it is worth; bids first, then a search for those left over."""
    start = np.zeros(tracks + 1, np.int64)
    for at in range(rest.shape[0]):
        start[track[rest[at]] + 1] += 1
    start = np.cumsum(start)
    fill, to, price = start.copy(), np.empty(rest.shape[0], np.int64), np.empty(rest.shape[0])
    u = np.full(tracks, NOBODY)  # potentials: no pair is cheaper than its two ends are worth together
    for at in range(rest.shape[0]):
        e = int(rest[at])
        k = track[e]
        to[fill[k]], price[fill[k]] = detection[e], cost[e]
        u[k] = min(u[k], cost[e])
        fill[k] += 1
    v, owner, partner = np.zeros(detections), np.full(detections, -1, np.int64), np.full(tracks, -1, np.int64)
    bid_for_partners(start, to, price, u, v, owner, partner)
    far, before = np.full(detections, np.inf), np.full(detections, -1, np.int64)
    done, touched = np.zeros(detections, np.bool_), np.empty(detections, np.int64)
    for row in range(tracks):
        if partner[row] < 0 and u[row] < NOBODY:
            _give_partner(row, start, to, price, u, v, owner, partner, far, before, done, touched)
    for row in range(tracks):
        if partner[row] >= 0:
            match[row] = partner[row]


@njit(cache=True, nogil=True)
def bid_for_partners(
    start: Int, to: Int, price: Float, u: Float, v: Float, owner: Int, partner: Int
) -> None:  # pragma: no cover
    """Each row takes its best column and makes it dearer by as much as it gains, in place; who held it bids again.

    This is the augmenting row reduction of Jonker and Volgenant 1987: potentials stay right, few rows are left over.
    A row that is best left alone keeps ``u`` at ``NOBODY``.
    """
    n = start.shape[0] - 1
    queue, head, count = np.empty(n, np.int64), 0, 0
    for k in range(n):
        if start[k + 1] > start[k]:
            queue[count] = k
            count += 1
    turns = BIDS * count
    while count > 0 and turns > 0:
        k = queue[head]
        head, count, turns = (head + 1) % n, count - 1, turns - 1
        best, second, at = NOBODY, np.inf, -1
        for e in range(start[k], start[k + 1]):
            worth = price[e] - v[to[e]]
            if worth < best:
                best, second, at = worth, best, to[e]
            elif worth < second:
                second = worth
        if at < 0:
            u[k] = NOBODY
            continue
        u[k] = second
        held = owner[at]
        if held >= 0 and second <= best:  # a draw: bids would go on for ever
            continue
        v[at] -= second - best
        owner[at], partner[k] = k, at
        if held >= 0:
            partner[held] = -1
            queue[(head + count) % n] = held
            count += 1


@njit(cache=True, nogil=True)
def _give_partner(
    row: int,
    start: Int,
    to: Int,
    price: Float,
    u: Float,
    v: Float,
    owner: Int,
    partner: Int,
    far: Float,
    before: Int,
    done: NDArray[np.bool_],
    touched: Int,
) -> None:  # pragma: no cover
    """Find the cheapest way to take in one row more, and change partners along it."""
    heap = [(0.0, -1)]
    heap.pop()
    count, i, here = 0, row, 0.0
    ends_at, loner, shortest = -1, row, NOBODY - u[row]  # a free column, or a row that is left alone
    while True:
        for e in range(start[i], start[i + 1]):
            j = to[e]
            way = here + price[e] - u[i] - v[j]
            if done[j] or way >= far[j] or way >= shortest:
                continue
            if far[j] == np.inf:
                touched[count] = j
                count += 1
            far[j], before[j] = way, i
            heappush(heap, (way, j))
        at = -1
        while len(heap) > 0:
            here, at = heappop(heap)
            if not done[at] and here <= far[at]:
                break
            at = -1
        if at < 0 or here >= shortest:
            break
        done[at] = True
        if owner[at] < 0:
            ends_at, shortest = at, here
            break
        i = owner[at]
        if here + NOBODY - u[i] < shortest:
            loner, shortest = i, here + NOBODY - u[i]
    u[row] += shortest
    for k in range(count):
        j = touched[k]
        if done[j] and far[j] < shortest:
            v[j] += far[j] - shortest
            u[owner[j]] += shortest - far[j]
        far[j], done[j] = np.inf, False
    j = ends_at
    if j < 0:
        j, partner[loner] = partner[loner], -1
    while j >= 0:
        i = before[j]
        owner[j] = i
        j, partner[i] = partner[i], j
        if i == row:
            break
