"""The motion filter: constant velocity for the box centre, slow change for its size, all tracks at once.

A Kalman filter (Kalman 1960) whose coordinates do not influence each other, so that each needs only a 2 x 2
(centre) or 1 x 1 (size) covariance; with block-diagonal noise this is exact, not an approximation. The process
noise is piecewise constant acceleration (Bar-Shalom, Li and Kirubarajan 2001, section 6.3.2).
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["COVARIANCES", "STATES", "centre_and_size", "forecast_boxes", "new_filters", "predict", "update"]

# State: centre x, centre y, width, height (px), velocity x, y (px/frame).
STATES = 6
# Covariance: for x and then y position, position-velocity, velocity; then width, height.
COVARIANCES = 8
SIZE_SLACK = 0.2  # summed log ratio of width and height that is everyday jitter and raises no doubt
BIRTH_SPEED = 0.06  # of the box size per frame: how fast a newborn may be moving, one standard deviation


def centre_and_size(box: NDArray[np.float32]) -> NDArray[np.float64]:
    """(n, 4) boxes to (n, 4) float64 centre x, centre y, width, height, px."""
    wide = np.asarray(box, np.float64)
    return np.column_stack(
        [
            (wide[:, 0] + wide[:, 2]) / 2,
            (wide[:, 1] + wide[:, 3]) / 2,
            wide[:, 2] - wide[:, 0],
            wide[:, 3] - wide[:, 1],
        ]
    )


def forecast_boxes(mean: NDArray[np.float64]) -> NDArray[np.float32]:
    """(n, 6) states to (n, 4) float32 boxes; sizes are held at 1 px or more."""
    half_w, half_h = np.maximum(mean[:, 2], 1) / 2, np.maximum(mean[:, 3], 1) / 2
    return np.column_stack([mean[:, 0] - half_w, mean[:, 1] - half_h, mean[:, 0] + half_w, mean[:, 1] + half_h]).astype(
        np.float32
    )


def new_filters(measured: NDArray[np.float64], box_noise: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """States (n, 6) and covariances (n, 8) of tracks born at measured centres and sizes, standing still."""
    n = len(measured)
    mean = np.zeros((n, STATES))
    mean[:, :4] = measured
    cov = np.zeros((n, COVARIANCES))
    speed = BIRTH_SPEED * np.maximum(np.hypot(measured[:, 2], measured[:, 3]), 1.0)
    cov[:, 0] = cov[:, 3] = cov[:, 6] = cov[:, 7] = box_noise**2
    cov[:, 2] = cov[:, 5] = speed**2
    return mean, cov


@njit(cache=True, nogil=True)
def predict(
    mean: NDArray[np.float64], cov: NDArray[np.float64], frames: float, jumpiness: float, size_noise: float
) -> None:  # pragma: no cover
    """Move all filters ``frames`` nominal frame times ahead, in place.

    ``jumpiness`` px/frame^2 and ``size_noise`` px/frame are standard deviations.
    """
    q = jumpiness * jumpiness
    f2, f3, f4 = frames * frames, frames**3, frames**4
    for k in range(mean.shape[0]):
        for axis in range(2):
            c = 3 * axis
            mean[k, axis] += frames * mean[k, 4 + axis]
            cov[k, c] += 2 * frames * cov[k, c + 1] + f2 * cov[k, c + 2] + q * f4 / 4
            cov[k, c + 1] += frames * cov[k, c + 2] + q * f3 / 2
            cov[k, c + 2] += q * f2
        cov[k, 6] += size_noise * size_noise * f2
        cov[k, 7] += size_noise * size_noise * f2


@njit(cache=True, nogil=True)
def update(
    mean: NDArray[np.float64],
    cov: NDArray[np.float64],
    rows: NDArray[np.int64],
    measured: NDArray[np.float64],
    box_noise: float,
    size_doubt: float,
) -> None:  # pragma: no cover
    """Correct the filters of ``rows`` by their measurements (same order), in place.

    A box whose size disagrees with the forecast (two animals in one blob, or one half hidden) is trusted less:
    its noise grows by ``size_doubt`` times the summed log ratios of width and height. The Joseph form
    keeps the covariances positive (Bucy and Joseph 1968).
    """
    for i in range(rows.shape[0]):
        k = rows[i]
        jump = 0.0
        for axis in range(2, 4):
            jump += abs(np.log(max(measured[i, axis], 1.0) / max(mean[k, axis], 1.0)))
        r = (box_noise * (1.0 + size_doubt * max(0.0, jump - SIZE_SLACK))) ** 2
        for axis in range(2):
            c = 3 * axis
            pp, pv, vv = cov[k, c], cov[k, c + 1], cov[k, c + 2]
            gain_p, gain_v = pp / (pp + r), pv / (pp + r)
            innovation = measured[i, axis] - mean[k, axis]
            mean[k, axis] += gain_p * innovation
            mean[k, 4 + axis] += gain_v * innovation
            keep = 1 - gain_p
            cov[k, c] = keep * keep * pp + gain_p * gain_p * r
            cov[k, c + 1] = keep * (pv - gain_v * pp) + gain_p * gain_v * r
            cov[k, c + 2] = vv - 2 * gain_v * pv + gain_v * gain_v * (pp + r)
        for axis in range(2, 4):
            p = cov[k, 4 + axis]
            plain = box_noise * box_noise
            gain = p / (p + plain)
            mean[k, axis] += gain * (measured[i, axis] - mean[k, axis])
            cov[k, 4 + axis] = (1 - gain) * (1 - gain) * p + gain * gain * plain
