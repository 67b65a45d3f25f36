"""What makes a place in a result doubtful, kind by kind, each found over all tracks at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.geometry import pair_overlap
from drover.core.kernel_parts import longer, read_only
from drover.core.ordering import order_by, order_of
from drover.core.settings.base import Points
from drover.core.track.exits import in_exits
from drover.core.track.gaps import bridges
from drover.core.track.looks import look_changes
from drover.core.types import Tracks, TrackState

__all__ = [
    "Found", "changed_looks", "close_calls", "jumps", "long_gaps", "meetings", "odd_ends", "shared_blobs",
    "usual_sizes",
]  # fmt: skip

Float = NDArray[np.float64]
Int = NDArray[np.int64]
EDGE = 1.0  # sizes from the picture's edge within which a birth or an end is in order
MEETING = 0.15  # overlap of two boxes from which they are in each other's gate
SMALL_MARGIN = 0.25  # of cost: a link that beats its runner-up by less is a close call
LEAST_GAP = 0.24  # s
APART = 0.5  # s between two meetings of the same pair
SIZE_JUMP = 0.45  # summed log ratio of the sides within a fifth of a second
LOOK_SPAN = 8  # detections on either side that a change of look is judged by
LOOK_CHANGE = 0.5  # of a whole change of look
SPEED_JUMP = 1.5  # sizes/s of change of speed within a fifth of a second
JUMP_TIME = 0.2  # s
LONGER = 1.5  # times the time that rows take which have all their pictures
LEAST_ROWS = 12
CLIP_ENDS = 2  # frames at either end of the clip where everything begins and ends


@dataclass(frozen=True)
class Found:
    """Places of one kind.

    ``frames`` (n, 3) int64: where to look, first and last; ``score`` (n,) 0..1; ``identities`` (n, 2), 0 for none.
    """

    kind: str
    frames: Int
    score: Float
    identities: Int


def _alone(kind: str, frame: Int, score: Float, identity: NDArray) -> Found:
    """Places of a single frame and identity."""
    who = np.column_stack([identity, np.zeros(len(frame))]).astype(np.int64)
    return Found(kind, np.column_stack([frame] * 3).astype(np.int64), score, who)


def usual_sizes(tracks: Tracks) -> Float:
    """Median width and height of each path, (paths, 2) px, at least 1."""
    return median_sides(tracks.paths.start, tracks.paths.row, tracks.box)


@njit(cache=True, nogil=True)
def median_sides(start: Int, row: Int, box: NDArray[np.float32]) -> Float:  # pragma: no cover
    """Median width and height of each path, at least 1 px."""
    out = np.ones((start.shape[0] - 1, 2))
    for p in range(out.shape[0]):
        sides = np.empty(start[p + 1] - start[p])
        for axis in range(2):
            for k in range(sides.shape[0]):
                r = row[start[p] + k]
                sides[k] = np.float64(box[r, axis + 2]) - np.float64(box[r, axis])
            out[p, axis] = max(np.median(sides), 1.0)
    return out


def long_gaps(tracks: Tracks, times: Float, usual: Float) -> Found:
    """Stretches unseen that end in being seen again; the longer and the farther, the more doubtful."""
    paths = tracks.paths
    which, before, past = bridges(tracks).T
    seconds = times[paths.frame[past]] - times[paths.frame[before]]
    size = usual[which].sum(axis=1)
    corner = tracks.box[paths.row][:, :2].astype(np.float64)
    moved = np.abs(corner[past] - corner[before]).sum(axis=1) / size
    score = np.minimum(0.95, 0.35 + 0.15 * np.minimum(seconds, 2.0) + 0.075 * np.minimum(moved, 2.0))
    long = seconds >= LEAST_GAP
    frames = np.column_stack([paths.frame[past], paths.frame[before], paths.frame[past]])[long]
    who = np.column_stack([paths.identity[which], np.zeros(len(which))])[long]
    return Found("gap", frames.astype(np.int64), score[long], who.astype(np.int64))


def odd_ends(tracks: Tracks, exits: tuple[Points, ...], usual: Float) -> tuple[Found, Found]:
    """Beginnings and ends away from the picture's edge, from exits, and from the ends of the clip."""
    paths, (width, height) = tracks.paths, tracks.size
    out = []
    for kind, row, clip_end in (
        ("begin", paths.row[paths.start[:-1]], 0),
        ("end", paths.row[paths.start[1:] - 1], tracks.frame_count - 1),
    ):
        box, frame = tracks.box[row].astype(np.float64), tracks.frame[row]
        room = EDGE * usual
        odd = (box[:, :2] > room).all(axis=1) & (box[:, 2:] < np.array([width, height]) - room).all(axis=1)
        odd &= np.abs(frame - clip_end) > CLIP_ENDS
        odd &= ~in_exits((box[:, :2] + box[:, 2:]) / 2, exits, tracks.size)
        out.append(_alone(kind, frame[odd], np.full(int(odd.sum()), 0.7), paths.identity[odd]))
    return out[0], out[1]


