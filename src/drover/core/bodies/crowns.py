"""A blob of several that always go together, cut by their heads: nobody was ever seen alone, so only its outline tells.

From above the outline of one upright body has one narrow crown; that of two beside each other has two, with a dip
between (the silhouette's heads; Haritaoglu, Harwood and Davis 1999, "Hydra: multiple people detection and tracking
using silhouettes"). Arms and bags make crowns now and then, so what counts is how many there are most of the time; and
where most things of a clip have more than one, or are wider than tall, crowns say nothing.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.bodies.followed import rows_by_life
from drover.core.bodies.shared import cut_into, explain
from drover.core.bodies.size_field import SizeField
from drover.core.types import Detections, Tracks

__all__ = ["split_groups"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
DIP = 0.1  # of a body's height that the outline falls between two crowns
NARROW = 0.55  # of a body's width that a crown may have, a dip below its top
MOST = 4  # crowns
LEAST_TIME = 0.8  # s seen
MOSTLY = 0.4  # of its pictures in which a group shows more than one crown
USUAL = 0.5  # of what is followed that may do so, for it to say anything
TALLEST, WIDEST = 1.35, 1.35  # of a body's height; of the width of as many bodies as there are crowns
LOWEST = 0.75  # of a body's height: the two legs under a coat that is not seen are no two bodies
SHORTEST = 0.5  # of it, that a body of a group is at least
UPRIGHT = 1.3  # times its width that a body must be tall: cab and load of a cart are no two bodies
SMOOTH = 0.18  # s over which the place of a crown is a median
THIN, STOUT = 0.4, 1.2  # of the width usual at a place


def split_groups(found: Detections, tracks: Tracks, times: NDArray[np.float64], field: SizeField | None) -> Detections:
    """Detections with the blobs of those that go together cut between them; ``times`` s of the frames.

    ``tracks`` were linked from ``found``; ``field`` says how large one body is at a place.
    """
    if field is None or not field.says_something or len(tracks) == 0:
        return found
    held = rows_by_life(tracks, len(found))
    blob = tracks.detection[held].astype(np.int64)
    box = found.box[blob].astype(np.float64)
    wide, tall = field.of(box)
    fixed = found.frozen()
    count, crown = find_crowns(fixed.runs, fixed.run_start, blob, box, DIP * tall, NARROW * wide)
    step = float(np.median(np.diff(times)))
    parts = [
        _bodies(rows, count[rows], crown[rows], box[rows], wide[rows], tall[rows], field, round(SMOOTH / step / 2))
        for rows in _groups(tracks.identity[held], count, LEAST_TIME / step)
        if _could_be(rows, count[rows], box[rows], wide[rows], tall[rows])
    ]
    if not parts:
        return found
    row = np.concatenate([rows for rows, _ in parts])
    boxes = np.concatenate([each for _, each in parts]).astype(np.float32)
    order = np.argsort(blob[row], kind="stable")
    row, boxes = row[order], np.ascontiguousarray(boxes[order])
    taken = explain(blob[row], boxes, fixed.box)
    row, boxes = row[taken], boxes[taken]
    if len(row) == 0:
        return found
    return cut_into(found, blob[row], boxes, found.look[blob[row]] if len(found.look) else found.look)


def _groups(identity: NDArray[np.int32], count: Int, least: float) -> list[Int]:
    """Rows, in order of identity, of each that mostly shows several crowns; none where that is how things are."""
    lives = np.split(np.arange(len(identity)), np.flatnonzero(np.diff(identity)) + 1)
    lives = [rows for rows in lives if len(rows) >= least]
    groups = [rows for rows in lives if np.mean(count[rows] > 1) >= MOSTLY]
    return groups if len(groups) <= USUAL * len(lives) else []


def _could_be(rows: Int, count: Int, box: Float, wide: Float, tall: Float) -> bool:
    """Whether bodies stand upright, and blobs are as tall as one and no wider than as many as there are crowns."""
    many = _how_many(count)
    high = np.median((box[:, 3] - box[:, 1]) / tall)
    across = np.median((box[:, 2] - box[:, 0]) / wide)
    upright = np.median(tall / wide) >= UPRIGHT
    return bool(upright and LOWEST <= high <= TALLEST and across <= WIDEST * many and len(rows) > 1)


def _how_many(count: Int) -> int:
    """How many go together: what is seen most often of more than one."""
    return int(np.argmax(np.bincount(count[count > 1], minlength=3)))


def _bodies(
    rows: Int, count: Int, crown: Float, box: Float, wide: Float, tall: Float, field: SizeField, around: int
) -> tuple[Int, Float]:
    """For each body of each picture its row and box: heads where they were seen, else on the way between."""
    many = _how_many(count)
    known = np.flatnonzero(count == many)
    middle = (box[:, 0] + box[:, 2]) / 2
    across = (crown[known, :many, 0] - middle[known, None]) / wide[known, None]
    down = (crown[known, :many, 1] - box[known, 1, None]) / tall[known, None]
    out = []
    for k in range(many):
        at, under = (np.interp(np.arange(len(rows)), known, _smooth(each[:, k], around)) for each in (across, down))
        x, top = middle + at * wide, box[:, 1] + under * tall
        slope = min(field.height[1], 0.9)
        foot = np.minimum(np.maximum((top + field.height[0]) / (1.0 - slope), top + SHORTEST * tall), box[:, 3])
        usual = np.maximum(field.width[0] + field.width[1] * foot, 2.0)
        usual *= np.clip((foot - top) / np.maximum(field.height[0] + field.height[1] * foot, 2.0), THIN, STOUT)
        out.append(np.column_stack([x - usual / 2, top, x + usual / 2, foot]))
    return np.repeat(rows, many), np.stack(out, axis=1).reshape(-1, 4)


def _smooth(values: Float, around: int) -> Float:
    """The median of each value and so many each way."""
    padded = np.pad(values, around, mode="edge")
    return np.median(np.lib.stride_tricks.sliding_window_view(padded, 2 * around + 1), axis=1)


@njit(cache=True, nogil=True)
def find_crowns(
    runs: NDArray[np.int16], run_start: Int, blob: Int, box: Float, dip: Float, narrow: Float
) -> tuple[Int, Float]:  # pragma: no cover
    """How many narrow crowns each blob's outline has, and where: (blobs, 4, 2) px of their middle and top.

    From left to right; a crown is a place from which the outline falls by ``dip`` px both ways; it counts where it is
    no wider than ``narrow`` px half a dip below its top.
    """
    count, place = np.zeros(blob.shape[0], np.int64), np.zeros((blob.shape[0], MOST, 2))
    for k in range(blob.shape[0]):
        left, width = int(box[k, 0]), max(0, int(box[k, 2]) - int(box[k, 0]))
        top = np.full(width + 2, np.int64(box[k, 3]) + np.int64(dip[k]) + 1)  # the ground on both sides
        for r in range(run_start[blob[k]], run_start[blob[k] + 1]):
            for x in range(max(runs[r, 1] - left, 0), min(runs[r, 2] - left, width)):
                top[x + 1] = min(top[x + 1], np.int64(runs[r, 0]))
        best, at, rising, lowest = top[0], 0, True, top[0]
        for x in range(width + 2):
            if rising:
                if top[x] < best:
                    best, at = top[x], x
                elif top[x] >= best + dip[k]:
                    first, past = at, at
                    while top[first - 1] <= best + 0.5 * dip[k]:
                        first -= 1
                    while top[past] <= best + 0.5 * dip[k]:
                        past += 1
                    if past - first <= narrow[k] and count[k] < MOST:
                        place[k, count[k], 0], place[k, count[k], 1] = left - 1 + 0.5 * (first + past), best
                        count[k] += 1
                    rising, lowest = False, top[x]
            else:
                lowest = max(lowest, top[x])
                if top[x] <= lowest - dip[k]:
                    rising, best, at = True, top[x], x
    return count, place
