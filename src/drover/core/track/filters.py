"""Motion filters, all tracks at once: steady speed or steady push for the box centre, slow change for its size.

Kalman filters (Kalman 1960) whose coordinates do not influence each other, so that each needs only a 3 x 3 (centre)
or 1 x 1 (size) covariance; with block-diagonal noise this is exact, not an approximation. Steady speed has white
acceleration as its noise, steady push a white change of acceleration, sizes a random walk; transitions and noises
are those of :mod:`drover.core.track.steps`, which compose over time. Corrections are in Joseph's form, which keeps
covariances positive (Bucy and Joseph 1968).
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.steps import push_step, speed_step

__all__ = [
    "COVARIANCES",
    "FRAME_RATE",
    "PUSH_LASTS",
    "REFERENCE_SIZE",
    "STATES",
    "XY",
    "begin_filter",
    "centre_and_size",
    "forecast_boxes",
    "grow_sizes",
    "new_filters",
    "plane_distance",
    "predict",
    "scale_of",
    "set_speeds",
    "update",
    "update_sizes",
]

Float = NDArray[np.float64]

# State: centre x, y, width, height (px), velocity x, y (px/frame), acceleration x, y (px/frame^2).
STATES = 8
# Covariance: for x and then y: position, position-velocity, velocity, position-acceleration, velocity-acceleration,
# acceleration; then width, height; last x with y, which only filters that turn have.
COVARIANCES = 15
XY = 14
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
    """States (n, 8) and covariances (n, 15) of tracks born at measured centres and sizes, standing still."""
    mean, cov = np.empty((len(measured), STATES)), np.empty((len(measured), COVARIANCES))
    for k, (x, y, w, h) in enumerate(np.asarray(measured, np.float64).tolist()):
        begin_filter(mean, cov, k, x - w / 2, y - h / 2, x + w / 2, y + h / 2, box_noise, scaling)
    return mean, cov


@njit(cache=True, nogil=True)
def begin_filter(
    mean: Float, cov: Float, k: int, left: float, top: float, right: float, bottom: float, noise: float, scaling: float
) -> None:  # pragma: no cover
    """Write the state and covariance of one born in a box (px), standing still."""
    wide, tall = right - left, bottom - top
    mean[k], cov[k] = 0.0, 0.0
    mean[k, 0], mean[k, 1], mean[k, 2], mean[k, 3] = (left + right) / 2, (top + bottom) / 2, wide, tall
    size, own = max(np.sqrt(wide * wide + tall * tall), 1.0), noise * scale_of(wide, tall, scaling)
    for c in (0, 6):
        cov[k, c], cov[k, c + 2], cov[k, c + 5] = own * own, (BIRTH_SPEED * size) ** 2, (BIRTH_PUSH * size) ** 2
    cov[k, 12] = cov[k, 13] = own * own


def set_speeds(mean: Float, cov: Float, velocity: Float, doubt: float) -> None:
    """Give newborn filters the speeds (n, 2) px/frame that are known, sure to ``doubt`` sizes/frame; in place."""
    known = np.flatnonzero(np.isfinite(velocity[:, 0]))
    mean[known, 4:6] = velocity[known]
    size = np.sqrt(np.maximum(mean[known, 2], 1.0) * np.maximum(mean[known, 3], 1.0))
    cov[known, 2] = cov[known, 8] = (doubt * size) ** 2


@njit(cache=True, nogil=True, error_model="numpy")
def scale_of(width: float, height: float, scaling: float) -> float:  # pragma: no cover
    """By how much noises are larger for a box of this size (px) than for one of 50 px."""
    if scaling == 0.0:
        return 1.0
    size = min(max(np.sqrt(max(width, 1.0) * max(height, 1.0)) / REFERENCE_SIZE, 0.2), 5.0)
    return np.sqrt(size) if scaling == 0.5 else size**scaling  # the usual power, asked for at every turn


@njit(cache=True, nogil=True, error_model="numpy")
def plane_distance(cov: Float, k: int, dx: float, dy: float, noise: float) -> float:  # pragma: no cover
    """Mahalanobis distance of an offset (px) from filter ``k``'s centre, measured with ``noise`` px."""
    a, b, c = cov[k, 0] + noise * noise, cov[k, 6] + noise * noise, cov[k, XY]
    return np.sqrt(max(b * dx * dx - 2.0 * c * dx * dy + a * dy * dy, 0.0) / (a * b - c * c))


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
    fading: NDArray[np.bool_],
    fade: float,
) -> None:  # pragma: no cover
    """Move the first ``count`` filters ``frames`` nominal frame times ahead, in place.

    ``jumpiness`` px/frame^2 and ``size_noise`` px/frame are standard deviations after one frame, at 50 px of size.
    Where ``fading`` the speed dies away with the time constant ``fade`` (frames; 0 keeps it).
    """
    kept, faded = speed_step(frames, 0.0, 0.0), speed_step(frames, 0.0, fade)
    for k in range(count):
        scale = scale_of(mean[k, 2], mean[k, 3], scaling)
        q = (jumpiness * scale) ** 2
        dies = fading[k] and fade > 0
        for axis in range(2):
            if pushed and not dies:
                _predict_pushed(mean, cov, k, axis, frames, q)
                continue
            along, keep, pp, pv, vv = faded if dies else kept
            _predict_speed(mean, cov, k, axis, along.real, keep.real, q * pp, q * pv.real, q * vv)
            if pushed:
                _rest_push(mean, cov, k, axis, along.real, keep.real, frames, q)
        grow_sizes(cov, k, size_noise * scale, frames)