def close_calls(tracks: Tracks) -> Found:
    """Links that beat their runner-up by little."""
    margin = np.full(len(tracks), np.inf) if tracks.margin is None else tracks.margin.astype(np.float64)
    row = np.flatnonzero(margin < SMALL_MARGIN)
    score = 0.25 + 0.35 * np.maximum(0.0, 1.0 - np.maximum(margin[row], 0.0) / SMALL_MARGIN)
    return _alone("margin", tracks.frame[row], score, tracks.identity[row])


def jumps(tracks: Tracks, times: Float, usual: Float) -> tuple[Found, Found]:
    """Sudden changes of size and of speed, a fifth of a second apart."""
    paths = tracks.paths
    place, by, kind = find_jumps(
        paths.start, paths.row, times[paths.frame], tracks.state == TrackState.COASTING, tracks.box, usual
    )
    out = []
    for number, (name, limit) in enumerate((("size", SIZE_JUMP), ("speed", SPEED_JUMP))):
        mine = kind == number
        first, at = paths.frame[place[mine, 0]], paths.frame[place[mine, 1]]
        score = np.minimum(0.6, 0.2 + 0.1 * by[mine] / limit)
        who = tracks.identity[paths.row[place[mine, 1]]]
        frames = np.column_stack([at, first, at]).astype(np.int64)
        out.append(Found(name, frames, score, np.column_stack([who, np.zeros(len(who))]).astype(np.int64)))
    return out[0], out[1]


