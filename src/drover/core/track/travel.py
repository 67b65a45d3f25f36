"""What is an object and what flickers: leaves, water and rain travel nowhere, or leap about, faint and now and then.

Judged over a finished track, in sizes, shares and multiples of the threshold, so that one rule holds for all footage.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.smoothing import measured_boxes
from drover.core.track.usual_sizes import likeness
from drover.core.track_rows import columns_of, with_rows
from drover.core.types import Detections, Tracks, TrackState

__all__ = ["drop_flicker", "drop_unmoved", "object_odds", "odds_of", "part_distances", "steadiness", "travelled"]

Float = NDArray[np.float64]
PARTS = 8  # of a path whose middles are held against each other
SEEN_IN = 3  # rows that a part needs to have a middle
# Log odds that a track is an object and no flicker, fitted to tracks of drawn worlds and farm scenes by logistic
# regression (Cox 1958): what nothing says, and what each piece of evidence adds.
NOTHING_SAID = -3.4
FOR_CONTRAST, PLAIN_CONTRAST, FAINT = 22.4, 0.55, 0.53  # for its middle confidence over plain; faint is never worse
FOR_LEAP, MOST_LEAP = -1.9, 0.6  # for each size that its way bends at each picture, at the median
FOR_TIME, PLAIN_TIME, LEAST_TIME = 1.3, 0.8, 0.04  # for each e-fold of its time in s, from this one
FOR_SHARE = 1.96  # for the share of its time that it is seen in
BEYOND_DOUBT, SURE_TIME = 1.5, 1.0  # odds so far, and s, from which it is an object whose size tells of others
FOR_SIZE, FOR_OTHER_SIZE = 2.2, -0.2  # for being of their size, by the share of its time that it is seen; for not being


def drop_unmoved(tracks: Tracks, least: float) -> Tracks:
    """Tracks without those that never came farther than ``least`` of their own sizes; numbers stay without gaps."""
    return _kept(tracks, travelled(tracks) >= least) if least > 0 and len(tracks) else tracks


def drop_flicker(tracks: Tracks, detections: Detections, times: Float) -> Tracks:
    """Tracks without those that flicker, by the evidence in their time (``times`` s of the frames), contrast and way.

    What flickers is linked from sparks that have nothing to do with each other: it is seen now and then, soon over,
    faint, and leaps about. What a fixed rule on each of these misses their sum tells.
    """
    if len(tracks) == 0:
        return tracks
    return _kept(tracks, object_odds(tracks, detections, times) > 0)


def object_odds(tracks: Tracks, detections: Detections, times: Float) -> Float:
    """Of each path the log odds that it is an object and no flicker, (paths,)."""
    paths, seen = tracks.paths, tracks.state != TrackState.COASTING
    box = measured_boxes(tracks, detections)
    return odds_of(paths.start, paths.row, tracks.frame, box, seen, tracks.confidence, times)


def odds_of(
    start: NDArray[np.int64],
    row: NDArray[np.int64],
    frame: NDArray[np.int64],
    box: NDArray[np.float32],
    seen: NDArray[np.bool_],
    confidence: NDArray[np.float32],
    times: Float,
) -> Float:
    """The same from columns of rows: path ``p`` is ``row[start[p] : start[p + 1]]``, ``times`` s are of the frames."""
    share, contrast, leap = steadiness(start, row, frame, box, seen, confidence)
    first, last = frame[row[start[:-1]]], frame[row[start[1:] - 1]]
    lasts = np.maximum(times[last] - times[first], LEAST_TIME)
    odds = NOTHING_SAID + FOR_CONTRAST * (np.maximum(contrast, FAINT) - PLAIN_CONTRAST)
    odds += FOR_LEAP * np.minimum(leap, MOST_LEAP) + FOR_TIME * np.log(lasts / PLAIN_TIME) + FOR_SHARE * share
    sure = (odds > BEYOND_DOUBT) & (lasts > SURE_TIME)
    alike = likeness(start, row, box, seen, sure)
    return odds if alike is None else odds + FOR_SIZE * share * alike + FOR_OTHER_SIZE * (1.0 - alike)


def _kept(tracks: Tracks, keeps: NDArray[np.bool_]) -> Tracks:
    paths = tracks.paths
    if keeps.all():
        return tracks
    number = np.zeros(int(paths.identity.max()) + 1, np.int32)
    number[paths.identity[keeps]] = np.arange(1, int(keeps.sum()) + 1, dtype=np.int32)
    rows = number[tracks.identity] > 0
    columns = {name: getattr(tracks, name)[rows] for name in columns_of(tracks)}
    made = with_rows(tracks, tracks.frame[rows], number[tracks.identity[rows]], columns)
    return replace(made, nearest_refused=tracks.nearest_refused)


def travelled(tracks: Tracks) -> Float:
    """How far each path came, (paths,) in its own sizes: between the two parts of it that lie farthest apart.

    Each part's place is the median of its boxes, so that jitter and a single leap are no travel.
    """
    paths = tracks.paths
    return part_distances(paths.start, paths.row, tracks.box, tracks.state != TrackState.COASTING)


@njit(cache=True, nogil=True)
def part_distances(
    start: NDArray[np.int64], row: NDArray[np.int64], box: NDArray[np.float32], seen: NDArray[np.bool_]
) -> Float:  # pragma: no cover
    """The same from the columns of the tracks."""
    out = np.zeros(start.shape[0] - 1)
    at = np.empty((PARTS, 2))
    for p in range(out.shape[0]):
        rows = row[start[p] : start[p + 1]]
        rows = rows[seen[rows]]
        n = rows.shape[0]
        parts = min(PARTS, n // SEEN_IN)
        if parts < 2:
            continue
        middle, side = np.empty((n, 2)), np.empty(n)
        for k in range(n):
            b = box[rows[k]]
            middle[k, 0], middle[k, 1] = 0.5 * (b[0] + b[2]), 0.5 * (b[1] + b[3])
            side[k] = np.sqrt(max((b[2] - b[0]) * (b[3] - b[1]), np.float32(1.0)))
        for part in range(parts):
            first, past = n * part // parts, n * (part + 1) // parts
            for axis in range(2):
                at[part, axis] = np.median(middle[first:past, axis])
        size, most = np.median(side), 0.0
        for a in range(parts):
            for b in range(a + 1, parts):
                most = max(most, (at[a, 0] - at[b, 0]) ** 2 + (at[a, 1] - at[b, 1]) ** 2)
        out[p] = np.sqrt(most) / size
    return out


@njit(cache=True, nogil=True, inline="always")
def _middle(box: NDArray[np.float32], r: int, axis: int) -> float:  # pragma: no cover
    return 0.5 * (np.float64(box[r, axis]) + np.float64(box[r, axis + 2]))


@njit(cache=True, nogil=True)
def steadiness(
    start: NDArray[np.int64],
    row: NDArray[np.int64],
    frame: NDArray[np.int64],
    box: NDArray[np.float32],
    seen: NDArray[np.bool_],
    confidence: NDArray[np.float32],
) -> tuple[Float, Float, Float]:  # pragma: no cover
    """Of each path the share of its rows that are seen, their median confidence, and how its way bends.

    The bend is the median distance, in sizes, of a box's middle from where its two forerunners point.
    """
    paths = start.shape[0] - 1
    share, contrast, leap = np.zeros(paths), np.zeros(paths), np.zeros(paths)
    for p in range(paths):
        rows = row[start[p] : start[p + 1]]
        whole = rows.shape[0]
        rows = rows[seen[rows]]
        n = rows.shape[0]
        if n == 0:
            continue
        share[p] = n / whole
        sure, side, bend = np.empty(n), np.empty(n), np.empty(max(n - 2, 0))
        for k in range(n):
            b = box[rows[k]]
            sure[k] = confidence[rows[k]]
            side[k] = np.sqrt(max((b[2] - b[0]) * (b[3] - b[1]), np.float32(1.0)))
        size = np.median(side)
        for k in range(2, n):
            total = 0.0
            # Times between pictures that were missed are made up for.
            span, before = frame[rows[k]] - frame[rows[k - 1]], frame[rows[k - 1]] - frame[rows[k - 2]]
            for axis in range(2):
                a, b, c = _middle(box, rows[k], axis), _middle(box, rows[k - 1], axis), _middle(box, rows[k - 2], axis)
                total += (a - b - (b - c) * span / max(before, 1)) ** 2
            bend[k - 2] = np.sqrt(total) / size
        contrast[p] = np.median(sure)
        leap[p] = np.median(bend) if n > 2 else 0.0
    return share, contrast, leap
