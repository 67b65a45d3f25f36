"""Broken tracks joined over the whole clip, as one assignment of ends to beginnings.

A track that ends in the middle of the picture and one that begins there later may be one animal that was hidden.
Each such pair is judged by motion (where either would have been had it kept its speed, or slowed down), by size and
by time; all ends and beginnings are then matched at least total cost (Kuhn 1955), as in Huang, Wu and Nevatia 2008,
"Robust object tracking by hierarchical association of detection responses", section 4.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.assignment import assign_groups
from drover.core.recipe import TrackSettings
from drover.core.settings.base import Points
from drover.core.track.exits import in_exits
from drover.core.track.looks import look_distance, path_looks
from drover.core.types import Tracks, TrackState

__all__ = ["join_broken", "join_cost"]

Float = NDArray[np.float64]
LOOK_BACK = 25  # rows from which the speed at an end is taken: the last few are of what is half hidden
EDGE = 0.75  # sizes: an end nearer to the picture's edge than that went out there
SLACK = 0.6  # sizes that a guess may be off at once
DRIFT = 1.3  # sizes that a guess may be off for each second
LEAST_ROWS = 3
CUT_FROM = 0.15  # s: a gap from which the two sides are compared anew
CUT_FRAMES = 2.5  # frames that such a gap has at least
AS_LINKED = 0.15  # cost less for going on as it was linked
AS_LINKED_AT_MOST = 1.6  # cost of going on as it was linked, whatever speaks against it
MOST_GROWN = 0.9  # summed log ratio of the sizes of two ends of one animal
LOOKS = 2.0  # times the weight of looks that an unlike look costs
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
    tracks, linked = _cut_at_gaps(tracks, times)
    if len(tracks.paths.identity) < 2:
        return tracks
    last, first = (_ends(tracks, times, settings.life.exits, at_start=start) for start in (False, True))
    n = len(tracks.paths.identity)
    goes_on = np.full(n, -1, np.int64)
    for before, after in linked:
        goes_on[before] = after
    end, start, cost = find_joins(
        last.time, last.centre, last.speed, last.size, last.at_edge, first.time, first.centre, first.speed,
        first.size, first.at_edge, goes_on, settings.after.join_within,
    )  # fmt: skip
    weight = settings.match.look_weight
    if look is not None and len(look) and weight > 0:
        cost = cost + LOOKS * weight * _unlikeness(tracks, look, end, start)
    # Where nothing stands against it a piece goes on as it was linked, or ends.
    match = np.full(n, -1, np.int64)
    assign_groups(end, start, cost * COST_SCALE, np.ones(len(end), np.bool_), n, n, match)
    good = match >= 0
    if not good.any():
        return tracks
    follows = {int(a): int(match[a]) for a in np.flatnonzero(good)}
    return _rebuilt(tracks, follows)


def _unlikeness(tracks: Tracks, look: NDArray[np.uint8], end: NDArray, start: NDArray) -> Float:
    """How unlike the two sides of each possible join look, (pairs,) 0..1."""
    paths = tracks.paths
    before = path_looks(paths.start, paths.row, tracks.detection, look, False, LOOK_BACK)
    after = path_looks(paths.start, paths.row, tracks.detection, look, True, LOOK_BACK)
    return np.array([look_distance(before, a, after, b) for a, b in zip(end.tolist(), start.tolist(), strict=True)])


def _cut_at_gaps(tracks: Tracks, times: Float) -> tuple[Tracks, list[tuple[int, int]]]:
    """Tracks cut where they coasted for long, and which pieces (places among the paths) were linked.

    While it tracks, the tracker has to decide at the first glimpse of what comes back; afterwards the whole of
    what went and of what came back can be compared.
    """
    paths = tracks.paths
    piece = np.zeros(len(tracks), np.int64)
    longest = max(CUT_FROM, CUT_FRAMES * float(np.median(np.diff(times)))) if len(times) > 1 else CUT_FROM
    number, linked = 0, []
    for k in range(len(paths.identity)):
        rows = paths.row[paths.start[k] : paths.start[k + 1]]
        seen = np.flatnonzero(tracks.state[rows] != TrackState.COASTING)
        when = times[tracks.frame[rows[seen]]]
        breaks = np.flatnonzero(np.diff(when) > longest)
        piece[rows] = number
        for at in breaks.tolist():
            piece[rows[seen[at] + 1 : seen[at + 1]]] = -1
            piece[rows[seen[at + 1] :]] = number + 1
            linked.append((number, number + 1))
            number += 1
        number += 1
    keep = piece >= 0
    counts = np.bincount(tracks.frame[keep], minlength=tracks.frame_count)
    columns = [name for name in _ROW_COLUMNS if getattr(tracks, name) is not None]
    cut = replace(
        tracks,
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        identity=(piece[keep] + 1).astype(np.int32),
        **{name: getattr(tracks, name)[keep] for name in columns},
    )
    order = np.lexsort((cut.identity, cut.frame))
    return replace(cut, identity=cut.identity[order], **{n: getattr(cut, n)[order] for n in columns}), linked


_ROW_COLUMNS = ("box", "state", "detection", "confidence", "class_id", "distance", "margin", "nis")


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
        first = 0 if at_start else max(0, m - LOOK_BACK)
        past = min(m, LOOK_BACK) if at_start else m
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
    """Pairs of an end and a beginning that may be one animal, with their costs.

    Beginnings are looked up by time. ``goes_on`` (ends,) is the beginning each end was linked to, -1 for none: such a
    pair is always possible.
    """
    order = np.argsort(start_time, kind="mergesort")
    sorted_time = start_time[order]
    ends, starts, costs = [0], [0], [0.0]
    for a in range(end_time.shape[0]):
        at = np.searchsorted(sorted_time, end_time[a], side="right")
        while at < order.shape[0] and sorted_time[at] <= end_time[a] + max(within, 0.0) + 1e-9:
            b = int(order[at])
            at += 1
            if b == goes_on[a] or end_at_edge[a] or start_at_edge[b]:
                continue
            cost = join_cost(
                start_time[b] - end_time[a], end_centre[a], end_speed[a], end_size[a], start_centre[b],
                start_speed[b], start_size[b],
            )  # fmt: skip
            if np.isfinite(cost):
                ends.append(a)
                starts.append(b)
                costs.append(cost)
        b = int(goes_on[a])
        if b >= 0:
            cost = join_cost(
                start_time[b] - end_time[a], end_centre[a], end_speed[a], end_size[a], start_centre[b],
                start_speed[b], start_size[b],
            )  # fmt: skip
            ends.append(a)
            starts.append(b)
            costs.append(min(cost - AS_LINKED, AS_LINKED_AT_MOST))
    return np.array(ends)[1:], np.array(starts)[1:], np.array(costs)[1:]


@njit(cache=True, nogil=True)
def join_cost(
    wait: float, end: Float, end_speed: Float, end_size: Float, start: Float, start_speed: Float, start_size: Float
) -> float:  # pragma: no cover
    """How unlike one animal an end and a beginning ``wait`` s later are; infinite beyond reach."""
    grown = abs(np.log(start_size[0] / end_size[0])) + abs(np.log(start_size[1] / end_size[1]))
    if grown > MOST_GROWN:
        return np.inf
    way_x, way_y = start[0] - end[0], start[1] - end[1]
    length = np.sqrt(np.sqrt(end_size[0] * end_size[1] * start_size[0] * start_size[1]))
    off = 1e18
    for share in (1.0, 0.6, 0.3):  # it kept its speed, or slowed down, or stood for most of the time
        for speed in (end_speed, start_speed):
            dx, dy = way_x - speed[0] * share * wait, way_y - speed[1] * share * wait
            off = min(off, np.sqrt(dx * dx + dy * dy))
    off /= length * (SLACK + DRIFT * wait)
    if off > 1.0:
        return np.inf
    turned, far = 0.0, np.sqrt(way_x * way_x + way_y * way_y)
    for speed in (end_speed, start_speed):
        fast = np.sqrt(speed[0] * speed[0] + speed[1] * speed[1])
        if fast > 20.0 and far > 8.0:
            turned += 0.25 * (1.0 - (way_x * speed[0] + way_y * speed[1]) / (far * fast))
    return off + 0.8 * grown + turned + 0.1 * wait


def _rebuilt(tracks: Tracks, follows: dict[int, int]) -> Tracks:
    """The table with identities joined and their breaks filled with coasting rows."""
    paths, n = tracks.paths, len(tracks.paths.identity)
    head = np.arange(n)
    for a in sorted(follows, key=lambda k: int(paths.frame[paths.start[k]])):
        head[follows[a]] = head[a]
    order = np.unique(head)
    number = np.zeros(int(paths.identity.max()) + 1, np.int32)
    number[paths.identity] = (np.searchsorted(order, head) + 1).astype(np.int32)
    joined = replace(tracks, identity=number[tracks.identity])
    added = [_bridge(tracks, a, b) for a, b in follows.items()]
    frame = np.concatenate([tracks.frame, *(part[0] for part in added)])
    box = np.concatenate([tracks.box, *(part[1] for part in added)])
    who = np.concatenate([joined.identity, *(np.full(len(p[0]), number[p[2]], np.int32) for p in added)])
    kind = np.concatenate([tracks.class_id, *(np.full(len(p[0]), p[3], np.int16) for p in added)])
    more = len(frame) - len(tracks.frame)
    place = np.lexsort((who, frame))
    counts = np.bincount(frame, minlength=tracks.frame_count)

    def longer(column: NDArray, value: float) -> NDArray:
        return np.concatenate([column, np.full(more, value, column.dtype)])[place]

    return replace(
        tracks,
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        identity=who[place].astype(np.int32),
        box=box[place],
        state=longer(tracks.state, int(TrackState.COASTING)),
        detection=longer(tracks.detection, -1),
        confidence=longer(tracks.confidence, 0.0),
        class_id=kind[place],
        distance=longer(tracks.distance, np.nan),
        margin=None if tracks.margin is None else longer(tracks.margin, np.nan),
        nis=None if tracks.nis is None else longer(tracks.nis, np.nan),
    )


def _bridge(tracks: Tracks, a: int, b: int) -> tuple[NDArray[np.int64], NDArray[np.float32], int, int]:
    """Frames and boxes between the end of path ``a`` and the beginning of path ``b``, its identity and class."""
    paths = tracks.paths
    end, start = int(paths.row[paths.start[a + 1] - 1]), int(paths.row[paths.start[b]])
    first, past = int(tracks.frame[end]) + 1, int(tracks.frame[start])
    frames = np.arange(first, past)
    share = ((frames - first + 1) / max(1, past - first + 1))[:, None]
    box = tracks.box[end] * (1 - share) + tracks.box[start] * share
    return frames, box.astype(np.float32), int(tracks.identity[end]), int(tracks.class_id[end])
