"""What speaks for and against an identity having stayed the same through a moment.

Before a moment each identity has a place, a speed, a size and a look; after it again. Either it went on as itself, or
as the other one: how much better the other future fits in each respect is the evidence. A beginning in the open is
held against the ends before it, an end against the beginnings after it.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.both_cores import in_shares
from drover.core.doubt.beside import Across, Beside, find_beside, row_in_frame
from drover.core.doubt.kinds import usual_sizes
from drover.core.doubt.sides import LOOKS, WORST, cost_of, side_of
from drover.core.kernel_parts import read_only
from drover.core.types import Tracks, TrackState

__all__ = ["FUTURES", "Futures", "partner_of"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
FUTURES = (
    "leap", "turn", "other look", "other size", "rival", "leap gain", "turn gain", "look gain", "size gain",
    "break fits", "covered", "short life", "little way", "faint", "long",
)  # fmt: skip
WITHIN = 4.0  # s in which a beginning may follow an end
FITS = 0.25  # of how well an end and a beginning go together, from which they are one event


class Futures:
    """What the tracks of a result say of its moments; what all moments need is worked out once.

    ``look`` (detections, 32) or without rows; ``usual`` are the sizes of the paths, where they are known.
    """

    def __init__(self, tracks: Tracks, times: Float, look: NDArray[np.uint8], usual: Float | None = None) -> None:
        self.tracks, self.times, self.look = tracks, times, read_only(look)
        self.usual = usual_sizes(tracks) if usual is None else usual
        self.seen = tracks.state != TrackState.COASTING
        paths = tracks.paths
        self.path_of_row = np.empty(len(tracks), np.int64)
        self.path_of_row[paths.row] = np.repeat(np.arange(len(paths.identity)), np.diff(paths.start))
        self._beside = Beside(tracks, self.usual, self.path_of_row)
        self._ends = ends_in_order(paths.start, paths.row, tracks.frame)

    def evidence(self, frames: Int, who: Int, kind: NDArray) -> Float:
        """Evidence of each moment, (moments, len(FUTURES)).

        ``frames`` (n, 3) where to look, first and last; ``who`` (n, 2) identities, 0 for none; ``kind`` (n,) int64, 1
        for a beginning, 2 for an end, else 0.
        """
        tracks, paths = self.tracks, self.tracks.paths
        place = np.where(who > 0, np.searchsorted(paths.identity, who), -1).astype(np.int64)
        across = self._beside.across(frames[:, 0])
        facts = path_facts(
            paths.start, paths.row, tracks.frame, self.seen, tracks.box, tracks.confidence, self.usual, self.times
        )
        return np.concatenate(in_shares(lambda first, past: weigh_futures(
            paths.start, paths.row, tracks.frame, tracks.frame_start, self.seen, tracks.box, tracks.detection, facts,
            self.usual, self.times, self.look, self.path_of_row, frames[first:past], place[first:past],
            kind[first:past].astype(np.int64), *self._ends, across,
        ), len(frames)))  # fmt: skip

    def rivals(self, frames: Int, who: Int, kind: NDArray) -> Int:
        """``who`` (n, 2) with the other one concerned in place of each second one that is not there.

        Of a beginning (``kind`` 1) that is whose end goes best with it, of an end (2) whose beginning; of all else, and
        where there is none, who is nearest in ``frames`` (n,).
        """
        tracks, paths = self.tracks, self.tracks.paths
        place = np.searchsorted(paths.identity, who[:, 0]).astype(np.int64)
        frames = np.ascontiguousarray(frames)  # a column of a table is another kind of array, for which to compile
        across = self._beside.across(frames)
        near = np.concatenate(in_shares(lambda first, past: find_rivals(
            frames[first:past], place[first:past], kind[first:past].astype(np.int64), who[first:past, 1] > 0,
            tracks.frame_start, paths.start, paths.row, tracks.frame, self.seen, tracks.box, tracks.detection,
            self.usual, self.times, self.look, self.path_of_row, *self._ends, across,
        ), len(frames)))  # fmt: skip
        out = who.copy()
        other = np.where(near >= 0, paths.identity[near], 0)
        out[:, 1] = np.where(out[:, 1] > 0, out[:, 1], other)
        return out


def partner_of(tracks: Tracks, times: Float, look: NDArray[np.uint8], kind: str, frame: int, who: Sequence[int]) -> int:
    """The identity that one may have been taken for at a moment, 0 for none."""
    pair = np.array([[*who, 0][:2]], np.int64)
    number = np.array([{"begin": 1, "end": 2}.get(kind, 0)])
    return int(Futures(tracks, times, look).rivals(np.array([frame]), pair, number)[0, 1])


@njit(cache=True, nogil=True)
def find_rivals(
    frames: Int, place: Int, kind: Int, known: NDArray[np.bool_], frame_start: Int, start: Int, row: Int, frame_of: Int,
    seen: NDArray[np.bool_], box: NDArray[np.float32], detection: NDArray[np.int32], usual: Float, times: Float,
    look: NDArray[np.uint8], path_of_row: Int, by_end: Int, by_begin: Int, across: Across,
) -> Int:  # pragma: no cover  # fmt: skip
    """The path that each may have been taken for, -1 for none, or where another is ``known`` already."""
    out = np.empty(frames.shape[0], np.int64)
    before, after = np.zeros(7 + LOOKS), np.zeros(7 + LOOKS)
    for k in range(frames.shape[0]):
        fit, other = 0.0, -1
        if known[k]:
            out[k] = -1
            continue
        if kind[k] > 0:
            fit, other = _break(
                by_end, by_begin, kind[k], place[k], start, row, frame_of, seen,
                box, detection, usual, times, look, before, after,
            )  # fmt: skip
        if fit <= FITS:
            other = find_beside(frames[k], place[k], frame_start, start, row, frame_of, box, usual, path_of_row, across)
        out[k] = other
    return out


@njit(cache=True, nogil=True)
def weigh_futures(
    start: Int, row: Int, frame_of: Int, frame_start: Int, seen: NDArray[np.bool_], box: NDArray[np.float32],
    detection: NDArray[np.int32], facts: Float, usual: Float, times: Float, look: NDArray[np.uint8], path_of_row: Int,
    frames: Int, place: Int, kind: Int, by_end: Int, by_begin: Int, across: Across,
) -> Float:  # pragma: no cover  # fmt: skip
    """The table of :meth:`Futures.evidence`."""
    n = frames.shape[0]
    out = np.zeros((n, 15))
    before, after = np.zeros((2, 7 + LOOKS)), np.zeros((2, 7 + LOOKS))
    for m in range(n):
        at, first, last = frames[m, 0], frames[m, 1], frames[m, 2]
        one, other = place[m, 0], place[m, 1]
        if other < 0:
            other = find_beside(at, one, frame_start, start, row, frame_of, box, usual, path_of_row, across)
            out[m, 4] = 1.0 if other >= 0 else 0.0
        has = np.zeros((2, 2), np.bool_)
        for k in range(2):
            p = one if k == 0 else other
            if p < 0:
                continue
            has[k, 0] = side_of(before[k], p, first, -1, start, row, frame_of, seen, box, detection, usual, times, look)
            has[k, 1] = side_of(after[k], p, last, 1, start, row, frame_of, seen, box, detection, usual, times, look)
        for k in range(2):
            if (k == 0 or place[m, 1] >= 0) and has[k, 0] and has[k, 1]:
                for c in range(4):
                    out[m, c] = max(out[m, c], cost_of(c, before[k], after[k]))
        if has.all():
            for c in range(4):
                keep = cost_of(c, before[0], after[0]) + cost_of(c, before[1], after[1])
                swap = cost_of(c, before[0], after[1]) + cost_of(c, before[1], after[0])
                out[m, 5 + c] = keep - swap
        if kind[m] > 0:
            out[m, 9], _ = _break(
                by_end, by_begin, kind[m], one, start, row, frame_of, seen,
                box, detection, usual, times, look, before[0], after[0],
            )  # fmt: skip
        out[m, 10] = _covered(at, row_in_frame(at, one, start, row, frame_of), frame_start, box)
        for k in range(2):
            p = place[m, k]
            if p >= 0:
                for c in range(3):
                    out[m, 11 + c] = max(out[m, 11 + c], facts[p, c])
        out[m, 14] = np.log1p(times[last] - times[first])
    return out


@njit(cache=True, nogil=True)
def ends_in_order(start: Int, row: Int, frame_of: Int) -> tuple[Int, Int]:  # pragma: no cover
    """The paths in order of their last frames, and of their first."""
    n = start.shape[0] - 1
    first, last = np.empty(n, np.int64), np.empty(n, np.int64)
    for p in range(n):
        first[p], last[p] = frame_of[row[start[p]]], frame_of[row[start[p + 1] - 1]]
    return np.argsort(last, kind="mergesort"), np.argsort(first, kind="mergesort")


@njit(cache=True, nogil=True)
def path_facts(
    start: Int, row: Int, frame_of: Int, seen: NDArray[np.bool_], box: NDArray[np.float32],
    confidence: NDArray[np.float32], usual: Float, times: Float,
) -> Float:  # pragma: no cover  # fmt: skip
    """Of each path how short its life, how little its way and how faint it is, (paths, 3)."""
    out = np.zeros((start.shape[0] - 1, 3))
    for p in range(out.shape[0]):
        begin, end = row[start[p]], row[start[p + 1] - 1]
        way, sure, count = 0.0, 0.0, 0
        for q in range(start[p], start[p + 1]):
            r = row[q]
            for axis in range(2):
                way = max(way, abs(np.float64(box[r, axis]) - np.float64(box[begin, axis])) / usual[p, axis])
            if seen[r]:
                sure += confidence[r]
                count += 1
        # Nothing counts for less than nought, as nobody at all would.
        out[p, 0] = max(-np.log(max(times[frame_of[end]] - times[frame_of[begin]], 0.05)), 0.0)
        out[p, 1] = max(-np.log(max(way, 0.05)), 0.0)
        out[p, 2] = max(1.0 - sure / max(count, 1), 0.0)
    return out


@njit(cache=True, nogil=True)
def _break(
    by_end: Int, by_begin: Int, kind: int, one: int, start: Int, row: Int, frame_of: Int, seen: NDArray[np.bool_],
    box: NDArray[np.float32], detection: NDArray[np.int32], usual: Float, times: Float, look: NDArray[np.uint8],
    before: Float, after: Float,
) -> tuple[float, int]:  # pragma: no cover  # fmt: skip
    """How well some end goes with a beginning, or some beginning with an end, 0..1, and whose it is."""
    begin, end = row[start[one]], row[start[one + 1] - 1]
    here = times[frame_of[begin if kind == 1 else end]]
    own, theirs = (after, before) if kind == 1 else (before, after)
    at, on = (int(frame_of[begin]), 1) if kind == 1 else (int(frame_of[end]), -1)
    if not side_of(own, one, at, on, start, row, frame_of, seen, box, detection, usual, times, look):
        return 0.0, -1
    least, which = 2.0 * WORST, -1
    order = by_end if kind == 1 else by_begin
    low, high = 0, order.shape[0]
    since = here - WITHIN if kind == 1 else here - 0.2
    while low < high:  # the first that is not too long before
        middle = (low + high) // 2
        p = order[middle]
        r = row[start[p + 1] - 1] if kind == 1 else row[start[p]]
        if times[frame_of[r]] < since - 1e-9:
            low = middle + 1
        else:
            high = middle
    for k in range(low, order.shape[0]):
        p = order[k]
        r = row[start[p + 1] - 1] if kind == 1 else row[start[p]]
        gap = here - times[frame_of[r]] if kind == 1 else times[frame_of[r]] - here
        if (kind == 1 and gap < -0.2) or (kind == 2 and gap > WITHIN):
            break
        if p == one:
            continue
        if gap < -0.2 or gap > WITHIN:
            continue
        reach = (2.0 + 3.0 * max(gap, 0.0)) * max(usual[one, 0], usual[one, 1])
        if (
            abs(np.float64(box[r, 0]) - own[1]) > reach + usual[p, 0]
            or abs(np.float64(box[r, 1]) - own[2]) > reach + usual[p, 1]
        ):
            continue
        way = -1 if kind == 1 else 1
        if not side_of(
            theirs, p, int(frame_of[r]), way, start, row, frame_of, seen, box, detection, usual, times, look
        ):
            continue
        cost = 0.0
        for c in range(4):
            cost += cost_of(c, before, after)
        if cost < least:
            least, which = cost, p
    return np.exp(-0.5 * least), which


@njit(cache=True, nogil=True)
def _covered(frame: int, r: int, frame_start: Int, box: NDArray[np.float32]) -> float:  # pragma: no cover
    """The largest share of a row's box that another's box of the same frame lies over; 0 without a row (-1)."""
    most = 0.0
    if r < 0:
        return most
    area = (np.float64(box[r, 2]) - box[r, 0]) * (np.float64(box[r, 3]) - box[r, 1])
    for q in range(frame_start[frame], frame_start[frame + 1]):
        width = min(box[r, 2], box[q, 2]) - max(box[r, 0], box[q, 0])
        height = min(box[r, 3], box[q, 3]) - max(box[r, 1], box[q, 1])
        if width > 0 and height > 0 and q != r:
            most = max(most, width * height / max(area, 1.0))
    return most
