"""Where one track is two objects: what went one way goes the other at once, as no body does, and looks different.

Two that meet and leave in each other's place, as at the edge of the picture, are taken for one that turned round.
Whoever turns slows down first; a way that is as fast just before as it is just after in the opposite direction
belongs to two, if it looks different as well: balls bounce, and what is far faster for its size, as insects are, turns
like that too.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.kernel_parts import slope
from drover.core.track.looks import rows_unlike
from drover.core.types import Tracks

__all__ = ["find_turns"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
WINDOW = 0.5  # s before and after in which the way is measured
LEAST_ROWS = 3
LONGEST = 0.6  # s unseen between the two
SLOWEST, FASTEST = 0.6, 5.0  # sizes/s that both ways must have
OPPOSITE = -0.5  # cosine of the two ways
OTHER_LOOK = 0.3  # how unlike both must look, of what may be
AT_EDGE = 1.0  # px


def find_turns(tracks: Tracks, times: Float, look: NDArray[np.uint8] | None) -> NDArray[np.bool_]:
    """Rows of tracks with which another object begins, (rows,); ``times`` s of the frames, ``look`` of detections."""
    paths = tracks.paths
    if look is None or len(look) == 0:
        return np.zeros(len(tracks), np.bool_)
    return turn_rows(
        paths.start, paths.row, times[tracks.frame], tracks.box, tracks.detection, look,
        float(tracks.size[0]), float(tracks.size[1]),
    )  # fmt: skip


@njit(cache=True, nogil=True)
def turn_rows(
    start: Int,
    row: Int,
    when: Float,
    box: NDArray[np.float32],
    detection: NDArray[np.int32],
    look: NDArray[np.uint8],
    width: float,
    height: float,
) -> NDArray[np.bool_]:  # pragma: no cover
    """The same from columns; ``start`` and ``row`` say which rows each path has."""
    out = np.zeros(row.shape[0], np.bool_)
    for p in range(start.shape[0] - 1):
        seen = row[start[p] : start[p + 1]]
        seen = seen[detection[seen] >= 0]
        if seen.shape[0] < 2 * LEAST_ROWS:
            continue
        size = np.sqrt(np.median((box[seen, 2] - box[seen, 0]) * (box[seen, 3] - box[seen, 1])))
        best, at = 0.0, -1
        for k in range(LEAST_ROWS, seen.shape[0] - LEAST_ROWS + 1):
            if at >= 0 and when[seen[k]] - when[seen[at]] > WINDOW:  # of one turn the row where it is clearest
                out[seen[at]] = True
                best, at = 0.0, -1
            if when[seen[k]] - when[seen[k - 1]] > LONGEST:
                continue
            first, past = _window(when, seen, k)
            if k - first < LEAST_ROWS or past - k < LEAST_ROWS:
                continue
            there = _way(when, box, seen[first:k], width, height)
            then = _way(when, box, seen[k:past], width, height)
            slow = min(np.hypot(there[0], there[1]), np.hypot(then[0], then[1])) / size
            fast = max(np.hypot(there[0], there[1]), np.hypot(then[0], then[1])) / size
            if slow < SLOWEST or fast > FASTEST:
                continue
            against = (there[0] * then[0] + there[1] * then[1]) / (slow * fast * size * size)
            if against > OPPOSITE or -against * slow <= best:
                continue
            if rows_unlike(look, detection[seen[first:k]], detection[seen[k:past]]) >= OTHER_LOOK:
                best, at = -against * slow, k
        if at >= 0:
            out[seen[at]] = True
    return out


@njit(cache=True, nogil=True)
def _window(when: Float, seen: Int, k: int) -> tuple[int, int]:  # pragma: no cover
    """First and past of the rows around row ``k`` that tell the way before it and from it on."""
    first, past = k - 1, k + 1
    while first > 0 and (k - first < LEAST_ROWS or when[seen[k - 1]] - when[seen[first - 1]] <= WINDOW):
        first -= 1
    while past < seen.shape[0] and (past - k < LEAST_ROWS or when[seen[past]] - when[seen[k]] <= WINDOW):
        past += 1
    if when[seen[k - 1]] - when[seen[first]] > 2 * WINDOW:  # too few pictures in that time
        first = k
    if when[seen[past - 1]] - when[seen[k]] > 2 * WINDOW:
        past = k
    return first, past


@njit(cache=True, nogil=True)
def _way(
    when: Float, box: NDArray[np.float32], rows: Int, width: float, height: float
) -> tuple[float, float]:  # pragma: no cover
    """Speed px/s across and down, by least squares; at an edge of the picture that of the side that is in sight."""
    out = np.zeros(2)
    for axis in range(2):
        low_cut = high_cut = False
        for r in rows:
            low_cut |= box[r, axis] <= AT_EDGE
            high_cut |= box[r, axis + 2] >= (width if axis == 0 else height) - AT_EDGE
        low = 0.0 if low_cut and not high_cut else 0.5
        low = 1.0 if high_cut and not low_cut else low
        place = np.empty(rows.shape[0])
        for k in range(rows.shape[0]):
            place[k] = low * box[rows[k], axis] + (1.0 - low) * box[rows[k], axis + 2]
        out[axis] = slope(when[rows], place)
    return out[0], out[1]
