"""Pieces known by their common fate: one over the other, and going the same way for as long as both are seen.

A coat of the ground's colour leaves a head that floats above a pair of legs. Where things of many sizes share a place
no size tells that the two are one; but no second body keeps its place above the first to a fraction of its size while
both go about (the law of common fate; Wertheimer 1923, "Untersuchungen zur Lehre von der Gestalt II").
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.geometry import box_area

__all__ = ["join_fates", "stacked_pairs"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
LEAST_TIME = 0.5  # s that two must be seen together
LEAST_SHARE = 0.6  # of the smaller one's life
TINY, LEAST_OF_TINY = 0.15, 0.15  # of the larger one's area, a head: it may be followed from one body to the next
SMALLER = 0.45  # of the larger one's area that the smaller may have
ABOVE = 0.6  # of the smaller one's width that lies over or under the larger
APART = 1.2  # heights of the larger that may be between them
STEADY = 0.12  # of the size of both that the way between them may vary, one standard deviation
NORMAL = 1.4826  # standard deviations in a median absolute deviation
WENT = 1.0  # sizes of both that they must have gone together


def stacked_pairs(frame: Int, box: Float, owner: Int, times: Float) -> tuple[Int, Int]:
    """Rows of a body and of a piece of it in the same picture, for all pieces of a common fate with one.

    ``frame``, ``owner`` (rows,), the identity each is followed as, 0 for none; ``box`` (rows, 4) px; ``times`` s of
    the frames.
    """
    body, piece = _together(frame, owner)
    if len(body) == 0:
        return body, piece
    area, near, life = box_area(box), _near(box, body, piece), np.bincount(owner)
    keep = np.zeros(len(body), np.bool_)
    kind = owner[body] * (int(owner.max()) + 1) + owner[piece]
    order = np.argsort(kind, kind="stable")
    for rows in np.split(order, np.flatnonzero(np.diff(kind[order])) + 1):
        b, p = body[rows], piece[rows]
        if times[frame[b].max()] - times[frame[b].min()] < LEAST_TIME or near[rows].mean() < 0.8:
            continue
        small, share = float(np.median(area[p]) / np.median(area[b])), len(rows) / life[owner[p[0]]]
        if small > SMALLER or share < (LEAST_SHARE if small > TINY else LEAST_OF_TINY):
            continue
        keep[rows] = _goes_along(box[b], box[p])
    return body[keep], piece[keep]


def _near(box: Float, body: Int, piece: Int) -> NDArray[np.bool_]:
    """Of each pair whether the piece lies over or under its body and not far from it."""
    over = np.minimum(box[body, 2], box[piece, 2]) - np.maximum(box[body, 0], box[piece, 0])
    gap = np.maximum(box[body, 1] - box[piece, 3], box[piece, 1] - box[body, 3])
    return (over >= ABOVE * (box[piece, 2] - box[piece, 0])) & (gap <= APART * (box[body, 3] - box[body, 1]))


def _together(frame: Int, owner: Int) -> tuple[Int, Int]:
    """All pairs of followed rows of one picture, each both ways."""
    rows = np.flatnonzero(owner > 0)
    first = np.searchsorted(frame[rows], frame[rows], side="left")
    count = np.searchsorted(frame[rows], frame[rows], side="right") - first
    one = np.repeat(rows, count)
    other = rows[np.repeat(first - (np.cumsum(count) - count), count) + np.arange(int(count.sum()))]
    return one[one != other], other[one != other]


def _goes_along(body: Float, piece: Float) -> bool:
    """Whether a piece keeps its place beside a body while both go about; boxes (pictures, 4) px of each."""
    both = np.column_stack([np.minimum(body[:, :2], piece[:, :2]), np.maximum(body[:, 2:], piece[:, 2:])])
    size = float(np.median(np.sqrt(box_area(both))))
    middle = [(box[:, :2] + box[:, 2:]) / 2 for box in (body, piece)]
    way = middle[1] - middle[0]
    went = np.hypot(*(middle[1] - middle[1][0]).T).max()
    # Legs swing and now and then fall apart: what counts is where the piece mostly is.
    varies = NORMAL * np.median(np.abs(way - np.median(way, axis=0)), axis=0)
    return bool(varies.max() <= STEADY * size and went >= WENT * size)


def join_fates(into: Int, whole: NDArray[np.float32], body: Int, piece: Int) -> tuple[Int, NDArray[np.float32]]:
    """Each piece into its body: ``into`` (rows,) is where each row went so far, ``whole`` (rows, 4) px the boxes."""
    into, whole = into.copy(), whole.copy()
    for b, p in zip(body.tolist(), piece.tolist(), strict=True):
        while into[b] != b:
            b = int(into[b])
        if b != p and into[p] == p:
            into[p] = b
            whole[b, :2] = np.minimum(whole[b, :2], whole[p, :2])
            whole[b, 2:] = np.maximum(whole[b, 2:], whole[p, 2:])
    at = into
    while True:
        further = into[at]
        if np.array_equal(further, at):
            return at, whole
        at = further
