"""The mix of straight and turning filters against the textbook's full matrices, and on a circle."""

from __future__ import annotations

import functools

import numpy as np
import pytest
from builders import fixed
from scipy.linalg import fractional_matrix_power

from drover.core.track.correcting import correct_alone
from drover.core.track.filters import new_filters, predict, update
from drover.core.track.turning import AT_BIRTH, CALM, STAY, new_modes, predict_turning, update_turning

TURN = 0.1
PLAIN = np.full(4, 2.0)


def turn_matrix(t: float, w: float) -> np.ndarray:
    if w == 0:
        return np.array([[1, 0, t, 0], [0, 1, 0, t], [0, 0, 1, 0], [0, 0, 0, 1.0]])
    s, c = np.sin(w * t), np.cos(w * t)
    return np.array([[1, 0, s / w, -(1 - c) / w], [0, 1, (1 - c) / w, s / w], [0, 0, c, -s], [0, 0, s, c]])


@functools.cache
def noise_matrix(t: float, w: float) -> np.ndarray:
    """White acceleration over an interval, summed up in many small pieces: the integral of F G G' F'."""
    at, g = (np.arange(1000) + 0.5) * t / 1000, np.eye(4)[:, 2:]
    return sum((f := turn_matrix(s, w)) @ g @ g.T @ f.T for s in at) * t / 1000


class Twin:
    """Blom and Bar-Shalom's four steps with matrices, as printed."""

    def __init__(self, x: np.ndarray, p: np.ndarray) -> None:
        self.x, self.p, self.w = [x.copy() for _ in range(3)], [p.copy() for _ in range(3)], np.array(AT_BIRTH)

    def step(self, t: float, q: float, z: np.ndarray, r: float) -> None:
        once = np.full((3, 3), (1 - STAY) / 2)
        np.fill_diagonal(once, STAY)
        over = fractional_matrix_power(once, t)
        ahead = self.w @ over
        share = over * self.w[:, None] / ahead
        x0 = [sum(share[i, j] * self.x[i] for i in range(3)) for j in range(3)]
        p0 = [
            sum(share[i, j] * (self.p[i] + np.outer(self.x[i] - x0[j], self.x[i] - x0[j])) for i in range(3))
            for j in range(3)
        ]
        h, told = np.eye(2, 4), np.zeros(3)
        for j, w in enumerate((0.0, TURN, -TURN)):
            f = turn_matrix(t, w)
            x = f @ x0[j]
            p = f @ p0[j] @ f.T + (q * (CALM if j == 0 else 1.0)) ** 2 * noise_matrix(t, w)
            s = h @ p @ h.T + r * r * np.eye(2)
            off, gain = z - h @ x, p @ h.T @ np.linalg.inv(s)
            self.x[j], self.p[j] = x + gain @ off, (np.eye(4) - gain @ h) @ p
            told[j] = np.exp(-0.5 * off @ np.linalg.inv(s) @ off) / np.sqrt(np.linalg.det(s))
        self.w = ahead * told / (ahead * told).sum()

    @property
    def mean(self) -> np.ndarray:
        return sum(w * x for w, x in zip(self.w, self.x, strict=True))

    @property
    def spread(self) -> np.ndarray:
        return sum(
            w * (p + np.outer(x - self.mean, x - self.mean)) for w, x, p in zip(self.w, self.x, self.p, strict=True)
        )


def test_the_mixture_equals_the_textbook():
    rng = np.random.default_rng(5)
    mean, cov = new_filters(np.array([[50.0, 60.0, 20.0, 20.0]]), 2.0)
    mode = new_modes(cov)
    p = np.diag([cov[0, 0], cov[0, 6], cov[0, 2], cov[0, 8]])
    twin = Twin(np.array([50.0, 60.0, 0.0, 0.0]), p)
    for k in range(60):
        t = (1.0, 2.0, 0.5)[k % 3]
        z = np.array([50 + 40 * np.sin(k / 8), 60 + 2.0 * k]) + rng.normal(0, 1, 2)
        predict_turning(mean, cov, mode, 1, t, 0.6, 0.2, 0.0, TURN, np.zeros(1, np.bool_), 0.0)
        update_turning(mean, cov, mode, 0, np.array([*z, 20.0, 20.0]), np.array([2.0, 2.0, np.inf, np.inf]))
        twin.step(t, 0.6, z, 2.0)
        assert mean[0, [0, 1, 4, 5]] == pytest.approx(twin.mean, abs=1e-3)
        assert cov[0, [0, 2, 6, 8]] == pytest.approx(np.diag(twin.spread)[[0, 2, 1, 3]], rel=1e-3)
        assert mode[0, ::21] == pytest.approx(twin.w, abs=1e-4)
        assert cov[0, 14] == pytest.approx(twin.spread[0, 1], rel=1e-3, abs=1e-4)


