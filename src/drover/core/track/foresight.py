"""How well a filter of given noises foresees where things are seen next, a fifth of a second and most of one later.

The likelihood of a path is that of each sighting as the filter foresaw it (prediction error decomposition; Harvey 1989,
"Forecasting, structural time series models and the Kalman filter", 3.4). A filter that only has to foresee the next
picture follows the swing of limbs; one that has to last through a gap must not. So the forecasts over several spans of
time are weighed together (composite likelihood; Varin, Reid and Firth 2011, "An overview of composite likelihood
methods", section 2). A few sightings are not of the thing at all: each forecast is a mixture of the normal density
and a five times wider one (contamination; Huber 1964, "Robust estimation of a location parameter").
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.both_cores import in_shares
from drover.core.track.filters import BIRTH_SPEED, scale_of

__all__ = ["SPANS", "foreseen", "weigh_forecasts"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]

SPANS = np.array([0.0, 5.0, 20.0])  # frames of 1/25 s: the next sighting, a fifth of a second, four fifths
LATE = 1.5  # times the span after which a sighting comes too late to judge it
SETTLED = 5  # sightings after which a filter has forgotten how it began
LOST, WIDE = 0.03, 25.0  # share of sightings that are of something else, and how much more they vary


def foreseen(
    start: Int, middle: Float, side: Float, when: Float, jumpiness: Float, box_noise: Float
) -> tuple[Float, Int]:
    """How likely all sightings are for each pair of noises.

    Parameters
    ----------
    start : (paths + 1,) int64, where each path's rows begin
    middle : (rows, 2) float64 px; side : (rows, 2) float64 px, width and height; when : (rows,) float64, 1/25 s
    jumpiness : (j,) float64 px/frame²; box_noise : (b,) float64 px, both at 50 px of size

    Returns
    -------
    likely : (j, b) float64
        Mean log density of a forecast, summed over the spans that had any.
    judged : (3,) int64
        Forecasts judged over each span, both coordinates.
    """
    if len(start) < 2:
        return np.zeros((len(jumpiness), len(box_noise))), np.zeros(len(SPANS), np.int64)
    parts = in_shares(
        lambda first, past: weigh_forecasts(
            start, middle, side, when, jumpiness, box_noise, SPANS, first, past
        ),
        len(start) - 1,
    )  # fmt: skip
    total, judged = (sum(part[k] for part in parts) for k in range(2))
    return (np.asarray(total) / np.maximum(judged, 1)).sum(axis=2), np.asarray(judged, np.int64)


@njit(cache=True, nogil=True, error_model="numpy")
def weigh_forecasts(
    start: Int,
    middle: Float,
    side: Float,
    when: Float,
    jumpiness: Float,
    box_noise: Float,
    spans: Float,
    first: int,
    past: int,
) -> tuple[Float, Int]:  # pragma: no cover
    """Log densities (j, b, spans) summed over some paths, and how many forecasts of each span they are of."""
    total = np.zeros((len(jumpiness), len(box_noise), len(spans)))
    judged = np.zeros(len(spans), np.int64)
    for p in range(first, past):
        begin, end = start[p], start[p + 1]
        ahead = _ahead(when, begin, end, spans)
        for h in range(len(spans)):
            judged[h] += 2 * np.sum(ahead[:, h] >= 0)
        for a in range(len(jumpiness)):
            for b in range(len(box_noise)):
                for axis in range(2):
                    _follow(middle, side, when, begin, end, axis, jumpiness[a], box_noise[b], ahead, total[a, b])
    return total, judged


@njit(cache=True, nogil=True)
def _ahead(when: Float, begin: int, end: int, spans: Float) -> Int:  # pragma: no cover
    """(rows, spans) the sighting by which each forecast is judged, -1 where there is none."""
    out = np.full((end - begin, len(spans)), -1)
    for h in range(len(spans)):
        at = begin
        for k in range(begin + SETTLED, end):
            at = max(at, k + 1)
            while at < end and when[at] - when[k] < spans[h] - 1e-6:
                at += 1
            if at < end and (spans[h] == 0.0 or when[at] - when[k] <= LATE * spans[h]):
                out[k - begin, h] = at
    return out


@njit(cache=True, nogil=True, error_model="numpy")
def _follow(
    middle: Float,
    side: Float,
    when: Float,
    begin: int,
    end: int,
    axis: int,
    jumpiness: float,
    box_noise: float,
    ahead: Int,
    total: Float,
) -> None:  # pragma: no cover
    """Filter one coordinate of one path, and add the log density of each forecast to ``total`` (spans,), in place."""
    where, speed = middle[begin, axis], 0.0
    p, both, v = 0.0, 0.0, 0.0
    for k in range(begin, end):
        scale = scale_of(side[k, 0], side[k, 1], 0.5)
        q, r = (jumpiness * scale) ** 2, (box_noise * scale) ** 2
        if k == begin:
            p, v = r, (BIRTH_SPEED * np.hypot(side[k, 0], side[k, 1])) ** 2
        else:
            t = when[k] - when[k - 1]
            where += t * speed
            p += t * (2.0 * both + t * v) + q * t**3 / 3.0
            both += t * v + q * t * t / 2.0
            v += q * t
            gain, push, miss = p / (p + r), both / (p + r), middle[k, axis] - where
            where += gain * miss
            speed += push * miss
            v -= push * both
            both *= 1.0 - gain
            p *= 1.0 - gain
        for h in range(ahead.shape[1]):
            at = ahead[k - begin, h]
            if at < 0:
                continue
            t = when[at] - when[k]
            spread = p + t * (2.0 * both + t * v) + q * t**3 / 3.0 + r
            miss = middle[at, axis] - where - t * speed
            total[h] += _log_density(miss * miss / spread, spread)


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _log_density(off: float, spread: float) -> float:  # pragma: no cover
    """Of a miss, from its squared normalised size and its variance; sure misses are of something else."""
    near = (1.0 - LOST) * np.exp(-0.5 * min(off, 1400.0))
    return np.log(near + LOST / np.sqrt(WIDE) * np.exp(-0.5 / WIDE * min(off, 700.0 * WIDE))) - 0.5 * np.log(spread)
