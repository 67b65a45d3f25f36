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
OVERLAP = 0.2  # s that an end may be later than the beginning that goes on: something else was taken for it at last
SLACK = 0.6  # sizes that a guess may be off at once
DRIFT = 1.3  # sizes that a guess may be off for each second
AS_LINKED = 0.15  # cost less for going on as it was linked
AS_LINKED_AT_MOST = 1.6  # cost of going on as it was linked, whatever speaks against it
MOST_GROWN = 0.9  # summed log ratio of the sizes of two ends of one object
FAST, FAR = 0.4, 0.16  # sizes/s, and sizes, from which a way has a direction
GROWN_WEIGHT, WAIT_WEIGHT = 0.8, 0.1  # cost of a summed log ratio of sizes of 1, and of a second between
MOST_STARTS = 8  # beginnings that are weighed for each end, the cheapest
TRIED_WAITS = 6
NEVER = np.float32(1e30)  # a cost in short numbers that is beyond reach
ROUNDING = 0.005  # by how much a cost in short numbers may be off


class Ends(NamedTuple):
    """One end of every track: time s, centre px, speed px/s, size px, and whether it is at the edge."""

    time: Float
    centre: Float
    speed: Float
    size: Float
    at_edge: NDArray[np.bool_]


@njit(cache=True, nogil=True)
def find_joins(
    last: Ends, first: Ends, goes_on: Int, within: float, begin_at: int, past_at: int
) -> tuple[Int, Int, Float]:  # pragma: no cover
    """Pairs of some of the ends with a beginning that may be one object, with their costs, end by end.

    Beginnings are looked up by time; one that goes on begins and ends later. ``goes_on`` (ends,) is the beginning each
    end was linked to, -1 for none: such a pair is always possible.
    """
    order = np.argsort(first.time, kind="mergesort")
    order = order[~first.at_edge[order]]
    when = first.time[order]
    rows = _plain_rows(first, order)
    least = np.empty(order.shape[0], np.float32)
    room, n = 4 * (past_at - begin_at) + 64, 0
    ends, starts, costs = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room)
    best, best_cost = np.empty(MOST_STARTS, np.int64), np.empty(MOST_STARTS)
    for a in range(begin_at, past_at):
        found, gone, limit = 0, last.time[a], NEVER
        begin = np.searchsorted(when, gone - OVERLAP, side="right")
        past = np.searchsorted(when, gone + max(within, 0.0) + 1e-9, side="right")
        if last.at_edge[a]:
            past = begin
        _least_costs(last, a, gone, when[begin:past], rows, begin, past, least)
        for here in range(begin, past):
            if not least[here - begin] < limit:
                continue
            b = int(order[here])
            if b == goes_on[a] or not later(last, first, a, b):
                continue
            cost = cost_of(last, a, first, b, max(when[here] - gone, 0.0))
            if cost == np.inf or (found == MOST_STARTS and cost >= best_cost[found - 1]):
                continue
            k = min(found, MOST_STARTS - 1)
            while k > 0 and best_cost[k - 1] > cost:
                best[k], best_cost[k] = best[k - 1], best_cost[k - 1]
                k -= 1
            best[k], best_cost[k] = b, cost
            found = min(found + 1, MOST_STARTS)
            if found == MOST_STARTS:
                limit = np.float32(best_cost[found - 1] + ROUNDING)
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


@njit(cache=True, nogil=True, inline="always")
def later(last: Ends, first: Ends, a: int, b: int) -> bool:  # pragma: no cover
    """Whether track ``b`` begins and ends later than track ``a``."""
    return bool(first.time[b] > first.time[a] and last.time[b] > last.time[a])