def test_on_a_circle_it_sees_further_ahead_than_a_straight_filter():
    def ahead(turning: bool) -> float:
        mean, cov = new_filters(np.array([[100.0, 0.0, 20.0, 20.0]]), 2.0)
        mode, off = new_modes(cov), []
        for k in range(1, 160):
            place = 100 * np.array([np.cos(TURN * k), np.sin(TURN * k)])
            if turning:
                predict_turning(mean, cov, mode, 1, 1.0, 0.3, 0.2, 0.0, TURN, np.zeros(1, np.bool_), 0.0)
            else:
                predict(mean, cov, 1, 1.0, 0.3, 0.2, 0.0, False, np.zeros(1, np.bool_), 0.0)
            off.append(np.hypot(*(place - mean[0, :2])))
            measured = np.array([*place, 20.0, 20.0])
            if turning:
                update_turning(mean, cov, mode, 0, measured, PLAIN)
            else:
                update(mean, cov, 0, measured, PLAIN)
        if turning:
            assert mode[0, 21] > 0.8, "the turn towards +y is what it does"
        return float(np.mean(off[40:]))

    assert ahead(True) < 0.35 * ahead(False)


def test_moving_the_mean_moves_every_model_along():
    mean, cov = new_filters(np.array([[100.0, 50.0, 20.0, 20.0]]), 2.0)
    mode = new_modes(cov)
    mean[0, 0] += 30.0
    predict_turning(mean, cov, mode, 1, 1.0, 0.3, 0.2, 0.0, TURN, np.zeros(1, np.bool_), 0.0)
    assert mean[0, :2] == pytest.approx([130.0, 50.0])


def test_covariances_stay_positive_over_half_a_million_steps():
    """Two hundred mixtures at once, each 2,500 times: long coasting, then being seen, over and over."""
    many = 200
    mean, cov = new_filters(np.tile([10.0, 20.0, 30.0, 40.0], (many, 1)), 0.5)
    mode = new_modes(cov)
    box, usual = np.tile(np.array([-5, 0, 25, 40], np.float32), (many, 1)), np.tile([30.0, 40.0], (many, 1))
    never, seen, sure = np.zeros(many, np.bool_), np.ones(many, np.bool_), np.ones(many, np.float32)
    match, nis, least = np.arange(many), np.zeros(many), np.inf
    for k in range(2500):
        predict_turning(mean, cov, mode, many, 1.0, 0.01, 0.01, 0.0, 0.1, never, 0.0)
        if k % 50 > 20:
            moved = box.copy()
            moved[:, [0, 2]] += np.float32(5.0) * np.sin((k + match) / 13.0).astype(np.float32)[:, None]
            correct_alone(
                mean, cov, mode, usual, match, seen, fixed(moved), fixed(sure), 0.5, 0.0, 0.0, 0.0, -1e6, -1e6, 1e6,
                1e6, 1.0, nis, 0, many,
            )  # fmt: skip
        least = min(least, float(cov[:, [0, 2, 6, 8]].min()))
    assert least > 0
    for model in range(3):
        matrix = mode[:, 21 * model + 5 : 21 * model + 21].reshape(-1, 4, 4)
        assert np.array_equal(matrix, matrix.transpose(0, 2, 1))
        assert np.linalg.eigvalsh(matrix).min() > 0
    assert np.isfinite(mean).all()
    np.testing.assert_allclose(mode[:, ::21].sum(axis=1), 1.0)
