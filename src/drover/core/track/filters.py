"""Motion filters, all tracks at once: steady speed or steady push for the box centre, slow change for its size.

Kalman filters (Kalman 1960) whose coordinates do not influence each other, so that each needs only a 3 x 3 (centre)
or 1 x 1 (size) covariance; with block-diagonal noise this is exact, not an approximation. Steady speed has piecewise
constant acceleration as its noise, steady push a piecewise constant change of acceleration (Bar-Shalom, Li and
Kirubarajan 2001, sections 6.3.2 and 6.3.3). Corrections are in Joseph's form, which keeps covariances positive
(Bucy and Joseph 1968).
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = [
    "COVARIANCES",
    "FRAME_RATE",
    "PUSH_LASTS",
    "REFERENCE_SIZE",
    "STATES",
    "centre_and_size",
    "forecast_boxes",
    "grow_sizes",
    "new_filters",
    "predict",
    "scale_of",
    "update",
    "update_sizes",
]

Float = NDArray[np.float64]

# State: centre x, y, width, height (px), velocity x, y (px/frame), acceleration x, y (px/frame^2).
STATES = 8
# Covariance: for x and then y: position, position-velocity, velocity, position-acceleration, velocity-acceleration,
# acceleration; then width, height.
COVARIANCES = 14
BIRTH_SPEED = 0.06  # of the box size per frame: how fast a newborn may be moving, one standard deviation
BIRTH_PUSH = 0.01  # of the box size per frame^2
FRAME_RATE = 25.0  # frames/s that the settings speak of, whatever the footage's own rate
REFERENCE_SIZE = 50.0  # px: noises are given for an object of this size
PUSH_LASTS = 12.0  # frames: an acceleration dies away in about this time


def centre_and_size(box: NDArray[np.float32]) -> Float:
    """(n, 4) boxes to (n, 4) float64 centre x, centre y, width, height, px."""
    wide = np.asarray(box, np.float64)
    out = np.empty((len(wide), 4))
    out[:, :2] = (wide[:, :2] + wide[:, 2:]) / 2
    out[:, 2:] = wide[:, 2:] - wide[:, :2]
    return out


@njit(cache=True, nogil=True)
def forecast_boxes(mean: Float) -> NDArray[np.float32]:  # pragma: no cover
    """(n, 8) states to (n, 4) float32 boxes; sizes are held at 1 px or more."""
    out = np.empty((mean.shape[0], 4), np.float32)
    for k in range(mean.shape[0]):
        for axis in range(2):
            half = 0.5 * max(mean[k, 2 + axis], 1.0)
            out[k, axis], out[k, 2 + axis] = mean[k, axis] - half, mean[k, axis] + half
    return out


def new_filters(measured: Float, box_noise: float, scaling: float = 0.0) -> tuple[Float, Float]:
    """States (n, 8) and covariances (n, 14) of tracks born at measured centres and sizes, standing still."""
    n = len(measured)
    mean, cov = np.zeros((n, STATES)), np.zeros((n, COVARIANCES))
    mean[:, :4] = measured
    size = np.maximum(np.hypot(measured[:, 2], measured[:, 3]), 1.0)
    scale = np.clip(size / np.sqrt(2) / REFERENCE_SIZE, 0.2, 5.0) ** scaling
    for axis in (0, 6):
        cov[:, axis] = (box_noise * scale) ** 2
        cov[:, axis + 2] = (BIRTH_SPEED * size) ** 2
        cov[:, axis + 5] = (BIRTH_PUSH * size) ** 2
    cov[:, 12] = cov[:, 13] = (box_noise * scale) ** 2
    return mean, cov


@njit(cache=True, nogil=True)
def scale_of(width: float, height: float, scaling: float) -> float:  # pragma: no cover
    """By how much noises are larger for a box of this size (px) than for one of 50 px."""
    if scaling == 0.0:
        return 1.0
    size = np.sqrt(max(width, 1.0) * max(height, 1.0)) / REFERENCE_SIZE
    return min(max(size, 0.2), 5.0) ** scaling


@njit(cache=True, nogil=True)
def predict(
    mean: Float,
    cov: Float,
    count: int,
    frames: float,
    jumpiness: float,
    size_noise: float,
    scaling: float,
    pushed: bool,
    unseen: Float,
    fade: float,
) -> None:  # pragma: no cover
    """Move the first ``count`` filters ``frames`` nominal frame times ahead, in place.

    ``jumpiness`` px/frame^2 and ``size_noise`` px/frame are standard deviations at 50 px of size. Where ``unseen``
    (frames since last seen) is over 1 the speed dies away with the time constant ``fade`` (frames; 0 keeps it).
    """
    f2, f3, f4 = frames * frames, frames**3, frames**4
    for k in range(count):
        scale = scale_of(mean[k, 2], mean[k, 3], scaling)
        q = (jumpiness * scale) ** 2
        keep = np.exp(-frames / fade) if fade > 0 and unseen[k] > 1.0 else 1.0
        for axis in range(2):
            c = 6 * axis
            p, pv, vv = cov[k, c], cov[k, c + 1], cov[k, c + 2]
            if pushed:
                _predict_pushed(mean, cov, k, axis, frames, q)
            else:
                mean[k, axis] += frames * mean[k, 4 + axis]
                cov[k, c] = p + 2 * frames * pv + f2 * vv + q * f4 / 4
                cov[k, c + 1] = pv + frames * vv + q * f3 / 2
                cov[k, c + 2] = vv + q * f2
            if keep < 1.0:
                mean[k, 4 + axis] *= keep
                mean[k, 6 + axis] *= keep
        grow_sizes(cov, k, size_noise * scale, frames)


@njit(cache=True, nogil=True)
def grow_sizes(cov: Float, k: int, size_noise: float, frames: float) -> None:  # pragma: no cover
    """Let the spread of filter ``k``'s width and height grow over ``frames``, in place."""
    grown = (size_noise * frames) ** 2
    cov[k, 12] += grown
    cov[k, 13] += grown


