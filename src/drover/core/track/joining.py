"""Broken tracks joined over the whole clip, as one assignment of ends to beginnings.

A track that ends in the middle of the picture and one that begins there later may be one object that was hidden.
Each such pair is judged by motion (where either would have been had it kept its speed, or slowed down), by size and
by time; all ends and beginnings are then matched at least total cost (Kuhn 1955), as in Huang, Wu and Nevatia 2008,
"Robust object tracking by hierarchical association of detection responses", section 4. Each end keeps its few best
beginnings, so that clutter costs no more than its share.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.assignment import NOBODY, match_pairs
from drover.core.both_cores import at_once, in_halves, in_shares
from drover.core.kernel_parts import slope
from drover.core.recipe import TrackSettings
from drover.core.settings.base import Points
from drover.core.track.exits import in_exits
from drover.core.track.join_costs import Ends, expected_by_chance, find_joins
from drover.core.track.looks import look_distances, path_looks
from drover.core.track.pieces import cut_at_gaps, joined_pieces
from drover.core.track.turned_about import find_turns
from drover.core.types import Tracks, TrackState

__all__ = ["join_broken"]

Float = NDArray[np.float64]
LOOK_BACK = 1.0  # s from which the speed at an end is taken: the last few pictures are of what is half hidden
LOOKS_BACK = 25  # detections from which the look at an end is taken
EDGE = 0.75  # sizes: an end nearer to the picture's edge than that went out there
LEAST_ROWS = 3
LOOKS = 2.0  # times the weight of looks that an unlike look costs
MOST_SAMPLED = 200  # beginnings that are tried for what chance would bring
BLINK = 0.5  # s: a break so short that the tracker bridged is not put down to chance
CHANCE_WEIGHT = (
    4.0  # cost of each other beginning that chance would have brought: where that is one, a fit says nothing
)
COST_SCALE = 0.5  # brings the cost of a join under that of leaving an end alone


def join_broken(
    tracks: Tracks,
    times: Float,
    settings: TrackSettings,
    look: NDArray[np.uint8] | None = None,
    view: NDArray[np.float32] | None = None,
) -> Tracks:
    """Tracks with broken ones joined; the joined keep the earlier number, numbers stay without gaps.

    Rows of the break are added as coasting, in a straight line. ``look`` (detections, 32) says how each detection
    looks, ``view`` (frames, 4) what of the scene each picture shows, where the camera moves.
    """
    if len(tracks.paths.identity) < 1:
        return tracks
    # Where the camera moves, its turns are everybody's.
    others = find_turns(tracks, times, look) if view is None else None
    tracks, goes_on, parted = cut_at_gaps(tracks, times, others)
    if len(tracks.paths.identity) < 2:
        return tracks
    _ = tracks.paths  # made once, before two threads ask for them
    last, first = at_once(
        lambda: _ends(tracks, times, settings.life.exits, view, at_start=False),
        lambda: _ends(tracks, times, settings.life.exits, view, at_start=True),
    )
    n = len(tracks.paths.identity)
    within, lasts = settings.after.join_within, float(times[tracks.frame_count - 1] - times[0])
    shares = in_shares(lambda begin, past: find_joins(last, first, goes_on, within, begin, past), n)
    end, start, cost = (np.concatenate(part) for part in zip(*shares, strict=True))
    cut = int(np.searchsorted(end, end[len(end) // 2])) if len(end) else 0
    chance = np.concatenate(in_halves(
        expected_by_chance, len(end), end, start, cost, last, first, within, lasts, MOST_SAMPLED, cut=cut
    ))  # fmt: skip
    blinked = (goes_on[end] == start) & (first.time[start] - last.time[end] < BLINK)
    cost = cost + np.where(blinked, 0.0, CHANCE_WEIGHT * chance)
    weight = settings.match.look_weight
    cost = np.where(parted[start] == end, np.inf, cost)
    if look is not None and len(look) and weight > 0:
        cost = cost + LOOKS * weight * _unlikeness(tracks, look, end, start)
    # Where nothing stands against it a piece goes on as it was linked, or ends.
    match = np.full(n, -1, np.int64)
    cost = cost * COST_SCALE
    match_pairs(end, start, cost, cost < NOBODY, n, n, match)
    return joined_pieces(tracks, match) if (match >= 0).any() else tracks


def _unlikeness(tracks: Tracks, look: NDArray[np.uint8], end: NDArray, start: NDArray) -> Float:
    """How unlike the two sides of each possible join look, (pairs,) 0..1."""
    paths = tracks.paths
    before = path_looks(paths.start, paths.row, tracks.detection, look, False, LOOKS_BACK)
    after = path_looks(paths.start, paths.row, tracks.detection, look, True, LOOKS_BACK)
    return look_distances(before, end, after, start)


def _ends(
    tracks: Tracks, times: Float, exits: tuple[Points, ...], view: NDArray[np.float32] | None, *, at_start: bool
) -> Ends:
    paths = tracks.paths
    frame, centre, speed, size = measure_ends(
        paths.start, paths.row, paths.frame, tracks.state != TrackState.COASTING, tracks.box, times, at_start
    )
    room = EDGE * size
    low, high = np.zeros(2), np.array(tracks.size, np.float64)
    if view is not None:
        low, high = view[frame, :2].astype(np.float64), view[frame, 2:].astype(np.float64)
    at_edge = (centre < low + room).any(axis=1) | (centre > high - room).any(axis=1)
    at_edge |= in_exits(centre, exits, tracks.size)
    return Ends(times[frame], centre, speed, np.maximum(size, 1.0), np.asarray(at_edge, np.bool_))


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
                near = places[first:past]
                middles = np.empty(near.shape[0])
                for k in range(near.shape[0]):
                    middles[k] = 0.5 * (box[row[near[k]], axis] + box[row[near[k]], axis + 2])
                speed[p, axis] = slope(times[frame_of[near]], middles)
    return frame, centre, speed, size
