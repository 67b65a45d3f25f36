"""Broken tracks joined over the whole clip, as one assignment of ends to beginnings.

A track that ends in the middle of the picture and one that begins there later may be one object that was hidden.
Each such pair is judged by motion (where either would have been had it kept its speed, or slowed down), by size and
by time; all ends and beginnings are then matched at least total cost (Kuhn 1955), as in Huang, Wu and Nevatia 2008,
"Robust object tracking by hierarchical association of detection responses", section 4. Each end keeps its few best
beginnings, so that clutter costs no more than its share.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.assignment import assign_groups
from drover.core.kernel_parts import longer
from drover.core.recipe import TrackSettings
from drover.core.settings.base import Points
from drover.core.track.exits import in_exits
from drover.core.track.looks import look_distances, path_looks
from drover.core.track.pieces import cut_at_gaps, joined_pieces
from drover.core.types import Tracks, TrackState

__all__ = ["join_broken", "join_cost"]

Float = NDArray[np.float64]
LOOK_BACK = 1.0  # s from which the speed at an end is taken: the last few pictures are of what is half hidden
LOOKS_BACK = 25  # detections from which the look at an end is taken
EDGE = 0.75  # sizes: an end nearer to the picture's edge than that went out there
SLACK = 0.6  # sizes that a guess may be off at once
DRIFT = 1.3  # sizes that a guess may be off for each second
LEAST_ROWS = 3
AS_LINKED = 0.15  # cost less for going on as it was linked
AS_LINKED_AT_MOST = 1.6  # cost of going on as it was linked, whatever speaks against it
MOST_GROWN = 0.9  # summed log ratio of the sizes of two ends of one object
LOOKS = 2.0  # times the weight of looks that an unlike look costs
FAST, FAR = 0.4, 0.16  # sizes/s, and sizes, from which a way has a direction
GROWN_WEIGHT, WAIT_WEIGHT = 0.8, 0.1  # cost of a summed log ratio of sizes of 1, and of a second between
MOST_STARTS = 8  # beginnings that are weighed for each end, the cheapest
MOST_SAMPLED = 200  # beginnings that are tried for what chance would bring
BLINK = 0.5  # s: a break so short that the tracker bridged is not put down to chance
TRIED_WAITS = 6
CHANCE_WEIGHT = (
    4.0  # cost of each other beginning that chance would have brought: where that is one, a fit says nothing
)
COST_SCALE = 0.5  # brings the cost of a join under that of leaving an end alone


@dataclass(frozen=True)
class _Ends:
    """One end of every track: frame, time s, centre px, speed px/s, size px, and whether it is at the edge."""

    frame: NDArray[np.int64]
    time: Float
    centre: Float
    speed: Float
    size: Float
    at_edge: NDArray[np.bool_]


def join_broken(
    tracks: Tracks,
    times: Float,
    settings: TrackSettings,
    look: NDArray[np.uint8] | None = None,
) -> Tracks:
    """Tracks with broken ones joined; the joined keep the earlier number, numbers stay without gaps.

    Rows of the break are added as coasting, in a straight line. ``look`` (detections, 32) says how each detection
    looks.
    """
    if len(tracks.paths.identity) < 1:
        return tracks
    tracks, goes_on = cut_at_gaps(tracks, times)
    if len(tracks.paths.identity) < 2:
        return tracks
    last, first = (_ends(tracks, times, settings.life.exits, at_start=start) for start in (False, True))
    n = len(tracks.paths.identity)
    end, start, cost = find_joins(
        last.time, last.centre, last.speed, last.size, last.at_edge, first.time, first.centre, first.speed,
        first.size, first.at_edge, goes_on, settings.after.join_within,
    )  # fmt: skip
    chance = expected_by_chance(
        end, start, cost, last.centre, last.speed, last.size, first.centre, first.speed, first.size,
        first.at_edge, settings.after.join_within, float(times[tracks.frame_count - 1] - times[0]), MOST_SAMPLED,
    )  # fmt: skip
    blinked = (goes_on[end] == start) & (first.time[start] - last.time[end] < BLINK)
    cost = cost + np.where(blinked, 0.0, CHANCE_WEIGHT * chance)
    weight = settings.match.look_weight
    if look is not None and len(look) and weight > 0:
        cost = cost + LOOKS * weight * _unlikeness(tracks, look, end, start)
    # Where nothing stands against it a piece goes on as it was linked, or ends.
    match = np.full(n, -1, np.int64)
    assign_groups(end, start, cost * COST_SCALE, np.ones(len(end), np.bool_), n, n, match)
    return joined_pieces(tracks, match) if (match >= 0).any() else tracks


def _unlikeness(tracks: Tracks, look: NDArray[np.uint8], end: NDArray, start: NDArray) -> Float:
    """How unlike the two sides of each possible join look, (pairs,) 0..1."""
    paths = tracks.paths
    before = path_looks(paths.start, paths.row, tracks.detection, look, False, LOOKS_BACK)
    after = path_looks(paths.start, paths.row, tracks.detection, look, True, LOOKS_BACK)
    return look_distances(before, end, after, start)


def _ends(tracks: Tracks, times: Float, exits: tuple[Points, ...], *, at_start: bool) -> _Ends:
    paths = tracks.paths
    frame, centre, speed, size = measure_ends(
        paths.start, paths.row, paths.frame, tracks.state != TrackState.COASTING, tracks.box, times, at_start
    )
    room = EDGE * size
    at_edge = (centre < room).any(axis=1) | (centre > np.array(tracks.size, np.float64) - room).any(axis=1)
    at_edge |= in_exits(centre, exits, tracks.size)
    return _Ends(frame, times[frame], centre, speed, np.maximum(size, 1.0), np.asarray(at_edge, np.bool_))


@njit(cache=True, nogil=True)
def measure_ends(
    start: NDArray[np.int64],
    row: NDArray[np.int64],
    frame_of: NDArray[np.int64],
    seen: NDArray[np.bool_],
    box: NDArray[np.float32],
    times: Float,
    at_start: bool,
) -> tuple[NDArray[np.int64], Float, Float, Float]:  # pragma: no cover
    """Frame, centre px, speed px/s (least squares) and usual size px (median) at one end of every path."""
    n = start.shape[0] - 1
    frame, centre, speed, size = np.zeros(n, np.int64), np.zeros((n, 2)), np.zeros((n, 2)), np.zeros((n, 2))
    for p in range(n):
        places = np.empty(start[p + 1] - start[p], np.int64)
        m = 0
        for k in range(start[p], start[p + 1]):
            if seen[row[k]]:
                places[m] = k
                m += 1
        if m == 0:
            places[0], m = start[p], 1
        first, past = 0, m
        last_time, first_time = times[frame_of[places[m - 1]]], times[frame_of[places[0]]]
        while not at_start and last_time - times[frame_of[places[first]]] >= LOOK_BACK and m - first > LEAST_ROWS:
            first += 1
        while at_start and times[frame_of[places[past - 1]]] - first_time >= LOOK_BACK and past > LEAST_ROWS:
            past -= 1
        here = places[first] if at_start else places[past - 1]
        frame[p] = frame_of[here]
        for axis in range(2):
            sides = np.empty(m)
            for k in range(m):
                sides[k] = box[row[places[k]], axis + 2] - box[row[places[k]], axis]
            size[p, axis] = np.median(sides)
            centre[p, axis] = 0.5 * (box[row[here], axis] + box[row[here], axis + 2])
            if past - first >= LEAST_ROWS:
                speed[p, axis] = _slope(places[first:past], row, frame_of, box, times, axis)
    return frame, centre, speed, size


@njit(cache=True, nogil=True)
def _slope(
    places: NDArray[np.int64],
    row: NDArray[np.int64],
    frame_of: NDArray[np.int64],
    box: NDArray[np.float32],
    times: Float,
    axis: int,
) -> float:  # pragma: no cover
    """Least squares slope of a centre coordinate over time, px/s."""
    n = places.shape[0]
    t0, x0 = 0.0, 0.0
    for k in places:
        t0 += times[frame_of[k]] / n
        x0 += 0.5 * (box[row[k], axis] + box[row[k], axis + 2]) / n
    over, under = 0.0, 0.0
    for k in places:
        t = times[frame_of[k]] - t0
        over += t * (0.5 * (box[row[k], axis] + box[row[k], axis + 2]) - x0)
        under += t * t
    return float(over / under) if under > 0 else 0.0


@njit(cache=True, nogil=True)
def find_joins(
    end_time: Float,
    end_centre: Float,
    end_speed: Float,
    end_size: Float,
    end_at_edge: NDArray[np.bool_],
    start_time: Float,
    start_centre: Float,
    start_speed: Float,
    start_size: Float,
    start_at_edge: NDArray[np.bool_],
    goes_on: NDArray[np.int64],
    within: float,
) -> tuple[NDArray[np.int64], NDArray[np.int64], Float]:  # pragma: no cover
    """Pairs of an end and a beginning that may be one object, with their costs.

    Beginnings are looked up by time. ``goes_on`` (ends,) is the beginning each end was linked to, -1 for none: such a
    pair is always possible.
    """
    order = np.argsort(start_time, kind="mergesort")
    sorted_time, x, y = start_time[order], start_centre[order, 0], start_centre[order, 1]
    root = np.sqrt(np.sqrt(start_size[order, 0] * start_size[order, 1]))
    fast = np.hypot(start_speed[order, 0], start_speed[order, 1])
    free = ~start_at_edge[order]
    wide, tall = np.log(start_size[order, 0]), np.log(start_size[order, 1])
    room, n = 4 * end_time.shape[0] + 64, 0
    ends, starts, costs = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room)
    best, best_cost = np.empty(MOST_STARTS, np.int64), np.empty(MOST_STARTS)
    for a in range(end_time.shape[0]):
        found, at = 0, order.shape[0]
        own_root = np.sqrt(np.sqrt(end_size[a, 0] * end_size[a, 1]))
        own_fast = np.hypot(end_speed[a, 0], end_speed[a, 1])
        own_wide, own_tall = np.log(end_size[a, 0]), np.log(end_size[a, 1])
        own_x, own_y, gone = end_centre[a, 0], end_centre[a, 1], end_time[a]
        if not end_at_edge[a]:
            at = np.searchsorted(sorted_time, gone, side="right")
        while at < order.shape[0] and sorted_time[at] <= gone + max(within, 0.0) + 1e-9:
            here = at
            at += 1
            wait = sorted_time[here] - gone
            reach = max(own_fast, fast[here]) * wait + own_root * root[here] * (SLACK + DRIFT * wait)
            if abs(x[here] - own_x) > reach or abs(y[here] - own_y) > reach or not free[here]:
                continue
            grown = abs(wide[here] - own_wide) + abs(tall[here] - own_tall)
            least = GROWN_WEIGHT * grown + WAIT_WEIGHT * wait - 1e-9  # what it costs in any case
            if grown > MOST_GROWN + 1e-9 or (found == MOST_STARTS and least >= best_cost[found - 1]):
                continue
            b = int(order[here])
            if b == goes_on[a]:
                continue
            cost = pair_cost(
                wait, x[here] - own_x, y[here] - own_y, end_speed[a, 0], end_speed[a, 1], start_speed[b, 0],
                start_speed[b, 1], end_size[a, 0], end_size[a, 1], start_size[b, 0], start_size[b, 1],
            )  # fmt: skip
            if not np.isfinite(cost) or (found == MOST_STARTS and cost >= best_cost[found - 1]):
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
            cost = join_cost(
                start_time[b] - end_time[a], end_centre[a], end_speed[a], end_size[a], start_centre[b],
                start_speed[b], start_size[b],
            )  # fmt: skip
            ends[n], starts[n], costs[n] = a, b, min(cost - AS_LINKED, AS_LINKED_AT_MOST)
            n += 1
    return ends[:n].copy(), starts[:n].copy(), costs[:n].copy()


@njit(cache=True, nogil=True)
def expected_by_chance(
    end: NDArray[np.int64],
    start: NDArray[np.int64],
    cost: Float,
    end_centre: Float,
    end_speed: Float,
    end_size: Float,
    start_centre: Float,
    start_speed: Float,
    start_size: Float,
    start_at_edge: NDArray[np.bool_],
    within: float,
    lasts: float,
    most: int,
) -> Float:  # pragma: no cover
    """How many other beginnings would fit an end as well as its partner does, (pairs,), were they to fall at random.

    Where objects come and go all the time, as at a door, something always begins soon after something ended there; that
    it fits says little. Every other beginning of the clip is tried at times spread over the longest break.
    """
    n = start_centre.shape[0]
    step = max(1, n // most)
    tried = np.arange(0, n, step)
    out = np.zeros(end.shape[0])
    share = min(1.0, within / max(lasts, 1e-6)) * step / TRIED_WAITS
    for k in range(end.shape[0]):
        a = end[k]
        hits = 0
        for b in tried:
            if b == start[k] or b == a or start_at_edge[b]:
                continue
            length = np.sqrt(np.sqrt(end_size[a, 0] * end_size[a, 1] * start_size[b, 0] * start_size[b, 1]))
            fast = max(np.hypot(end_speed[a, 0], end_speed[a, 1]), np.hypot(start_speed[b, 0], start_speed[b, 1]))
            reach = fast * within + length * (SLACK + DRIFT * within)
            if max(abs(start_centre[b, 0] - end_centre[a, 0]), abs(start_centre[b, 1] - end_centre[a, 1])) > reach:
                continue
            for w in range(TRIED_WAITS):
                fits = pair_cost(
                    within * (w + 0.5) / TRIED_WAITS, start_centre[b, 0] - end_centre[a, 0],
                    start_centre[b, 1] - end_centre[a, 1], end_speed[a, 0], end_speed[a, 1], start_speed[b, 0],
                    start_speed[b, 1], end_size[a, 0], end_size[a, 1], start_size[b, 0], start_size[b, 1],
                )  # fmt: skip
                hits += fits <= cost[k]
        out[k] = hits * share
    return out


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
    off = 1e18
    for share in (1.0, 0.6, 0.3):  # it kept its speed, or slowed down, or stood for most of the time
        t = share * wait
        dx, dy = way_x - end_vx * t, way_y - end_vy * t
        off = min(off, dx * dx + dy * dy)
        dx, dy = way_x - start_vx * t, way_y - start_vy * t
        off = min(off, dx * dx + dy * dy)
    reach = length * (SLACK + DRIFT * wait)
    if off > reach * reach:
        return np.inf
    grown = abs(np.log(start_w / end_w)) + abs(np.log(start_h / end_h))
    if grown > MOST_GROWN:
        return np.inf
    turned, far = 0.0, np.sqrt(way_x * way_x + way_y * way_y)
    for vx, vy in ((end_vx, end_vy), (start_vx, start_vy)):
        fast = np.sqrt(vx * vx + vy * vy)
        if fast > FAST * length and far > FAR * length:
            turned += 0.25 * (1.0 - (way_x * vx + way_y * vy) / (far * fast))
    return np.sqrt(off) / reach + GROWN_WEIGHT * grown + turned + WAIT_WEIGHT * wait
