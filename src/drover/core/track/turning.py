"""A mix of filters that switches between going straight and turning, batched over tracks.

Interacting multiple models (Blom and Bar-Shalom 1988): three models of one object, straight ahead and turning either
way at a steady rate (coordinated turn with known rate, Bar-Shalom, Li and Kirubarajan 2001, 11.7.1), each with its
own filter. Before each step the filters are mixed by how likely each model goes over into each other; after it each
is weighed by how well it foretold the box. What the rest of the tracker sees is the mixture's mean and spread.

Each track has a row of ``MODES`` numbers: for every model its weight, its offset from the mixture's mean (x, y,
speed x, speed y; px and px/frame) and its 4 x 4 covariance. As offsets, they go along when the mean is moved.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.filters import PUSH_LASTS, XY, grow_sizes, plane_distance, scale_of, update_sizes
from drover.core.track.steps import speed_step

__all__ = ["MODES", "new_modes", "predict_turning", "update_turning"]

Float = NDArray[np.float64]
MODELS = 3  # straight, turning towards +y from +x, turning the other way
WIDTH = 1 + 4 + 16
MODES = MODELS * WIDTH
AT_BIRTH = (0.8, 0.1, 0.1)
CALM = 0.5  # times the jumpiness while going straight: turns have models of their own
STAY = float(np.exp(-1.0 / PUSH_LASTS))  # chance a frame that an object goes on as it does
LEAST_WEIGHT = 1e-6  # of a model, so that each can come back


def new_modes(cov: Float) -> Float:
    """Rows (n, MODES) for newborn tracks with covariances (n, 15) as the other filters have them."""
    out = np.zeros((len(cov), MODELS, WIDTH))
    for model in range(MODELS):
        out[:, model, 0] = AT_BIRTH[model]
        matrix = out[:, model, 5:].reshape(-1, 4, 4)
        for axis, first in ((0, 0), (1, 6)):
            matrix[:, axis, axis] = cov[:, first]
            matrix[:, axis, axis + 2] = matrix[:, axis + 2, axis] = cov[:, first + 1]
            matrix[:, axis + 2, axis + 2] = cov[:, first + 2]
    return out.reshape(len(cov), MODES)


@njit(cache=True, nogil=True)
def predict_turning(
    mean: Float,
    cov: Float,
    mode: Float,
    count: int,
    frames: float,
    jumpiness: float,
    size_noise: float,
    scaling: float,
    turn: float,
    fading: NDArray[np.bool_],
    fade: float,
) -> None:  # pragma: no cover
    """Move the first ``count`` mixtures ``frames`` nominal frame times ahead, in place.

    ``turn`` is the rate of turning, rad/frame; the others are as in :func:`drover.core.track.filters.predict`.
    """
    stay = stay_over(frames)
    state, matrix = np.empty((MODELS, 4)), np.empty((MODELS, 4, 4))
    mixed, mixed_matrix = np.empty((MODELS, 4)), np.empty((MODELS, 4, 4))
    weight = np.empty(MODELS)
    for k in range(count):
        _unpack(mean, mode, k, state, matrix, weight)
        _mix(state, matrix, weight, stay, mixed, mixed_matrix)
        scale = scale_of(mean[k, 2], mean[k, 3], scaling)
        for j in range(MODELS):
            q = (jumpiness * scale * (CALM if j == 0 else 1.0)) ** 2
            turning = 0.0 if j == 0 else turn if j == 1 else -turn
            _move(mixed[j], mixed_matrix[j], frames, turning, fade if fading[k] else 0.0, q)
        _pack(mean, cov, mode, k, mixed, mixed_matrix, weight)
        grow_sizes(cov, k, size_noise * scale, frames)


@njit(cache=True, nogil=True)
def stay_over(frames: float) -> float:  # pragma: no cover
    """Chance that a model is the one it was after ``frames``; STAY after one.

    All models go over into each other alike, so the chain's second eigenvalue is (n STAY - 1) / (n - 1), and its
    powers are those of the chain: two steps do what one of their sum does.
    """
    second = (MODELS * STAY - 1.0) / (MODELS - 1.0)
    return (1.0 + (MODELS - 1.0) * second**frames) / MODELS


@njit(cache=True, nogil=True)
def update_turning(
    mean: Float, cov: Float, mode: Float, k: int, measured: Float, noise: Float
) -> float:  # pragma: no cover
    """Correct mixture ``k`` by a measurement, in place; as :func:`drover.core.track.filters.update`."""
    nis = 0.0
    if noise[0] == noise[1]:
        nis = plane_distance(cov, k, measured[0] - mean[k, 0], measured[1] - mean[k, 1], noise[0]) ** 2
    else:
        for axis in range(2):
            if np.isfinite(noise[axis]):
                nis += (measured[axis] - mean[k, axis]) ** 2 / (cov[k, 6 * axis] + noise[axis] ** 2)
    state, matrix, weight = np.empty((MODELS, 4)), np.empty((MODELS, 4, 4)), np.empty(MODELS)
    _unpack(mean, mode, k, state, matrix, weight)
    told = np.zeros(MODELS)
    for j in range(MODELS):
        for axis in range(2):
            if np.isfinite(noise[axis]):
                told[j] += _correct(state[j], matrix[j], axis, measured[axis], noise[axis] ** 2)
    best, total = told.max(), 0.0
    for j in range(MODELS):
        weight[j] = max(weight[j] * np.exp(told[j] - best), LEAST_WEIGHT)
        total += weight[j]
    for j in range(MODELS):
        weight[j] /= total
    _pack(mean, cov, mode, k, state, matrix, weight)
    update_sizes(mean, cov, k, measured, noise)
    return nis


@njit(cache=True, nogil=True)
def _unpack(mean: Float, mode: Float, k: int, state: Float, matrix: Float, weight: Float) -> None:  # pragma: no cover
    for j in range(MODELS):
        at = j * WIDTH
        weight[j] = mode[k, at]
        for c in range(4):
            state[j, c] = mode[k, at + 1 + c] + mean[k, c if c < 2 else c + 2]
            for d in range(4):
                matrix[j, c, d] = mode[k, at + 5 + 4 * c + d]


@njit(cache=True, nogil=True)
def _mix(
    state: Float, matrix: Float, weight: Float, stay: float, mixed: Float, mixed_matrix: Float
) -> None:  # pragma: no cover
    """Each model's start, mixed from all by how likely they go over into it; ``weight`` moves on, in place."""
    before = weight.copy()
    over = (1.0 - stay) / (MODELS - 1)
    for j in range(MODELS):
        weight[j] = 0.0
        for i in range(MODELS):
            weight[j] += before[i] * (stay if i == j else over)
        for c in range(4):
            mixed[j, c] = 0.0
            for i in range(MODELS):
                mixed[j, c] += before[i] * (stay if i == j else over) / weight[j] * state[i, c]
        for c in range(4):
            for d in range(4):
                mixed_matrix[j, c, d] = 0.0
                for i in range(MODELS):
                    share = before[i] * (stay if i == j else over) / weight[j]
                    off = (state[i, c] - mixed[j, c]) * (state[i, d] - mixed[j, d])
                    mixed_matrix[j, c, d] += share * (matrix[i, c, d] + off)


