"""What is noted of the living tracks at the end of each frame, and which of them are given up."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.cells import cells_touching, into_cells, largest_sides
from drover.core.track.filters import forecast_boxes

__all__ = [
    "begin_links", "free_to_begin", "hold_inside", "missed_by", "note_seen", "outlived", "own_distance",
    "refuse_covered", "survivors", "waits",
]  # fmt: skip

Float = NDArray[np.float64]
Bools = NDArray[np.bool_]


@njit(cache=True, nogil=True)
def waits(
    seen_at: Float, hidden: Bools, count: int, time: float, before: float, rate: float
) -> tuple[Float, Bools]:  # pragma: no cover
    """Frames (of ``rate`` a second) since each track was last seen, and whether its speed dies away.

    It does where it was missed at the picture ``before`` (s), and not because a blob covers it.
    """
    unseen, fading = np.empty(count), np.empty(count, np.bool_)
    for k in range(count):
        unseen[k] = max(time - seen_at[k], 0.0) * rate
        fading[k] = not hidden[k] and seen_at[k] < before - 1e-9
    return unseen, fading


@njit(cache=True, nogil=True)
def begin_links(
    track: NDArray[np.int64], detection: NDArray[np.int64], distance: Float, match: NDArray[np.int64]
) -> tuple[NDArray[np.int64], Bools, Bools, Float, Float, Bools]:  # pragma: no cover
    """What a match says of each track before blobs are shared.

    The detection it is linked to, whether it is seen, whether hidden (none yet), its distance to the detection
    (standard deviations), its innovation (none yet), and whether it has the detection to itself.
    """
    n = match.shape[0]
    apart = np.full(n, np.nan)
    own_distance(track, detection, distance, match, apart)
    return match.copy(), match >= 0, np.zeros(n, np.bool_), apart, np.full(n, np.nan), np.ones(n, np.bool_)


@njit(cache=True, nogil=True)
def missed_by(believed: Bools, seen: Bools, nearest: Float) -> NDArray[np.float32]:  # pragma: no cover
    """Of believed tracks that are not seen the distance to the nearest detection, where there was any in reach."""
    out, n = np.empty(seen.shape[0], np.float32), 0
    for k in range(seen.shape[0]):
        if believed[k] and not seen[k] and np.isfinite(nearest[k]):
            out[n] = nearest[k]
            n += 1
    return out[:n].copy()


@njit(cache=True, nogil=True)
def own_distance(
    track: NDArray[np.int64], detection: NDArray[np.int64], distance: Float, match: NDArray[np.int64], out: Float
) -> None:  # pragma: no cover
    """Fill in for each track its distance (standard deviations) to the detection it is matched to."""
    for e in range(track.shape[0]):
        if match[track[e]] == detection[e]:
            out[track[e]] = distance[e]


@njit(cache=True, nogil=True)
def note_seen(
    mean: Float,
    seen: Bools,
    is_hidden: Bools,
    time: float,
    least_hits: int,
    left: float,
    top: float,
    right: float,
    bottom: float,
    hits: NDArray[np.int32],
    seen_at: Float,
    last: Float,
    hidden: Bools,
    at_edge: Bools,
    believed: Bools,
) -> NDArray[np.int64]:  # pragma: no cover
    """Note of each track whether, when (s) and where it was seen; the rows of those newly believed.

    A track is at the edge when it was last seen within its own size of it; the picture shows what lies between
    ``left``, ``top`` and ``right``, ``bottom``.
    """
    newly = np.empty(seen.shape[0], np.int64)
    n = 0
    for k in range(seen.shape[0]):
        hidden[k] = is_hidden[k]
        if not seen[k]:
            continue
        hits[k] += 1
        seen_at[k] = time
        x, y, w, h = mean[k, 0], mean[k, 1], mean[k, 2], mean[k, 3]
        last[k, 0], last[k, 1], last[k, 2], last[k, 3] = x, y, mean[k, 4], mean[k, 5]
        at_edge[k] = x - left < 1.5 * w or x > right - 1.5 * w or y - top < 1.5 * h or y > bottom - 1.5 * h
        if not believed[k] and hits[k] >= least_hits:
            believed[k] = True
            newly[n] = k
            n += 1
    return newly[:n]


@njit(cache=True, nogil=True)
def outlived(
    seen: Bools,
    believed: Bools,
    inside: Bools,
    hidden: Bools,
    in_exit: Bools,
    seen_at: Float,
    time: float,
    longest_gap: float,
    hidden_patience: float,
    gone_after: float,
) -> Bools:  # pragma: no cover
    """Which tracks are kept: those seen, and believed ones inside the picture that are within their gap (s).

    One that is hidden in a blob may stay longer, one last seen in an exit is soon given up.
    """
    keep = seen.copy()
    for k in range(seen.shape[0]):
        if keep[k] or not believed[k] or not inside[k]:
            continue
        patience = longest_gap * (hidden_patience if hidden[k] else 1.0)
        if in_exit[k]:
            patience = min(patience, gone_after)
        keep[k] = time - seen_at[k] <= patience + 1e-9
    return keep


@njit(cache=True, nogil=True)
def survivors(
    mean: Float,
    at_edge: Bools,
    left: float,
    top: float,
    right: float,
    bottom: float,
    seen: Bools,
    believed: Bools,
    hidden: Bools,
    in_exit: Bools,
    seen_at: Float,
    time: float,
    longest_gap: float,
    hidden_patience: float,
    gone_after: float,
) -> tuple[Bools, bool, float]:  # pragma: no cover
    """Which tracks are kept, see :func:`outlived`, whether all are, and when (s) the one longest unseen was seen.

    Those well inside are held in the picture.
    """
    inside = hold_inside(mean, seen.shape[0], at_edge, left, top, right, bottom)
    keep = outlived(seen, believed, inside, hidden, in_exit, seen_at, time, longest_gap, hidden_patience, gone_after)
    oldest = np.inf
    for k in range(seen.shape[0]):
        if keep[k]:
            oldest = min(oldest, seen_at[k])
    return keep, bool(keep.all()), oldest


@njit(cache=True, nogil=True)
def hold_inside(
    mean: Float, count: int, at_edge: Bools, left: float, top: float, right: float, bottom: float
) -> Bools:  # pragma: no cover
    """Which tracks are inside the picture; one that was last seen well inside is held there, standing."""
    out = np.ones(count, np.bool_)
    for k in range(count):
        for axis in range(2):
            least, most = (left, right) if axis == 0 else (top, bottom)
            if least < mean[k, axis] < most:
                continue
            if at_edge[k]:
                out[k] = False
            else:
                mean[k, axis] = min(max(mean[k, axis], least + 1.0), most - 1.0)
                mean[k, 4 + axis] = 0.0
    return out


@njit(cache=True, nogil=True)
def refuse_covered(
    box: NDArray[np.float32], forecast: NDArray[np.float32], share: float, free: Bools
) -> None:  # pragma: no cover
    """Take those boxes from the free ones that cover at least ``share`` of some forecast, in place."""
    order, start, corner, side, columns, rows = into_cells(forecast)
    widest = largest_sides(forecast)
    for d in range(box.shape[0]):
        if not free[d]:
            continue
        left, right, top, bottom = cells_touching(box, d, widest, corner, side, columns, rows)
        for line in range(top, bottom):
            for at in range(start[line * columns + left], start[line * columns + right]):
                k = order[at]
                width = min(forecast[k, 2], box[d, 2]) - max(forecast[k, 0], box[d, 0])
                height = min(forecast[k, 3], box[d, 3]) - max(forecast[k, 1], box[d, 1])
                area = max((forecast[k, 2] - forecast[k, 0]) * (forecast[k, 3] - forecast[k, 1]), 1.0)
                if width > 0 and height > 0 and width * height >= share * area:
                    free[d] = False


@njit(cache=True, nogil=True)
def free_to_begin(
    confidence: NDArray[np.float32],
    sure_from: float,
    match: NDArray[np.int64],
    box: NDArray[np.float32],
    mean: Float,
    believed: Bools,
    count: int,
    share: float,
) -> NDArray[np.int64]:  # pragma: no cover
    """Sure detections that nobody has and that do not cover ``share`` of the forecast of a believed track."""
    free, some = np.empty(box.shape[0], np.bool_), False
    for d in range(box.shape[0]):
        free[d] = confidence[d] >= sure_from
    for k in range(match.shape[0]):
        if match[k] >= 0:
            free[match[k]] = False
    for d in range(box.shape[0]):
        some |= free[d]
    if some and count > 0:
        refuse_covered(box, forecast_boxes(mean[:count][believed[:count]]), share, free)
    return np.flatnonzero(free)