@njit(cache=True, nogil=True)
def _predict_pushed(mean: Float, cov: Float, k: int, axis: int, t: float, q: float) -> None:  # pragma: no cover
    """One coordinate with acceleration: F = [[1, t, t^2/2], [0, 1, t], [0, 0, d]] with d = exp(-t / PUSH_LASTS)."""
    c, d = 6 * axis, np.exp(-t / PUSH_LASTS)
    p, pv, vv, pa, va, aa = cov[k, c], cov[k, c + 1], cov[k, c + 2], cov[k, c + 3], cov[k, c + 4], cov[k, c + 5]
    h = t * t / 2
    mean[k, axis] += t * mean[k, 4 + axis] + h * mean[k, 6 + axis]
    mean[k, 4 + axis] += t * mean[k, 6 + axis]
    mean[k, 6 + axis] *= d
    cov[k, c] = p + 2 * t * pv + t * t * vv + 2 * h * pa + 2 * t * h * va + h * h * aa + q * h * h
    cov[k, c + 1] = pv + t * vv + t * pa + (t * t + h) * va + t * h * aa + q * h * t
    cov[k, c + 2] = vv + 2 * t * va + t * t * aa + q * t * t
    # What acceleration there is dies away; the change of it that noise brings adds as much again.
    cov[k, c + 3] = d * (pa + t * va + h * aa) + q * h
    cov[k, c + 4] = d * (va + t * aa) + q * t
    cov[k, c + 5] = d * d * aa + q


@njit(cache=True, nogil=True)
def update(mean: Float, cov: Float, k: int, measured: Float, noise: Float) -> float:  # pragma: no cover
    """Correct filter ``k`` by a measurement, in place.

    Parameters
    ----------
    measured : (4,) float64, centre and size, px
    noise : (4,) float64, px, standard deviation of each; infinite where a coordinate was not measured

    Returns
    -------
    Normalised innovation squared of the centre (Bar-Shalom et al., 5.4.2); 2 on average when the noises are right.
    """
    nis = 0.0
    for axis in range(2):
        if not np.isfinite(noise[axis]):
            continue
        c, r = 6 * axis, noise[axis] * noise[axis]
        p, pv, vv, pa, va, aa = cov[k, c], cov[k, c + 1], cov[k, c + 2], cov[k, c + 3], cov[k, c + 4], cov[k, c + 5]
        s = p + r
        gp, gv, ga = p / s, pv / s, pa / s
        innovation = measured[axis] - mean[k, axis]
        nis += innovation * innovation / s
        mean[k, axis] += gp * innovation
        mean[k, 4 + axis] += gv * innovation
        mean[k, 6 + axis] += ga * innovation
        keep = 1.0 - gp
        cov[k, c] = keep * keep * p + gp * gp * r
        cov[k, c + 1] = keep * (pv - gv * p) + gp * gv * r
        cov[k, c + 2] = vv - 2 * gv * pv + gv * gv * s
        cov[k, c + 3] = keep * (pa - ga * p) + gp * ga * r
        cov[k, c + 4] = va - gv * pa - ga * pv + gv * ga * s
        cov[k, c + 5] = aa - 2 * ga * pa + ga * ga * s
    update_sizes(mean, cov, k, measured, noise)
    return nis


@njit(cache=True, nogil=True)
def update_sizes(mean: Float, cov: Float, k: int, measured: Float, noise: Float) -> None:  # pragma: no cover
    """Correct the width and height of filter ``k``, in place."""
    for axis in range(2, 4):
        if np.isfinite(noise[axis]):
            p, r = cov[k, 10 + axis], noise[axis] * noise[axis]
            gain = p / (p + r)
            mean[k, axis] += gain * (measured[axis] - mean[k, axis])
            cov[k, 10 + axis] = (1 - gain) * (1 - gain) * p + gain * gain * r