@njit(cache=True, nogil=True)
def _move(state: Float, matrix: Float, t: float, turn: float, fade: float, q: float) -> None:  # pragma: no cover
    """State and covariance ``t`` frames on, in place: F x, F P F' + Q with acceleration noise of strength ``q``."""
    along, keep, pp, pv, vv = speed_step(t, turn, fade)
    step = np.eye(4)
    step[0, 2] = step[1, 3] = along.real
    step[0, 3], step[1, 2] = -along.imag, along.imag
    step[2, 2] = step[3, 3] = keep.real
    step[2, 3], step[3, 2] = -keep.imag, keep.imag
    moved, half = np.zeros(4), np.zeros((4, 4))
    for c in range(4):
        for d in range(4):
            moved[c] += step[c, d] * state[d]
            for e in range(4):
                half[c, d] += step[c, e] * matrix[e, d]
    state[:] = moved
    for c in range(4):
        for d in range(c, 4):
            value = 0.0
            for e in range(4):
                value += half[c, e] * step[d, e]
            matrix[c, d] = matrix[d, c] = value
    for axis in range(2):
        matrix[axis, axis] += q * pp
        matrix[axis + 2, axis + 2] += q * vv
        matrix[axis, axis + 2] += q * pv.real
        matrix[axis + 2, axis] += q * pv.real
    matrix[1, 2] += q * pv.imag
    matrix[2, 1] += q * pv.imag
    matrix[0, 3] -= q * pv.imag
    matrix[3, 0] -= q * pv.imag


@njit(cache=True, nogil=True)
def _correct(state: Float, matrix: Float, axis: int, z: float, r: float) -> float:  # pragma: no cover
    """One model corrected by one coordinate (Joseph's form), in place; the log likelihood of the measurement."""
    s = matrix[axis, axis] + r
    off = z - state[axis]
    gain = matrix[:, axis] / s
    row = matrix[axis].copy()
    for c in range(4):
        state[c] += gain[c] * off
    for c in range(4):
        for d in range(c, 4):
            # (I - g h) P (I - g h)' + g r g', written out; h picks the axis.
            value = matrix[c, d] - gain[c] * row[d] - row[c] * gain[d] + gain[c] * gain[d] * s
            matrix[c, d] = matrix[d, c] = value
    return float(-0.5 * (off * off / s + np.log(s)))


@njit(cache=True, nogil=True)
def _pack(
    mean: Float, cov: Float, mode: Float, k: int, state: Float, matrix: Float, weight: Float
) -> None:  # pragma: no cover
    """Store the models and the mixture's own mean and spread."""
    middle = np.zeros(4)
    for j in range(MODELS):
        for c in range(4):
            middle[c] += weight[j] * state[j, c]
    whole = np.zeros((4, 4))
    for j in range(MODELS):
        at = j * WIDTH
        mode[k, at] = weight[j]
        for c in range(4):
            mode[k, at + 1 + c] = state[j, c] - middle[c]
            for d in range(4):
                mode[k, at + 5 + 4 * c + d] = matrix[j, c, d]
                off = (state[j, c] - middle[c]) * (state[j, d] - middle[d])
                whole[c, d] += weight[j] * (matrix[j, c, d] + off)
    for axis in range(2):
        mean[k, axis], mean[k, 4 + axis] = middle[axis], middle[2 + axis]
        cov[k, 6 * axis], cov[k, 6 * axis + 1] = whole[axis, axis], whole[axis, axis + 2]
        cov[k, 6 * axis + 2] = whole[axis + 2, axis + 2]
    cov[k, XY] = whole[0, 1]
