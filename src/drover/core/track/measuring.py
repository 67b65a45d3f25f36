"""What a detection says about its track: where the centre is, and how far each number is to be trusted.

A box that suddenly shrinks is half hidden, one that suddenly grows has melted with something. Then the side that
stayed where it was expected is believed, and the centre follows from it and the size known from before. At the edge
of the picture only the inner side is believed of a box that shrinks: the object is leaving.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["EDGE", "measure", "pace_of"]

Float = NDArray[np.float64]
HIDING = 3.0  # times the noise that a box must lose within a step to be taken for going behind something
ONE_SIDED = 0.25  # of what it loses: the other side must stay this near to where it was expected
HELD = 5  # times the doubt in the size of what goes behind something
SIZE_SLACK = 0.12  # log ratio of a side that is everyday jitter and raises no doubt
FOLLOW, SLOWLY = 0.08, 0.03  # share of a change of size that is taken for usual, a frame
EDGE = 2.0  # px from the picture's edge at which a side counts as cut off


@njit(cache=True, nogil=True, error_model="numpy")
def pace_of(frames: float) -> tuple[float, float, float]:  # pragma: no cover
    """How far usual sizes follow in ``frames`` nominal frames, and slowly; and the log ratio that is mere jitter."""
    slack = SIZE_SLACK * max(1.0, np.sqrt(frames))
    return 1.0 - (1.0 - FOLLOW) ** frames, 1.0 - (1.0 - SLOWLY) ** frames, slack


@njit(cache=True, nogil=True, error_model="numpy")
def measure(
    mean: Float,
    usual: Float,
    k: int,
    box: NDArray[np.float32],
    d: int,
    noise: float,
    doubt: float,
    weakness: float,
    view: tuple[float, float, float, float],
    pace: tuple[float, float, float],
    measured: Float,
    spread: Float,
) -> None:  # pragma: no cover
    """Fill ``measured`` (4,) centre and size px, and ``spread`` (4,) their standard deviations px.

    ``doubt`` is how much a jump of size raises the noise, 0 for taking every box as it is; ``weakness`` 0..1 raises
    it up to three times for a detection of little confidence; ``view`` is what the picture shows, x1, y1, x2, y2;
    ``pace`` is :func:`pace_of` the time from one picture to the next.
    ``usual`` (tracks, 2) px is the size that jumps are judged by; it follows slowly, the slower the larger the jump.
    """
    base = noise * (1.0 + 2.0 * weakness)
    follow, slowly, slack = pace
    for axis in range(2):
        low, high = float(box[d, axis]), float(box[d, axis + 2])
        measured[axis], measured[axis + 2] = 0.5 * (low + high), high - low
        spread[axis], spread[axis + 2] = base, base
        if doubt <= 0:
            continue
        known = max(mean[k, 2 + axis], 1.0)
        jump = np.log(max(high - low, 1.0) / known)
        lost, off_low = known - (high - low), low - (mean[k, axis] - 0.5 * known)
        off_high = high - (mean[k, axis] + 0.5 * known)
        one_sided = lost > HIDING * noise and min(abs(off_low), abs(off_high)) < ONE_SIDED * lost
        if abs(jump) <= slack and not one_sided:
            usual[k, axis] += follow * (high - low - usual[k, axis])
            continue
        over = doubt * max(abs(jump) - slack, 0.0)
        begins, ends = (view[0], view[2]) if axis == 0 else (view[1], view[3])
        cut_low, cut_high = low <= begins + EDGE, high >= ends - EDGE
        if (cut_low or cut_high) and jump > 0:
            spread[axis + 2] = 0.3 * base  # coming in: it is as large as it looks by now
            usual[k, axis] = high - low
            continue
        if not (cut_low or cut_high):
            usual[k, axis] += slowly * (high - low - usual[k, axis])
        if cut_low and cut_high:
            spread[axis] = base * (1.0 + over)
        elif cut_low:
            measured[axis], spread[axis] = high - 0.5 * known, base * 1.5
        elif cut_high:
            measured[axis], spread[axis] = low + 0.5 * known, base * 1.5
        else:
            at_low, at_high = low + 0.5 * known, high - 0.5 * known
            nearer_low = abs(at_low - mean[k, axis]) < abs(at_high - mean[k, axis])
            measured[axis] = at_low if nearer_low else at_high
            spread[axis] = base * (1.0 + 0.5 * over)
        spread[axis + 2] = base * (1.0 + over) * (HELD if one_sided and not (cut_low or cut_high) else 1.0)
