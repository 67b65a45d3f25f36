"""Tracks cut into pieces where they coasted for long, and pieces put together again under one identity."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track_rows import columns_of, with_more_rows, with_rows, without_rows
from drover.core.types import Tracks, TrackState

__all__ = ["cut_at_gaps", "joined_pieces"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
CUT_FROM = 0.15  # s: a gap from which the two sides are compared anew
CUT_FRAMES = 2.5  # frames that such a gap has at least
_OF_BRIDGES = {"state": int(TrackState.COASTING), "detection": -1, "confidence": 0.0}  # all else is unknown
COASTING = int(TrackState.COASTING)


def cut_at_gaps(tracks: Tracks, times: Float, others: NDArray[np.bool_] | None = None) -> tuple[Tracks, Int, Int]:
    """Tracks cut where they coasted for long, and for each piece the piece (place among the paths) it went on as.

    They are cut too where ``others`` (rows,) says that another object begins; there no piece goes on. The last column
    has for each piece the one that it was parted from in that way, or -1.

    While it tracks, the tracker has to decide at the first glimpse of what comes back; afterwards the whole of
    what went and of what came back can be compared. The coasting rows between are left out; -1 for no next piece.
    """
    longest = max(CUT_FROM, CUT_FRAMES * float(np.median(np.diff(times)))) if len(times) > 1 else CUT_FROM
    paths = tracks.paths
    piece, goes_on, parted = find_pieces(
        paths.start, paths.row, times[tracks.frame], tracks.state == TrackState.COASTING,
        np.zeros(len(tracks), np.bool_) if others is None else others, longest,
    )  # fmt: skip
    keep = piece >= 0
    columns = {name: getattr(tracks, name)[keep] for name in columns_of(tracks)}
    return with_rows(tracks, tracks.frame[keep], (piece[keep] + 1).astype(np.int32), columns), goes_on, parted


@njit(cache=True, nogil=True)
def find_pieces(
    start: Int, row: Int, when: Float, coasting: NDArray[np.bool_], others: NDArray[np.bool_], longest: float
) -> tuple[Int, Int, Int]:  # pragma: no cover
    """Piece of every row, -1 for the coasting rows of a cut; the piece that follows each piece, and the piece that it
    was parted from since another object begins with it, or -1."""
    piece = np.empty(row.shape[0], np.int64)
    goes_on, parted = np.full(row.shape[0] + 1, -1, np.int64), np.full(row.shape[0] + 1, -1, np.int64)
    number = 0
    for p in range(start.shape[0] - 1):
        last = -1
        for k in range(start[p], start[p + 1]):
            r = row[k]
            piece[r] = number
            if coasting[r]:
                continue
            if last >= 0 and (others[r] or when[r] - when[row[last]] > longest):
                for between in range(last + 1, k):
                    piece[row[between]] = -1
                if others[r]:
                    parted[number + 1] = number
                else:
                    goes_on[number] = number + 1
                number += 1
                piece[r] = number
            last = k
        number += 1
    return piece, goes_on[:number].copy(), parted[:number].copy()


def joined_pieces(tracks: Tracks, follows: Int) -> Tracks:
    """Pieces joined as ``follows`` (paths,) says, -1 for none, their breaks filled with coasting rows, numbered anew.

    The joined keep the earlier number's place; the boxes of a break lie on a straight line. Where a piece begins before
    the one it follows ends, it is right.
    """
    late = late_rows(tracks.paths.start, tracks.paths.row, tracks.frame, follows)
    if late.any():
        tracks = without_rows(tracks, late)
    paths = tracks.paths
    head = find_heads(follows)
    order = np.unique(head)
    number = np.zeros(int(paths.identity.max()) + 1, np.int32)
    number[paths.identity] = (np.searchsorted(order, head) + 1).astype(np.int32)
    frame, box, piece = bridges(paths.start, paths.row, tracks.frame, tracks.box, follows)
    told = {**_OF_BRIDGES, "box": box, "class_id": tracks.class_id[paths.row[paths.start[piece + 1] - 1]]}
    whose = number[paths.identity[piece]]
    return with_more_rows(replace(tracks, identity=number[tracks.identity]), frame, whose, told)


@njit(cache=True, nogil=True)
def late_rows(start: Int, row: Int, frame_of: Int, follows: Int) -> NDArray[np.bool_]:  # pragma: no cover
    """(rows,) which of each piece are no earlier than the first of the one that follows."""
    out = np.zeros(row.shape[0], np.bool_)
    for a in range(follows.shape[0]):
        if follows[a] < 0:
            continue
        begins = frame_of[row[start[follows[a]]]]
        for k in range(start[a], start[a + 1]):
            out[row[k]] = frame_of[row[k]] >= begins
    return out


@njit(cache=True, nogil=True)
def find_heads(follows: Int) -> Int:  # pragma: no cover
    """The first piece of the chain that each piece belongs to."""
    n = follows.shape[0]
    comes_from, head = np.full(n, -1, np.int64), np.full(n, -1, np.int64)
    for a in range(n):
        if follows[a] >= 0:
            comes_from[follows[a]] = a
    for a in range(n):
        if comes_from[a] >= 0:
            continue
        at = a
        while at >= 0:
            head[at] = a
            at = follows[at]
    return head


@njit(cache=True, nogil=True)
def bridges(
    start: Int, row: Int, frame_of: Int, box: NDArray[np.float32], follows: Int
) -> tuple[Int, NDArray[np.float32], Int]:  # pragma: no cover
    """Frames and boxes between the end of each piece and the beginning of the one that follows, and whose they are."""
    total = 0
    for a in range(follows.shape[0]):
        if follows[a] >= 0:
            total += max(frame_of[row[start[follows[a]]]] - frame_of[row[start[a + 1] - 1]] - 1, 0)
    frame, piece, out = np.empty(total, np.int64), np.empty(total, np.int64), np.empty((total, 4), np.float32)
    n = 0
    for a in range(follows.shape[0]):
        if follows[a] < 0:
            continue
        end, begin = row[start[a + 1] - 1], row[start[follows[a]]]
        span = frame_of[begin] - frame_of[end]
        for step in range(1, span):
            frame[n], piece[n] = frame_of[end] + step, a
            for c in range(4):
                out[n, c] = box[end, c] + (box[begin, c] - box[end, c]) * (step / span)
            n += 1
    return frame, out, piece
