"""Pieces known by their common fate: one over the other, and going the same way for as long as both are seen.

A coat of the ground's colour leaves a head that floats above a pair of legs. Where things of many sizes share a place
no size tells that the two are one; but no second body keeps its place above the first to a fraction of its size while
both go about (the law of common fate; Wertheimer 1923, "Untersuchungen zur Lehre von der Gestalt II").
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.geometry import box_area
from drover.core.kernel_parts import longer

__all__ = ["join_fates", "stacked_pairs"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
LEAST_TIME = 0.5  # s that two must be seen together
OFTEN_NEAR = 0.8  # share of that time in which the one must lie over or under the other
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
    held = np.flatnonzero(owner > 0)
    if len(held) == 0:
        return held, held
    held = held[np.argsort(frame[held], kind="stable")]
    body, piece = near_pairs(held, frame, box)
    kind, near = np.unique(owner[body].astype(np.int64) * (int(owner.max()) + 1) + owner[piece], return_counts=True)
    life, area = np.bincount(owner), box_area(box)
    of = _rows_of(held, owner)
    out: list[tuple[Int, Int]] = []
    for pair, count in zip(kind.tolist(), near.tolist(), strict=True):
        one, other = divmod(pair, int(owner.max()) + 1)
        if count < OFTEN_NEAR * LEAST_OF_TINY * life[other]:  # they cannot be near often enough, and together as well
            continue
        _, mine, its = np.intersect1d(frame[of[one]], frame[of[other]], assume_unique=True, return_indices=True)
        b, p = of[one][mine], of[other][its]
        if times[frame[b[-1]]] - times[frame[b[0]]] < LEAST_TIME or count < OFTEN_NEAR * len(b):
            continue
        small, share = float(np.median(area[p]) / np.median(area[b])), len(b) / life[other]
        if small > SMALLER or share < (LEAST_SHARE if small > TINY else LEAST_OF_TINY):
            continue
        if _goes_along(box[b], box[p]):
            out.append((b, p))
    if not out:
        return held[:0], held[:0]
    body, piece = (np.concatenate(column) for column in zip(*out, strict=True))
    order = np.lexsort((piece, body))
    return body[order], piece[order]


def _rows_of(held: Int, owner: Int) -> list[Int]:
    """Of each identity its rows, in the order given; none where there is no such identity."""
    order = np.argsort(owner[held], kind="stable")
    return np.split(held[order], np.cumsum(np.bincount(owner[held]))[:-1])


@njit(cache=True, nogil=True)
def near_pairs(held: Int, frame: Int, box: Float) -> tuple[Int, Int]:  # pragma: no cover
    """Pairs of rows of one picture, a body and a piece that lies over or under it and not far from it.

    ``held`` (n,) rows in order of their pictures.
    """
    body, piece, n, first = np.empty(256, np.int64), np.empty(256, np.int64), 0, 0
    while first < len(held):
        past = first
        while past < len(held) and frame[held[past]] == frame[held[first]]:
            past += 1
        for i in range(first, past):
            b = held[i]
            for j in range(first, past):
                p = held[j]
                over = min(box[b, 2], box[p, 2]) - max(box[b, 0], box[p, 0])
                gap = max(box[b, 1] - box[p, 3], box[p, 1] - box[b, 3])
                aside = over < ABOVE * (box[p, 2] - box[p, 0])
                if i == j or aside or gap > APART * (box[b, 3] - box[b, 1]):
                    continue
                if n == len(body):
                    body, piece = longer(body, 2 * n), longer(piece, 2 * n)
                body[n], piece[n] = b, p
                n += 1
        first = past
    return body[:n], piece[:n]


def _goes_along(body: Float, piece: Float) -> bool:
    """Whether a piece keeps its place beside a body while both go about; boxes (pictures, 4) px of each."""
    both = np.column_stack([np.minimum(body[:, :2], piece[:, :2]), np.maximum(body[:, 2:], piece[:, 2:])])
    size = float(np.median(np.sqrt(box_area(both))))
    middle = [(box[:, :2] + box[:, 2:]) / 2 for box in (body, piece)]
    way = middle[1] - middle[0]
    went = np.hypot(*(middle[1] - middle[1][0]).T).max()
    # Legs swing, and what hides a coat comes and goes: the end of the body counts that keeps its place best.
    down = min(_varies(middle[1][:, 1] - at) for at in (body[:, 1], middle[0][:, 1], body[:, 3]))
    return max(_varies(way[:, 0]), down) <= STEADY * size and bool(went >= WENT * size)


def _varies(values: Float) -> float:
    """Standard deviation, by where values mostly are."""
    return NORMAL * float(np.median(np.abs(values - np.median(values))))


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
