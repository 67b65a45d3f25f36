"""Pieces of one body brought together, picture by picture: within one body's size at that place, and of one fate."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.geometry import box_area
from drover.core.kernel_parts import longer

__all__ = ["fitting_pairs", "lives_together", "owned_together", "unite_pairs"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
TALL, WIDE = 1.2, 1.35  # times the size usual at a place that one body may have: limbs reach out
GAP = 0.35  # sizes between two pieces of one body
TINY = 0.15  # of a body's area, a head
TOGETHER = 0.4  # of its life that a piece which is followed itself must spend within the body it belongs to


@njit(cache=True, nogil=True, inline="always")
def _one_body(u: Float, height: Float, width: Float) -> bool:  # pragma: no cover
    """Whether a box (4,) px is no larger than one body there; the field's lines are (at 0, slope)."""
    tall = TALL * max(height[0] + height[1] * u[3], 2.0)
    wide = WIDE * max(width[0] + width[1] * u[3], 2.0)
    return u[3] - u[1] <= tall and u[2] - u[0] <= wide


@njit(cache=True, nogil=True)
def fitting_pairs(
    frame_start: Int, box: NDArray[np.float32], owner: NDArray[np.int64], height: Float, width: Float
) -> tuple[Int, Int]:  # pragma: no cover
    """Rows of a body and of a smaller piece near it that together are no larger than one body; either is followed.

    ``owner`` (rows,) is the identity that each row is followed as, 0 for none.
    """
    room, n = 1024, 0
    body, piece = np.empty(room, np.int64), np.empty(room, np.int64)
    u = np.empty(4)
    for f in range(frame_start.shape[0] - 1):
        for m in range(frame_start[f], frame_start[f + 1]):
            area = (box[m, 2] - box[m, 0]) * (box[m, 3] - box[m, 1])
            for p in range(frame_start[f], frame_start[f + 1]):
                smaller = (box[p, 2] - box[p, 0]) * (box[p, 3] - box[p, 1])
                if (owner[m] == 0 and owner[p] == 0) or p == m or smaller > area or (smaller == area and p < m):
                    continue
                for axis in range(2):
                    u[axis] = min(box[m, axis], box[p, axis])
                    u[axis + 2] = max(box[m, axis + 2], box[p, axis + 2])
                if not _one_body(u, height, width):
                    continue
                side = max(height[0] + height[1] * u[3], 2.0) * TALL * max(width[0] + width[1] * u[3], 2.0) * WIDE
                apart = max(
                    max(box[p, 0] - box[m, 2], box[m, 0] - box[p, 2]), max(box[p, 1] - box[m, 3], box[m, 1] - box[p, 3])
                )
                if apart > GAP * np.sqrt(side):
                    continue
                if n == room:
                    room *= 2
                    body, piece = longer(body, room), longer(piece, room)
                body[n], piece[n] = m, p
                n += 1
    return body[:n].copy(), piece[:n].copy()


def lives_together(body: Int, piece: Int, owner: Int, box: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Of each pair whether the piece has no life of its own: nobody follows it, or it is mostly within that body.

    A head is mostly within bodies: where a coat is not seen the legs below are lost, and found again as others.
    """
    most = int(owner.max(initial=0)) + 1
    life = np.bincount(owner, minlength=most)
    # Now the one, now the other is the larger: what counts is how often they are seen together.
    pair = np.minimum(owner[body], owner[piece]) * most + np.maximum(owner[body], owner[piece])
    _, which, times = np.unique(pair, return_inverse=True, return_counts=True)
    share = times[which] / np.maximum(life[owner[piece]], 1)
    area = box_area(box)
    tiny = area[piece] <= TINY * area[body]
    within = np.bincount(owner[np.unique(piece[tiny])], minlength=most) / np.maximum(life, 1)
    return (owner[piece] == 0) | (share >= TOGETHER) | (tiny & (within[owner[piece]] >= TOGETHER))


@njit(cache=True, nogil=True)
def unite_pairs(
    body: Int, piece: Int, box: NDArray[np.float32], height: Float, width: Float
) -> tuple[Int, NDArray[np.float32]]:  # pragma: no cover
    """Row that each row goes into (itself where into none), and the boxes then; the largest pieces go first.

    What several pieces make together must still be within one body. Pairs come frame by frame.
    """
    into, whole = np.arange(box.shape[0]), box.copy()
    area = np.empty(piece.shape[0])
    for k in range(piece.shape[0]):
        p = piece[k]
        area[k] = -(box[p, 2] - box[p, 0]) * (box[p, 3] - box[p, 1])
    u = np.empty(4)
    for k in np.argsort(area, kind="mergesort"):
        p, r = piece[k], body[k]
        if into[p] != p:
            continue
        while into[r] != r:
            r = into[r]
        if r == p:
            continue
        for axis in range(2):
            u[axis] = min(whole[r, axis], whole[p, axis])
            u[axis + 2] = max(whole[r, axis + 2], whole[p, axis + 2])
        if _one_body(u, height, width):
            into[p] = r
            for axis in range(4):
                whole[r, axis] = np.float32(u[axis])
    for p in range(box.shape[0]):  # chains are followed to their end
        r = into[p]
        while into[r] != r:
            r = into[r]
        into[p] = r
    return into, whole


def owned_together(owner: Int, into: Int) -> Int:
    """The identities (rows,), with that of a piece for each body that nobody followed until a piece of it went in."""
    out = owner.copy()
    pieces = np.flatnonzero((owner > 0) & (into != np.arange(len(into))))
    pieces = pieces[out[into[pieces]] == 0]
    out[into[pieces]] = owner[pieces]
    return out
