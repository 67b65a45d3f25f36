"""Tracks carried on at their ends over detections that nobody took, forwards and backwards in time.

A tracker that goes along with the clip begins late where a forecast still covers a newcomer, and stands beside what it
followed when that comes out of a blob where it was not expected. Afterwards it can be seen from the other side: picture
by picture the free detection is taken that lies where the end leads to, if it is of its size and the only one there.
This is a rule of our own.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.geometry import pair_overlap
from drover.core.kernel_parts import longer
from drover.core.track_rows import with_more_rows, without_rows
from drover.core.types import Detections, Tracks, TrackState

__all__ = ["carry_on"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
Float32 = NDArray[np.float32]
THERE, ANOTHER = 0.5, 0.3  # overlap with where an end leads to; overlap from which another detection could be it too
ALIKE = 1.4  # ratio of widths, and of heights, from one picture to the next
FOLLOW = 0.3  # share of a change of speed that is believed at once
SPEED_FROM = 0.2  # s from which the speed at an end is taken
HOLE = 2.5  # times the usual time between two pictures, over which nothing is carried on


class _Paths(NamedTuple):
    """Rows of each path in order of time, and of each row its frame, whether it was seen, and its detection or -1."""

    start: Int
    row: Int
    frame: Int
    seen: NDArray[np.bool_]
    detection: NDArray[np.int32]


def carry_on(tracks: Tracks, detections: Detections, times: Float) -> Tracks:
    """The tracks with what goes on before, behind and between what was seen of each, where nobody else has it.

    ``times`` s of the frames; ``detections`` are those the tracks were linked from, in the kernels' kind of arrays.
    """
    if len(tracks) == 0 or len(times) < 2:
        return tracks
    taken = np.zeros(len(detections), np.bool_)
    taken[tracks.detection[tracks.detection >= 0]] = True
    if taken.all():
        return tracks
    paths = tracks.paths
    rows = _Paths(paths.start, paths.row, tracks.frame, tracks.state != TrackState.COASTING, tracks.detection)
    hole = HOLE * float(np.median(np.diff(times)))
    parts = [
        follow_ends(rows, detections.frame_start, detections.box, taken, times, hole, way) for way in (-1, 1)
    ]  # births come late more often than what was lost is somebody else's: backwards first
    which, frame, found = (np.concatenate(column) for column in zip(*parts, strict=True))
    if len(found) == 0:
        return tracks
    identity, many = paths.identity[which], int(tracks.identity.max()) + 1
    # Where both sides of a gap lead to a picture, what the later one leads back to counts.
    told, first = np.unique(frame * many + identity, return_index=True)
    tracks = without_rows(tracks, np.isin(tracks.frame * many + tracks.identity, told))
    identity, frame, found = identity[first], frame[first], found[first]
    known = {name: getattr(detections, name)[found] for name in ("box", "confidence", "class_id")}
    state = int(TrackState.CONFIRMED)
    return with_more_rows(tracks, frame, identity, {**known, "state": state, "detection": found})


@njit(cache=True, nogil=True)
def follow_ends(
    paths: _Paths, frame_start: Int, box: Float32, taken: NDArray[np.bool_], times: Float, hole: float, way: int
) -> tuple[Int, Int, Int]:  # pragma: no cover
    """What each path goes on with, backwards (``way`` -1) or forwards (1): path, frame and detection.

    These are marked as ``taken``, in place.
    """
    room, n = 256, 0
    which, when, what = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.int64)
    last, speed = np.empty((1, 4), np.float32), np.empty(2)
    for p in range(paths.start.shape[0] - 1):
        for k in range(paths.start[p], paths.start[p + 1]):
            r = paths.row[k]
            if not paths.seen[r] or paths.detection[r] < 0:
                continue
            there = k + way
            while paths.start[p] <= there < paths.start[p + 1] and not paths.seen[paths.row[there]]:
                there += way
            past = frame_start.shape[0] - 1 if way > 0 else -1
            if paths.start[p] <= there < paths.start[p + 1]:  # up to where it is seen again
                past = paths.frame[paths.row[there]]
            last[0] = box[paths.detection[r]]
            speed_at(paths, p, k, box, times, way, speed)
            before = int(paths.frame[r])
            f = before + way
            while f != past and abs(times[f] - times[before]) <= hole:
                d = only_one_there(
                    last, speed, times[f] - times[before], box, taken, frame_start[f], frame_start[f + 1]
                )
                if d < 0:
                    break
                for axis in range(2):
                    gone = 0.5 * (box[d, axis] + box[d, axis + 2] - last[0, axis] - last[0, axis + 2])
                    speed[axis] += FOLLOW * (gone / (times[f] - times[before]) - speed[axis])
                last[0] = box[d]
                taken[d] = True
                if n == room:
                    room *= 2
                    which, when, what = longer(which, room), longer(when, room), longer(what, room)
                which[n], when[n], what[n] = p, f, d
                n += 1
                before, f = f, f + way
    return which[:n].copy(), when[:n].copy(), what[:n].copy()


@njit(cache=True, nogil=True)
def speed_at(
    paths: _Paths, p: int, k: int, box: Float32, times: Float, way: int, speed: Float
) -> None:  # pragma: no cover
    """Speed px/s at an end of what was seen, from the pictures on its inner side, into ``speed`` (2,)."""
    speed[:] = 0.0
    here = paths.row[k]
    j = k - way
    while paths.start[p] <= j < paths.start[p + 1] and paths.seen[paths.row[j]] and paths.detection[paths.row[j]] >= 0:
        r = paths.row[j]
        apart = times[paths.frame[here]] - times[paths.frame[r]]
        if apart == 0.0:
            break
        for axis in range(2):
            a, b = paths.detection[here], paths.detection[r]
            speed[axis] = 0.5 * (box[a, axis] + box[a, axis + 2] - box[b, axis] - box[b, axis + 2]) / apart
        if abs(apart) >= SPEED_FROM:
            break
        j -= way


@njit(cache=True, nogil=True)
def only_one_there(
    last: Float32, speed: Float, later: float, box: Float32, taken: NDArray[np.bool_], first: int, past: int
) -> int:  # pragma: no cover
    """The only free detection that lies where an end leads to and is of its size; -1 for none, or for several."""
    led = last.copy()
    for axis in range(2):
        led[0, axis] += np.float32(speed[axis] * later)
        led[0, axis + 2] += np.float32(speed[axis] * later)
    best = -1
    for d in range(first, past):
        shared = 0.0 if taken[d] else pair_overlap(led, 0, box, d)
        if shared <= ANOTHER:
            continue
        if best >= 0:
            return -1
        best = d
    if best < 0 or pair_overlap(led, 0, box, best) < THERE:
        return -1
    for axis in range(2):
        ratio = (box[best, axis + 2] - box[best, axis]) / max(last[0, axis + 2] - last[0, axis], np.float32(1.0))
        if not 1.0 / ALIKE <= ratio <= ALIKE:
            return -1
    return best