@njit(cache=True, nogil=True)
def _plain_rows(first: Ends, order: Int) -> NDArray[np.float32]:  # pragma: no cover
    """Centre, speed, logarithms of the sides and root of the size of each beginning, (7, beginnings) float32."""
    rows = np.empty((7, order.shape[0]), np.float32)
    for k in range(order.shape[0]):
        b = order[k]
        wide, tall = np.log(first.size[b, 0]), np.log(first.size[b, 1])
        rows[0, k], rows[1, k] = first.centre[b, 0], first.centre[b, 1]
        rows[2, k], rows[3, k] = first.speed[b, 0], first.speed[b, 1]
        rows[4, k], rows[5, k], rows[6, k] = wide, tall, np.exp(0.25 * (wide + tall))
    return rows


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _least_costs(
    last: Ends,
    a: int,
    gone: float,
    when: Float,
    rows: NDArray[np.float32],
    begin: int,
    past: int,
    least: NDArray[np.float32],
) -> None:  # pragma: no cover
    """What end ``a`` costs with each beginning, but for turns; ``NEVER`` beyond reach.

    One plain pass in short numbers, as wide as the machine has it: nearly all pairs are ruled out by it.
    """
    x, y, vx, vy = rows[0][begin:past], rows[1][begin:past], rows[2][begin:past], rows[3][begin:past]
    wide, tall, root = rows[4][begin:past], rows[5][begin:past], rows[6][begin:past]
    own_x, own_y = np.float32(last.centre[a, 0]), np.float32(last.centre[a, 1])
    own_vx, own_vy = np.float32(last.speed[a, 0]), np.float32(last.speed[a, 1])
    own_wide, own_tall = np.float32(np.log(last.size[a, 0])), np.float32(np.log(last.size[a, 1]))
    own_root = np.float32(np.sqrt(np.sqrt(last.size[a, 0] * last.size[a, 1])))
    # Long numbers on their own: in one loop with them the short ones would be taken half as wide.
    for k in range(when.shape[0]):
        least[k] = np.float32(max(when[k] - gone, 0.0))
    for k in range(when.shape[0]):
        wait = least[k]
        way_x, way_y = x[k] - own_x, y[k] - own_y
        off = _least_square(way_x, way_y, own_vx * wait, own_vy * wait)
        other = _least_square(way_x, way_y, vx[k] * wait, vy[k] * wait)
        off = off if off < other else other
        reach = own_root * root[k] * (np.float32(SLACK) + np.float32(DRIFT) * wait)
        part = np.sqrt(off) / reach
        grown = abs(wide[k] - own_wide) + abs(tall[k] - own_tall)
        cost = part + np.float32(GROWN_WEIGHT) * grown + np.float32(WAIT_WEIGHT) * wait
        possible = (part <= np.float32(1.0 + ROUNDING)) & (grown <= np.float32(MOST_GROWN + ROUNDING))
        least[k] = cost if possible else NEVER


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _least_square(way_x, way_y, to_x, to_y):  # type: ignore[no-untyped-def]  # pragma: no cover
    """The square of how far the best of three guesses is off, see :func:`least_off`."""
    ax, ay = way_x - to_x, way_y - to_y
    bx, by = way_x - np.float32(0.6) * to_x, way_y - np.float32(0.6) * to_y
    cx, cy = way_x - np.float32(0.3) * to_x, way_y - np.float32(0.3) * to_y
    a, b, c = ax * ax + ay * ay, bx * bx + by * by, cx * cx + cy * cy
    least = a if a < b else b
    return least if least < c else c


@njit(cache=True, nogil=True)
def expected_by_chance(
    end: Int,
    start: Int,
    cost: Float,
    last: Ends,
    first: Ends,
    within: float,
    lasts: float,
    most: int,
    begin_at: int,
    past_at: int,
) -> Float:  # pragma: no cover
    """How many other beginnings would fit an end as well as its partner does, (pairs,), were they to fall at random.

    Where objects come and go all the time, as at a door, something always begins soon after something ended there; that
    it fits says little. Other beginnings of the clip, ``most`` of them, are tried at times spread over the longest
    break ``within`` s of a clip that ``lasts`` s. Pairs come end by end, as :func:`find_joins` gives them; some of them
    are looked at, (past - begin,), all of an end or none.
    """
    n = first.time.shape[0]
    step = max(1, n // most)
    out = np.zeros(past_at - begin_at)
    share = min(1.0, within / max(lasts, 1e-6)) * step / TRIED_WAITS
    sample = np.arange(0, n, step)
    sample = sample[~first.at_edge[sample]]
    rows, waits = _plain_rows(first, sample), np.empty((TRIED_WAITS, sample.shape[0]))
    for w in range(TRIED_WAITS):
        waits[w] = within * (w + 0.5) / TRIED_WAITS
    who, fits = np.empty(sample.shape[0] * TRIED_WAITS, np.int64), np.empty(sample.shape[0] * TRIED_WAITS)
    k = begin_at
    while k < past_at:
        past = k
        dearest = -np.inf
        while past < past_at and end[past] == end[k]:
            dearest = max(dearest, cost[past])
            past += 1
        tried = _fits_at_random(last, end[k], first, sample, rows, waits, dearest, who, fits)
        for pair in range(k, past):
            hits = 0
            for t in range(tried):
                hits += fits[t] <= cost[pair] and who[t] != start[pair]
            out[pair - begin_at] = hits * share
        k = past
    return out


@njit(cache=True, nogil=True)
def _fits_at_random(
    last: Ends,
    a: int,
    first: Ends,
    sample: Int,
    rows: NDArray[np.float32],
    waits: Float,
    dearest: float,
    who: Int,
    fits: Float,
) -> int:  # pragma: no cover
    """Write which beginnings of a sample would fit end ``a`` at no more than ``dearest``, and at what cost."""
    n, many = 0, sample.shape[0]
    least = np.empty(many, np.float32)
    for w in range(TRIED_WAITS):
        _least_costs(last, a, 0.0, waits[w], rows, 0, many, least)
        for k in range(many):
            if least[k] <= dearest + ROUNDING and sample[k] != a:
                cost = cost_of(last, a, first, sample[k], waits[w, k])
                if cost <= dearest:
                    who[n], fits[n] = sample[k], cost
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
