"""A body of which a part is not told from the ground for a while keeps the height that it has before and after.

Legs of the ground's colour, a dark head before dark water: what is seen then ends too early, at one end. Where the
other end goes on as before, the lost one is put back, at the height that the body has on the way between the pictures
around it in which it is seen in full. Widths say nothing of what is lost, since bodies turn; a body is only never
slimmer than it usually is for its height. Only bodies that stand upright are looked at: of those that are longer than
high, and of flocks of them, more is hidden by others than lost against the ground. This is a rule of our own.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.bodies.followed import rows_by_life
from drover.core.types import Detections, Tracks

__all__ = ["complete_bodies"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
USUAL = 0.75  # quantile of the heights around a picture that is the body's own
AROUND = 1.5  # s each way over which it is taken
FULL, TALLEST = 0.88, 1.2  # of that height between which a body is seen in full
PART, LEAST = 0.72, 0.25  # of it between which a part of the body is lost
FAR = 2.5  # s to the nearest picture before, and to that after, in which it is seen in full
ALIKE = 0.14  # of its height by which the end that is seen may be off the way between these pictures
SLIM = 0.77  # of its height that an upright body is wide at most: long ones are lower when they turn or lie down
RIM = 1.0  # px from the picture's edge, beyond which what is lost may be outside
LEAST_ROWS, LEAST_FULL = 8, 4


def complete_bodies(found: Detections, tracks: Tracks, times: Float) -> Detections:
    """Detections with the boxes of bodies that end too early made whole; outlines stay what was seen.

    ``tracks`` were linked from ``found``; ``times`` s of the frames.
    """
    held = rows_by_life(tracks, len(found))
    box, changed = np.array(found.box), False
    for rows in np.split(held, np.flatnonzero(np.diff(tracks.identity[held])) + 1):
        if len(rows) < LEAST_ROWS:
            continue
        blob = tracks.detection[rows]
        parts, whole = _made_whole(found.box[blob].astype(np.float64), times[tracks.frame[rows]], found.size)
        box[blob[parts]], changed = whole, changed or len(parts) > 0
    return replace(found, box=box) if changed else found


def _made_whole(box: Float, when: Float, size: tuple[int, int]) -> tuple[Int, Float]:
    """Which rows of one body, in order of time, show a part of it, and its whole box (parts, 4) px there."""
    tall, wide = box[:, 3] - box[:, 1], np.maximum(box[:, 2] - box[:, 0], 1.0)
    own = _usual(tall, when)
    full = np.flatnonzero((tall >= FULL * own) & (tall <= TALLEST * own))
    inside = (box[:, 1] > RIM) & (box[:, 3] < size[1] - RIM)
    part = np.flatnonzero((tall < PART * own) & (tall > LEAST * own) & inside)
    slim = float(np.median(wide[full] / tall[full])) if len(full) else np.inf
    if len(full) < LEAST_FULL or len(part) == 0 or slim > SLIM:
        return np.zeros(0, np.int64), np.zeros((0, 4))
    after = np.searchsorted(full, part)
    between = (after > 0) & (after < len(full))
    part, before, after = part[between], full[after[between] - 1], full[after[between]]
    near = (when[part] - when[before] <= FAR) & (when[after] - when[part] <= FAR)
    near &= np.abs(np.log(tall[after] / tall[before])) <= np.log(TALLEST)  # or it is another size that it has by then
    part, before, after = part[near], before[near], after[near]
    share = ((when[part] - when[before]) / np.maximum(when[after] - when[before], 1e-9))[:, None]
    ends = (1.0 - share) * box[before][:, [1, 3]] + share * box[after][:, [1, 3]]
    high = ends[:, 1] - ends[:, 0]
    top, foot = (np.abs(box[part][:, [1, 3]] - ends) <= ALIKE * high[:, None]).T
    lost = top != foot  # one end goes on as before, the other does not
    part, top, high = part[lost], top[lost], high[lost]
    middle = (box[part, 0] + box[part, 2]) / 2
    half = np.maximum(wide[part], slim * high) / 2
    upper = np.where(top, box[part, 1], box[part, 3] - high)
    whole = np.column_stack([middle - half, upper, middle + half, upper + high])
    return part, np.clip(whole, 0.0, np.tile(np.array(size, np.float64), 2))


def _usual(tall: Float, when: Float) -> Float:
    """The body's own height px around each picture."""
    reach = AROUND + 1e-9  # s: what is as far away as that is in, however its time was rounded
    first, past = np.searchsorted(when, when - reach), np.searchsorted(when, when + reach, side="right")
    return quantiles_around(tall, first, past, USUAL)


@njit(cache=True, nogil=True)
def quantiles_around(value: Float, first: Int, past: Int, share: float) -> Float:  # pragma: no cover
    """(n,) the quantile of ``value[first:past]`` for each of n stretches, between two values in proportion."""
    out = np.empty(len(first))
    for k in range(len(first)):
        some = np.sort(value[first[k] : past[k]])
        at = share * (len(some) - 1)
        low = int(at)
        step, part = some[min(low + 1, len(some) - 1)] - some[low], at - low
        out[k] = some[low] + part * step if part < 0.5 else some[low] + step - (1.0 - part) * step
    return out