@njit(cache=True, nogil=True)
def find_jumps(
    start: Int, row: Int, when: Float, coasting: NDArray[np.bool_], box: NDArray[np.float32], size: Float
) -> tuple[Int, Float, Int]:  # pragma: no cover
    """Peaks of the change of size (0) and of speed (1): places (n, 2) of their beginning and middle, by how much."""
    places, by, kinds = [(0, 0)], [0.0], [0]
    for p in range(start.shape[0] - 1):
        n = start[p + 1] - start[p]
        if n < LEAST_ROWS:
            continue
        usual = np.median(np.diff(when[start[p] : start[p + 1]]))
        step = max(2, int(round(JUMP_TIME / max(usual, 1e-6))))
        if n <= 2 * step:
            continue
        for kind in range(2):
            changes = _changes(kind, start[p], n, step, LONGER * step * usual, row, when, box, size[p])
            limit, shift = (SIZE_JUMP, step // 2) if kind == 0 else (SPEED_JUMP, step)
            best = -1
            for k in range(changes.shape[0] + 1):
                if k < changes.shape[0] and changes[k] > limit:
                    if best < 0 or changes[k] > changes[best]:
                        best = k
                elif best >= 0:
                    at = start[p] + min(best + shift, n - 1)
                    if not coasting[row[at]]:
                        places.append((start[p] + best, at))
                        by.append(changes[best])
                        kinds.append(kind)
                    best = -1
    return np.array(places)[1:], np.array(by)[1:], np.array(kinds)[1:]


@njit(cache=True, nogil=True)
def _changes(
    kind: int,
    first: int,
    n: int,
    step: int,
    longest: float,
    row: Int,
    when: Float,
    box: NDArray[np.float32],
    size: Float,
) -> Float:  # pragma: no cover
    """Change of size (summed log ratio of the sides), or of speed in sizes/s, over ``step`` rows of a path.

    Rows that more than ``longest`` s lie between are not held against each other.
    """
    if kind == 0:
        out = np.zeros(n - step)
        for k in range(n - step):
            a, b = row[first + k], row[first + k + step]
            if when[first + k + step] - when[first + k] > longest:
                continue
            for axis in range(2):
                before = max(np.float64(box[a, axis + 2]) - np.float64(box[a, axis]), 1.0)
                after = max(np.float64(box[b, axis + 2]) - np.float64(box[b, axis]), 1.0)
                out[k] += abs(np.log(after / before))
        return out
    out = np.zeros(n - 2 * step)
    length = np.sqrt(size[0] * size[1])
    for k in range(n - 2 * step):
        a, b, c = first + k, first + k + step, first + k + 2 * step
        if when[c] - when[a] > 2 * longest:
            continue
        total = 0.0
        for axis in range(2):
            at_a = 0.5 * (np.float64(box[row[a], axis]) + np.float64(box[row[a], axis + 2]))
            at_b = 0.5 * (np.float64(box[row[b], axis]) + np.float64(box[row[b], axis + 2]))
            at_c = 0.5 * (np.float64(box[row[c], axis]) + np.float64(box[row[c], axis + 2]))
            change = (at_c - at_b) / max(when[c] - when[b], 1e-9) - (at_b - at_a) / max(when[b] - when[a], 1e-9)
            total += change * change
        out[k] = np.sqrt(total) / length
    return out


def shared_blobs(tracks: Tracks, times: Float) -> Found:
    """Stretches in which two identities were linked to one blob."""
    row = np.flatnonzero(tracks.detection >= 0)
    order = row[order_of(tracks.detection[row])]
    blob = tracks.detection[order]
    again = np.flatnonzero(blob[1:] == blob[:-1])
    pair = np.sort(np.column_stack([tracks.identity[order[again]], tracks.identity[order[again + 1]]]), axis=1)
    frame = tracks.frame[order[again]]
    first, past, by_pair = _stretches(pair, frame, times)
    score = np.minimum(0.9, 0.4 + 0.02 * (past - first))
    frames = np.column_stack([frame[by_pair[past - 1]], frame[by_pair[first]], frame[by_pair[past - 1]]])
    return Found("shared", frames.astype(np.int64), score, pair[by_pair[first]].astype(np.int64))


def meetings(tracks: Tracks, times: Float) -> Found:
    """Stretches in which the boxes of two identities, each linked to its own detection, lie over each other."""
    frame, one, other, overlap = close_pairs(tracks.frame_start, tracks.box, tracks.detection, MEETING)
    pair = np.column_stack([tracks.identity[one], tracks.identity[other]])
    first, past, by_pair = _stretches(pair, frame, times)
    if len(first) == 0:
        return Found("meet", np.zeros((0, 3), np.int64), np.zeros(0), np.zeros((0, 2), np.int64))
    stretch = np.repeat(np.arange(len(first)), past - first)
    # The closest of each stretch: last in order of overlap within it, the earliest where several are alike.
    ranked = np.lexsort((-np.arange(len(by_pair)), overlap[by_pair], stretch))
    worst = by_pair[ranked[np.flatnonzero(np.diff(stretch[ranked], append=-1))]]
    score = np.minimum(0.6, 0.25 + 0.5 * overlap[worst])
    frames = np.column_stack([frame[worst], frame[by_pair[first]], frame[by_pair[past - 1]]])
    return Found("meet", frames.astype(np.int64), score, pair[by_pair[first]].astype(np.int64))


def _stretches(pair: NDArray, frame: Int, times: Float) -> tuple[Int, Int, Int]:
    """Rows of the same pair that follow each other within half a second: first, one past the last, and the order."""
    order = order_by(pair[:, 0], pair[:, 1], frame)
    same = (pair[order[1:]] == pair[order[:-1]]).all(axis=1)
    near = times[frame[order[1:]]] - times[frame[order[:-1]]] <= APART
    cut = np.flatnonzero(~(same & near)) + 1
    first = np.concatenate([np.zeros(min(len(order), 1), np.int64), cut])
    return first, np.append(first[1:], len(order)).astype(np.int64)[: len(first)], order


@njit(cache=True, nogil=True)
def close_pairs(
    frame_start: Int, box: NDArray[np.float32], detection: NDArray[np.int32], least: float
) -> tuple[Int, Int, Int, Float]:  # pragma: no cover
    """Pairs of rows of one frame that overlap by at least ``least`` and are not linked to one detection.

    Frame, first row, second row and overlap of each; rows are looked up by a sweep along x.
    """
    room, n = 1024, 0
    rows, overlap = np.empty((room, 3), np.int64), np.empty(room)
    for f in range(frame_start.shape[0] - 1):
        first, past = frame_start[f], frame_start[f + 1]
        order = np.argsort(box[first:past, 0], kind="mergesort")
        for i in range(order.shape[0]):
            a = first + order[i]
            for j in range(i + 1, order.shape[0]):
                b = first + order[j]
                if box[b, 0] >= box[a, 2]:
                    break
                if box[b, 1] >= box[a, 3] or box[b, 3] <= box[a, 1]:
                    continue
                if detection[a] >= 0 and detection[a] == detection[b]:
                    continue
                shared = pair_overlap(box, a, box, b)
                if shared < least:
                    continue
                if n == room:
                    room *= 2
                    rows, overlap = longer(rows, room), longer(overlap, room)
                rows[n, 0], rows[n, 1], rows[n, 2], overlap[n] = f, min(a, b), max(a, b), shared
                n += 1
    return rows[:n, 0].copy(), rows[:n, 1].copy(), rows[:n, 2].copy(), overlap[:n].copy()


def changed_looks(tracks: Tracks, look: NDArray[np.uint8]) -> Found:
    """Places where an identity looks another way than shortly before."""
    paths = tracks.paths
    change = look_changes(paths.start, paths.row, tracks.detection, read_only(look), LOOK_SPAN)
    place = peaks(paths.start, change, LOOK_CHANGE)
    score = np.minimum(0.7, 0.3 + 0.4 * change[place])
    return _alone("look", paths.frame[place], score, tracks.identity[paths.row[place]])


@njit(cache=True, nogil=True)
def peaks(start: Int, values: Float, limit: float) -> Int:  # pragma: no cover
    """The largest place of each stretch over the limit, path by path."""
    out = np.empty(values.shape[0], np.int64)
    n = 0
    for p in range(start.shape[0] - 1):
        best = -1
        for k in range(start[p], start[p + 1] + 1):
            if k < start[p + 1] and values[k] > limit:
                if best < 0 or values[k] > values[best]:
                    best = k
            elif best >= 0:
                out[n], best = best, -1
                n += 1
    return out[:n].copy()
