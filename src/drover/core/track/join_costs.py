"""Which ends and beginnings of tracks may be one object, what each pair costs, and what chance would bring."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.kernel_parts import longer

__all__ = ["MOST_STARTS", "Ends", "expected_by_chance", "find_joins", "join_cost"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
SLACK = 0.6  # sizes that a guess may be off at once
DRIFT = 1.3  # sizes that a guess may be off for each second
AS_LINKED = 0.15  # cost less for going on as it was linked
AS_LINKED_AT_MOST = 1.6  # cost of going on as it was linked, whatever speaks against it
MOST_GROWN = 0.9  # summed log ratio of the sizes of two ends of one object
FAST, FAR = 0.4, 0.16  # sizes/s, and sizes, from which a way has a direction
GROWN_WEIGHT, WAIT_WEIGHT = 0.8, 0.1  # cost of a summed log ratio of sizes of 1, and of a second between
MOST_STARTS = 8  # beginnings that are weighed for each end, the cheapest
TRIED_WAITS = 6


class Ends(NamedTuple):
    """One end of every track: time s, centre px, speed px/s, size px, and whether it is at the edge."""

    time: Float
    centre: Float
    speed: Float
    size: Float
    at_edge: NDArray[np.bool_]


@njit(cache=True, nogil=True)
def find_joins(last: Ends, first: Ends, goes_on: Int, within: float) -> tuple[Int, Int, Float]:  # pragma: no cover
    """Pairs of an end and a beginning that may be one object, with their costs, end by end.

    Beginnings are looked up by time. ``goes_on`` (ends,) is the beginning each end was linked to, -1 for none: such a
    pair is always possible.
    """
    order = np.argsort(first.time, kind="mergesort")
    order = order[~first.at_edge[order]]
    when, x, y = first.time[order], first.centre[order, 0], first.centre[order, 1]
    root = np.sqrt(np.sqrt(first.size[order, 0] * first.size[order, 1]))
    vx, vy = first.speed[order, 0], first.speed[order, 1]
    fast = np.hypot(vx, vy)
    wide, tall = np.log(first.size[order, 0]), np.log(first.size[order, 1])
    near = np.empty(order.shape[0], np.uint8)
    room, n = 4 * last.time.shape[0] + 64, 0
    ends, starts, costs = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room)
    best, best_cost = np.empty(MOST_STARTS, np.int64), np.empty(MOST_STARTS)
    for a in range(last.time.shape[0]):
        found, gone = 0, last.time[a]
        own_wide, own_tall = np.log(last.size[a, 0]), np.log(last.size[a, 1])
        own_root = np.sqrt(np.sqrt(last.size[a, 0] * last.size[a, 1]))
        own_x, own_y, own_vx, own_vy = last.centre[a, 0], last.centre[a, 1], last.speed[a, 0], last.speed[a, 1]
        begin = np.searchsorted(when, gone, side="right")
        past = np.searchsorted(when, gone + max(within, 0.0) + 1e-9, side="right")
        if last.at_edge[a]:
            past = begin
        _in_reach(last, a, when, x, y, root, fast, begin, past, near)
        for here in range(begin, past):
            if near[here] == 0:
                continue
            wait = when[here] - gone
            grown = abs(wide[here] - own_wide) + abs(tall[here] - own_tall)
            least = GROWN_WEIGHT * grown + WAIT_WEIGHT * wait - 1e-9  # what it costs in any case
            if grown > MOST_GROWN + 1e-9 or (found == MOST_STARTS and least >= best_cost[found - 1]):
                continue
            b = int(order[here])
            if b == goes_on[a]:
                continue
            way_x, way_y, length = x[here] - own_x, y[here] - own_y, own_root * root[here]
            off, reach = least_off(wait, way_x, way_y, own_vx, own_vy, vx[here], vy[here]), reach_of(length, wait)
            cost = off / reach + least + 1e-9
            if off > reach or (found == MOST_STARTS and cost >= best_cost[found - 1]):
                continue
            cost += turned(way_x, way_y, own_vx, own_vy, length) + turned(way_x, way_y, vx[here], vy[here], length)
            if found == MOST_STARTS and cost >= best_cost[found - 1]:
                continue
            k = min(found, MOST_STARTS - 1)
            while k > 0 and best_cost[k - 1] > cost:
                best[k], best_cost[k] = best[k - 1], best_cost[k - 1]
                k -= 1
            best[k], best_cost[k] = b, cost
            found = min(found + 1, MOST_STARTS)
        if n + found + 1 > room:
            room = 2 * room + found
            ends, starts, costs = longer(ends, room), longer(starts, room), longer(costs, room)
        for k in range(found):
            ends[n], starts[n], costs[n] = a, best[k], best_cost[k]
            n += 1
        b = int(goes_on[a])
        if b >= 0:
            cost = cost_of(last, a, first, b, first.time[b] - gone)
            ends[n], starts[n], costs[n] = a, b, min(cost - AS_LINKED, AS_LINKED_AT_MOST)
            n += 1
    return ends[:n].copy(), starts[:n].copy(), costs[:n].copy()


@njit(cache=True, nogil=True)
def _in_reach(
    last: Ends,
    a: int,
    when: Float,
    x: Float,
    y: Float,
    root: Float,
    fast: Float,
    begin: int,
    past: int,
    near: NDArray[np.uint8],
) -> None:  # pragma: no cover
    """Mark the beginnings that end ``a`` could have reached: one plain pass, most of them are ruled out here."""
    own_x, own_y, gone = last.centre[a, 0], last.centre[a, 1], last.time[a]
    own_root = np.sqrt(np.sqrt(last.size[a, 0] * last.size[a, 1]))
    own_fast = np.hypot(last.speed[a, 0], last.speed[a, 1])
    when, x, y, root = when[begin:past], x[begin:past], y[begin:past], root[begin:past]
    fast, near = fast[begin:past], near[begin:past]
    for here in range(when.shape[0]):
        wait = when[here] - gone
        faster = own_fast if own_fast > fast[here] else fast[here]
        reach = faster * wait + own_root * root[here] * (SLACK + DRIFT * wait)
        off_x, off_y = abs(x[here] - own_x), abs(y[here] - own_y)
        near[here] = (off_x if off_x > off_y else off_y) <= reach


@njit(cache=True, nogil=True)
def expected_by_chance(
    end: Int, start: Int, cost: Float, last: Ends, first: Ends, within: float, lasts: float, most: int
) -> Float:  # pragma: no cover
    """How many other beginnings would fit an end as well as its partner does, (pairs,), were they to fall at random.

    Where objects come and go all the time, as at a door, something always begins soon after something ended there; that
    it fits says little. Other beginnings of the clip, ``most`` of them, are tried at times spread over the longest
    break ``within`` s of a clip that ``lasts`` s. Pairs come end by end, as :func:`find_joins` gives them.
    """
    n = first.time.shape[0]
    step = max(1, n // most)
    out = np.zeros(end.shape[0])
    share = min(1.0, within / max(lasts, 1e-6)) * step / TRIED_WAITS
    room = (n // step + 1) * TRIED_WAITS
    who, fits = np.empty(room, np.int64), np.empty(room)
    k = 0
    while k < end.shape[0]:
        past = k
        dearest = -np.inf
        while past < end.shape[0] and end[past] == end[k]:
            dearest = max(dearest, cost[past])
            past += 1
        tried = _fits_at_random(last, end[k], first, step, within, dearest, who, fits)
        for pair in range(k, past):
            hits = 0
            for t in range(tried):
                hits += fits[t] <= cost[pair] and who[t] != start[pair]
            out[pair] = hits * share
        k = past
    return out


@njit(cache=True, nogil=True)
def _fits_at_random(
    last: Ends, a: int, first: Ends, step: int, within: float, dearest: float, who: Int, fits: Float
) -> int:  # pragma: no cover
    """Write which of every ``step``-th beginning would fit end ``a`` at no more than ``dearest``, and its cost."""
    n = 0
    root, fast = np.sqrt(np.sqrt(last.size[a, 0] * last.size[a, 1])), np.hypot(last.speed[a, 0], last.speed[a, 1])
    for b in range(0, first.time.shape[0], step):
        if b == a or first.at_edge[b]:
            continue
        length = root * np.sqrt(np.sqrt(first.size[b, 0] * first.size[b, 1]))
        faster = max(fast, np.hypot(first.speed[b, 0], first.speed[b, 1]))
        reach = faster * within + length * (SLACK + DRIFT * within)
        way_x, way_y = first.centre[b, 0] - last.centre[a, 0], first.centre[b, 1] - last.centre[a, 1]
        if max(abs(way_x), abs(way_y)) > reach:
            continue
        grown = abs(np.log(first.size[b, 0] / last.size[a, 0])) + abs(np.log(first.size[b, 1] / last.size[a, 1]))
        if grown > MOST_GROWN or GROWN_WEIGHT * grown > dearest:
            continue
        for w in range(TRIED_WAITS):
            cost = cost_of(last, a, first, b, within * (w + 0.5) / TRIED_WAITS)
            if cost <= dearest:
                who[n], fits[n] = b, cost
                n += 1
    return n


@njit(cache=True, nogil=True, inline="always")
def cost_of(last: Ends, a: int, first: Ends, b: int, wait: float) -> float:  # pragma: no cover
    """What it costs that end ``a`` goes on as beginning ``b``, were that ``wait`` s later."""
    return pair_cost(
        wait, first.centre[b, 0] - last.centre[a, 0], first.centre[b, 1] - last.centre[a, 1], last.speed[a, 0],
        last.speed[a, 1], first.speed[b, 0], first.speed[b, 1], last.size[a, 0], last.size[a, 1], first.size[b, 0],
        first.size[b, 1],
    )  # fmt: skip


@njit(cache=True, nogil=True)
def join_cost(
    wait: float, end: Float, end_speed: Float, end_size: Float, start: Float, start_speed: Float, start_size: Float
) -> float:  # pragma: no cover
    """How unlike one object an end and a beginning ``wait`` s later are; infinite beyond reach."""
    return pair_cost(
        wait, start[0] - end[0], start[1] - end[1], end_speed[0], end_speed[1], start_speed[0], start_speed[1],
        end_size[0], end_size[1], start_size[0], start_size[1],
    )  # fmt: skip


@njit(cache=True, nogil=True, inline="always")
def pair_cost(
    wait: float,
    way_x: float,
    way_y: float,
    end_vx: float,
    end_vy: float,
    start_vx: float,
    start_vy: float,
    end_w: float,
    end_h: float,
    start_w: float,
    start_h: float,
) -> float:  # pragma: no cover
    """The same from numbers: the way between them px, speeds px/s and sizes px of the end and of the beginning."""
    length = np.sqrt(np.sqrt(end_w * end_h * start_w * start_h))
    off, reach = least_off(wait, way_x, way_y, end_vx, end_vy, start_vx, start_vy), reach_of(length, wait)
    grown = abs(np.log(start_w / end_w)) + abs(np.log(start_h / end_h))
    if off > reach or grown > MOST_GROWN:
        return np.inf
    turns = turned(way_x, way_y, end_vx, end_vy, length) + turned(way_x, way_y, start_vx, start_vy, length)
    return off / reach + GROWN_WEIGHT * grown + WAIT_WEIGHT * wait + turns


@njit(cache=True, nogil=True, inline="always")
def reach_of(length: float, wait: float) -> float:  # pragma: no cover
    """How far (px) a guess may be off after ``wait`` s, for two ends of usual size ``length`` px."""
    return length * (SLACK + DRIFT * wait)


@njit(cache=True, nogil=True, inline="always")
def least_off(
    wait: float, way_x: float, way_y: float, end_vx: float, end_vy: float, start_vx: float, start_vy: float
) -> float:  # pragma: no cover
    """How far (px) the best of six guesses is off: either kept its speed, or slowed down, or stood for most of it."""
    off = 1e18
    for share in (1.0, 0.6, 0.3):
        t = share * wait
        dx, dy = way_x - end_vx * t, way_y - end_vy * t
        off = min(off, dx * dx + dy * dy)
        dx, dy = way_x - start_vx * t, way_y - start_vy * t
        off = min(off, dx * dx + dy * dy)
    return np.sqrt(off)


@njit(cache=True, nogil=True, inline="always")
def turned(way_x: float, way_y: float, vx: float, vy: float, length: float) -> float:  # pragma: no cover
    """Cost of a speed that points elsewhere than the way between; nothing where either has no direction."""
    fast, far = np.sqrt(vx * vx + vy * vy), np.sqrt(way_x * way_x + way_y * way_y)
    if fast > FAST * length and far > FAR * length:
        return 0.25 * (1.0 - (way_x * vx + way_y * vy) / (far * fast))
    return 0.0
