"""Optimal assignments: of one table, and of many small groups at once.

Candidate pairs leave a graph that falls into small groups; each is solved to its optimum by itself, so that cost grows
with crowding and not with the square of the number. A group is solved by shortest augmenting paths with potentials
(Jonker and Volgenant 1987), with a way out for every row that is better left without a partner: a small group over its
table, a large one along its pairs alone, by Dijkstra's search (1959), which ends where the first way out is found.
"""

from __future__ import annotations

from heapq import heappop, heappush

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.kernel_parts import root_of

__all__ = ["NOBODY", "assign_groups", "assign_most", "solve_assignment"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
NOBODY = 2.5  # cost of leaving a row without a partner: above that of any pair
LARGE = 40  # rows and columns from which a group is solved along its pairs


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
    assign_groups(row, column, cost, np.ones(len(row), np.bool_), rows, columns, match)
    return np.flatnonzero(match[row] == column)


@njit(cache=True, nogil=True)
def assign_groups(
    track: Int, detection: Int, cost: Float, use: NDArray[np.bool_], tracks: int, detections: int, match: Int
) -> None:  # pragma: no cover
    """Match tracks to detections at least total cost, in place.

    Parameters
    ----------
    track, detection, cost : (pairs,)
        The pairs within the gate.
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
    """Cut the pairs ``rest`` into groups that share nothing, and solve each."""
    parent = np.arange(tracks + detections)
    for at in range(rest.shape[0]):
        e = int(rest[at])
        a, b = root_of(parent, track[e]), root_of(parent, tracks + detection[e])
        if a != b:
            parent[max(a, b)] = min(a, b)
    # Pairs in order of their group, by counting.
    size = np.zeros(tracks + detections + 1, np.int64)
    for at in range(rest.shape[0]):
        e = int(rest[at])
        size[root_of(parent, track[e]) + 1] += 1
    start = np.cumsum(size)
    fill = start.copy()
    order = np.empty(rest.shape[0], np.int64)
    for at in range(rest.shape[0]):
        e = int(rest[at])
        g = root_of(parent, track[e])
        order[fill[g]] = e
        fill[g] += 1
    row_of, column_of = np.full(tracks, -1, np.int64), np.full(detections, -1, np.int64)
    for g in range(tracks + detections):
        edges = order[start[g] : fill[g]]
        if edges.shape[0] > 0:
            _solve_group(edges, track, detection, cost, row_of, column_of, match)


@njit(cache=True, nogil=True)
def _solve_group(
    edges: Int, track: Int, detection: Int, cost: Float, row_of: Int, column_of: Int, match: Int
) -> None:  # pragma: no cover
    """Number the group's own tracks and detections, then solve its table."""
    rows, columns = np.empty(edges.shape[0], np.int64), np.empty(edges.shape[0], np.int64)
    n = m = 0
    for e in edges:
        if row_of[track[e]] < 0:
            row_of[track[e]], rows[n] = n, track[e]
            n += 1
        if column_of[detection[e]] < 0:
            column_of[detection[e]], columns[m] = m, detection[e]
            m += 1
    if n + m >= LARGE:
        along_pairs(edges, track, detection, cost, row_of, column_of, rows[:n], columns[:m], match)
    else:
        _over_table(edges, track, detection, cost, row_of, column_of, rows[:n], columns[:m], match)
    for k in range(n):
        row_of[rows[k]] = -1
    for k in range(m):
        column_of[columns[k]] = -1


@njit(cache=True, nogil=True)
def _over_table(
    edges: Int,
    track: Int,
    detection: Int,
    cost: Float,
    row_of: Int,
    column_of: Int,
    rows: Int,
    columns: Int,
    match: Int,
) -> None:  # pragma: no cover
    n, m = rows.shape[0], columns.shape[0]
    # One more column a track: its own way of staying alone.
    table = np.full((n, m + n), 1e9)
    for e in edges:
        table[row_of[track[e]], column_of[detection[e]]] = cost[e]
    for k in range(n):
        table[k, m + k] = NOBODY
    chosen = _shortest_paths(table)
    for k in range(n):
        if chosen[k] < m:
            match[rows[k]] = columns[chosen[k]]


@njit(cache=True, nogil=True)
def along_pairs(
    edges: Int,
    track: Int,
    detection: Int,
    cost: Float,
    row_of: Int,
    column_of: Int,
    rows: Int,
    columns: Int,
    match: Int,
) -> None:  # pragma: no cover
    """A group solved to its optimum without a table, in place: shortest paths over its pairs."""
    n, m = rows.shape[0], columns.shape[0]
    start = np.zeros(n + 1, np.int64)
    for e in edges:
        start[row_of[track[e]] + 1] += 1
    start = np.cumsum(start)
    fill, to, price = start.copy(), np.empty(edges.shape[0], np.int64), np.empty(edges.shape[0])
    u = np.full(n, NOBODY)  # potentials: no pair is cheaper than its two ends are worth together
    for e in edges:
        k = row_of[track[e]]
        to[fill[k]], price[fill[k]] = column_of[detection[e]], cost[e]
        u[k] = min(u[k], cost[e])
        fill[k] += 1
    v, owner, partner = np.zeros(m), np.full(m, -1, np.int64), np.full(n, -1, np.int64)
    far, before = np.full(m, np.inf), np.full(m, -1, np.int64)
    done, touched = np.zeros(m, np.bool_), np.empty(m, np.int64)
    for row in range(n):
        _give_partner(row, start, to, price, u, v, owner, partner, far, before, done, touched)
    for k in range(n):
        if partner[k] >= 0:
            match[rows[k]] = columns[partner[k]]


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


@njit(cache=True, nogil=True)
def _shortest_paths(table: Float) -> Int:  # pragma: no cover
    """Column of each row at least total cost; rows <= columns (Jonker and Volgenant 1987, augmentation only)."""
    n, m = table.shape
    u, v = np.zeros(n + 1), np.zeros(m + 1)
    owner, way = np.zeros(m + 1, np.int64), np.zeros(m + 1, np.int64)
    least, done = np.empty(m + 1), np.empty(m + 1, np.bool_)
    for row in range(1, n + 1):
        owner[0] = row
        at = 0
        least[:] = 1e18
        done[:] = False
        while True:
            done[at] = True
            i, delta, following = owner[at], 1e18, 0
            for j in range(1, m + 1):
                if done[j]:
                    continue
                reduced = table[i - 1, j - 1] - u[i] - v[j]
                if reduced < least[j]:
                    least[j], way[j] = reduced, at
                if least[j] < delta:
                    delta, following = least[j], j
            for j in range(m + 1):
                if done[j]:
                    u[owner[j]] += delta
                    v[j] -= delta
                else:
                    least[j] -= delta
            at = following
            if owner[at] == 0:
                break
        while at != 0:
            before = way[at]
            owner[at] = owner[before]
            at = before
    out = np.empty(n, np.int64)
    for j in range(1, m + 1):
        if owner[j] > 0:
            out[owner[j] - 1] = j - 1
    return out
