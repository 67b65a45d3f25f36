"""A blob far larger than one body, of those who are mostly alone: as many bodies are placed in it as it takes.

What is followed tells how tall and wide one is at a place, so where its foot is, is all that is sought: the first
stands at the blob's lower edge, each further one where it covers most of what is left and little that is empty. This
needs neither that they were seen alone before nor that their heads show (Ge and Collins 2009, "Marked point processes
for crowd counting", place such shapes too, by chance and with rotation; here the largest gain is taken each time).
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.bodies.followed import of_identities
from drover.core.bodies.size_field import SizeField
from drover.core.kernel_parts import read_only
from drover.core.types import Detections, Tracks

__all__ = ["packed_parts", "place_bodies"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
Float32 = NDArray[np.float32]
MORE = 1.35  # times the pixels of one body from which a blob is more than one
ONE_HEIGHT, ONE_WIDTH = 0.35, 0.5  # spreads over which bodies are not alike enough to be placed: limbs swing
ONE_SHAPE = 1.5  # ratio of height to width, against the usual one, beyond which a field is no field of one body there
UPRIGHT = 1.0  # times its width that a body must be tall: what is long looks shorter as it turns
ABOUT = 0.25  # log ratio of its height to the usual one from which a blob shows how much of its box a body fills
LEAST_NEW = 0.4  # of a body's pixels that one more must bring
EMPTY_WEIGHT = 0.25  # of a pixel too few in its box, against one that it covers
MOST_LEFT = 0.35  # of a blob's pixels that may be left over
DONE = 0.15  # of them left from which no more is sought
MOST = 4  # bodies
STEP = 8  # places to a body's width
OVER = 0.2  # of its width that a body may stick out of its blob


def packed_parts(found: Detections, tracks: Tracks, field: SizeField | None, but: Int) -> tuple[Int, Float32]:
    """Which blobs (parts,), rising, are several bodies, and the box (parts, 4) px of each of these.

    ``tracks`` were linked from ``found``; ``field`` says how large one body is. Blobs of identities that are mostly so
    large are left alone: a cart among walkers is one. So are those hardly larger than theirs mostly are, and the blobs
    in ``but``.
    """
    none = np.zeros(0, np.int64), np.zeros((0, 4), np.float32)
    if field is None or field.spread > ONE_HEIGHT or field.width_spread > ONE_WIDTH or len(found.runs) == 0:
        return none
    height, width = np.array(field.height), np.array(field.width)
    wide, tall = field.of(found.box)
    if np.median(tall / wide) < UPRIGHT:
        return none
    share = found.area / (tall * wide)
    usual = np.abs(np.log(np.maximum(found.box[:, 3] - found.box[:, 1], 1.0) / tall)) < ABOUT
    if not usual.any():
        return none
    fill = float(np.median(share[usual]))
    # What is larger than all that may be placed with as much left over as may be is not looked into.
    own = of_identities(tracks, share, 0.5)  # stout ones are not several
    large = (share > MORE * np.maximum(own, fill)) & (share * (1.0 - MOST_LEFT) <= MOST * fill)
    large &= own <= MORE * fill
    large &= np.abs(np.log(tall / wide / np.median(tall / wide))) < np.log(ONE_SHAPE)
    large[but] = False
    blob, boxes = [], []
    fixed = found.frozen()
    for row in np.flatnonzero(large).tolist():
        runs = read_only(fixed.runs[fixed.run_start[row] : fixed.run_start[row + 1]])
        parts = place_bodies(runs, height, width, fill)
        blob += [row] * len(parts)
        boxes.append(parts)
    return (np.array(blob, np.int64), np.concatenate(boxes).astype(np.float32)) if blob else none


@njit(cache=True, nogil=True)
def place_bodies(runs: NDArray[np.int16], height: Float, width: Float, fill: float) -> Float:  # pragma: no cover
    """Boxes (n, 4) px of the bodies in the blob with these runs, two at least or none.

    ``height`` and ``width`` of a body are (at 0, slope) px over the level of its foot, of which it fills ``fill``.
    """
    x0, x1 = np.int64(runs[:, 1].min()), np.int64(runs[:, 2].max())
    y0, y1 = np.int64(runs[:, 0].min()), np.int64(runs[:, 0].max()) + 1
    left = np.zeros((y1 - y0, x1 - x0), np.bool_)
    for r in range(runs.shape[0]):
        left[runs[r, 0] - y0, runs[r, 1] - x0 : runs[r, 2] - x0] = True
    whole = _summed(left)
    total, boxes, n = whole[-1, -1], np.zeros((MOST, 4)), 0
    remaining = whole
    while n < MOST and remaining[-1, -1] > DONE * total:
        best, gained, lowest = 0.0, 0.0, left.shape[0]
        step = max(1, int((width[0] + width[1] * y1) / STEP))
        foot = lowest
        while foot > 0:
            tall, wide = max(height[0] + height[1] * (y0 + foot), 2.0), max(width[0] + width[1] * (y0 + foot), 2.0)
            body = tall * wide * fill
            for x in range(-int(OVER * wide), left.shape[1] - int((1.0 - OVER) * wide) + 1, step):
                new = _within(remaining, x, foot - tall, x + wide, foot)
                score = new - EMPTY_WEIGHT * max(body - _within(whole, x, foot - tall, x + wide, foot), 0.0)
                if score > best:
                    best, gained = score, new / body
                    boxes[n, 0], boxes[n, 1], boxes[n, 2], boxes[n, 3] = x, foot - tall, x + wide, foot
            if n == 0:  # the first stands at the lower edge
                break
            foot -= step
        if best <= 0.0 or (n > 0 and gained < LEAST_NEW):
            break
        for axis in range(2):
            boxes[n, axis] = max(boxes[n, axis], 0.0)
            boxes[n, axis + 2] = min(boxes[n, axis + 2], left.shape[1 - axis])
        left[int(boxes[n, 1]) : int(np.ceil(boxes[n, 3])), int(boxes[n, 0]) : int(np.ceil(boxes[n, 2]))] = False
        remaining = _summed(left)
        n += 1
    if n < 2 or remaining[-1, -1] > MOST_LEFT * total:
        return np.zeros((0, 4))
    out = boxes[:n].copy()
    for k in range(n):
        for axis in range(4):
            out[k, axis] += x0 if axis % 2 == 0 else y0
    return out


@njit(cache=True, nogil=True)
def _summed(mask: NDArray[np.bool_]) -> Int:  # pragma: no cover
    """How many pixels lie above and left of each corner (Crow 1984)."""
    out = np.zeros((mask.shape[0] + 1, mask.shape[1] + 1), np.int64)
    for y in range(mask.shape[0]):
        line = 0
        for x in range(mask.shape[1]):
            line += mask[y, x]
            out[y + 1, x + 1] = out[y, x + 1] + line
    return out


@njit(cache=True, nogil=True, inline="always")
def _within(summed: Int, x0: float, y0: float, x1: float, y1: float) -> float:  # pragma: no cover
    """How many pixels lie in a box, to whole pixels."""
    a, b = min(max(int(x0), 0), summed.shape[1] - 1), min(max(int(x1), 0), summed.shape[1] - 1)
    c, d = min(max(int(y0), 0), summed.shape[0] - 1), min(max(int(y1), 0), summed.shape[0] - 1)
    return float(summed[d, b] - summed[c, b] - summed[d, a] + summed[c, a])