@njit(cache=True, nogil=True)
def grow_sizes(cov: Float, k: int, size_noise: float, frames: float) -> None:  # pragma: no cover
    """Let the variance of filter ``k``'s width and height grow with the time, in place: a random walk."""
    grown = size_noise * size_noise * frames
    cov[k, 12] += grown
    cov[k, 13] += grown


@njit(cache=True, nogil=True)
def _predict_speed(
    mean: Float, cov: Float, k: int, axis: int, along: float, keep: float, pp: float, pv: float, vv: float
) -> None:  # pragma: no cover
    """One coordinate: F = [[1, along], [0, keep]], with the noise that the time brings."""
    c = 6 * axis
    position, both, speed = cov[k, c], cov[k, c + 1], cov[k, c + 2]
    mean[k, axis] += along * mean[k, 4 + axis]
    mean[k, 4 + axis] *= keep
    cov[k, c] = position + 2 * along * both + along * along * speed + pp
    cov[k, c + 1] = keep * (both + along * speed) + pv
    cov[k, c + 2] = keep * keep * speed + vv


@njit(cache=True, nogil=True)
def _predict_pushed(mean: Float, cov: Float, k: int, axis: int, t: float, q: float) -> None:  # pragma: no cover
    """One coordinate with acceleration: F = [[1, t, h], [0, 1, g], [0, 0, d]]."""
    h, g, d, pp, pv, pw, vv, vw, ww = push_step(t, PUSH_LASTS)
    c = 6 * axis
    p, b, s, pa, va, aa = cov[k, c], cov[k, c + 1], cov[k, c + 2], cov[k, c + 3], cov[k, c + 4], cov[k, c + 5]
    mean[k, axis] += t * mean[k, 4 + axis] + h * mean[k, 6 + axis]
    mean[k, 4 + axis] += g * mean[k, 6 + axis]
    mean[k, 6 + axis] *= d
    cov[k, c] = p + 2 * t * b + t * t * s + 2 * h * pa + 2 * t * h * va + h * h * aa + q * pp
    cov[k, c + 1] = b + t * s + g * pa + (t * g + h) * va + h * g * aa + q * pv
    cov[k, c + 2] = s + 2 * g * va + g * g * aa + q * vv
    cov[k, c + 3] = d * (pa + t * va + h * aa) + q * pw
    cov[k, c + 4] = d * (va + g * aa) + q * vw
    cov[k, c + 5] = d * d * aa + q * ww


@njit(cache=True, nogil=True)
def _rest_push(
    mean: Float, cov: Float, k: int, axis: int, along: float, keep: float, t: float, q: float
) -> None:  # pragma: no cover
    """The push of one whose speed dies away: it dies away too, and no longer feeds the speed."""
    d = np.exp(-t / PUSH_LASTS)
    c = 6 * axis
    mean[k, 6 + axis] *= d
    cov[k, c + 3] = d * (cov[k, c + 3] + along * cov[k, c + 4])
    cov[k, c + 4] = d * keep * cov[k, c + 4]
    cov[k, c + 5] = d * d * cov[k, c + 5] + q * (1.0 - d * d) * PUSH_LASTS / 2.0


@njit(cache=True, nogil=True, error_model="numpy")
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


@njit(cache=True, nogil=True, error_model="numpy")
def update_sizes(mean: Float, cov: Float, k: int, measured: Float, noise: Float) -> None:  # pragma: no cover
    """Correct the width and height of filter ``k``, in place."""
    for axis in range(2, 4):
        if np.isfinite(noise[axis]):
            p, r = cov[k, 10 + axis], noise[axis] * noise[axis]
            gain = p / (p + r)
            mean[k, axis] += gain * (measured[axis] - mean[k, axis])
            cov[k, 10 + axis] = (1 - gain) * (1 - gain) * p + gain * gain * r
