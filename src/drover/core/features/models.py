"""Motions of a picture: shift, rigid, similarity, affine and projective, fitted to pairs of points.

A motion is a 3 x 3 float64 that takes (x, y, 1) of one picture to the other, up to its last coordinate. Every fit works
on many sets of pairs at once, so that random samples cost one call.
"""

from __future__ import annotations

from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from drover.core.features.turning import carry
from drover.core.kernel_parts import read_only

__all__ = [
    "LEAST_PAIRS",
    "MODELS",
    "Model",
    "apply",
    "fit_pairs",
    "fit_sets",
    "inverse",
    "local_scale",
    "mapped_corners",
    "moved",
    "plain",
    "slope_at",
]

Float = NDArray[np.float64]
Model = Literal["shift", "rigid", "similarity", "affine", "projective"]
MODELS: tuple[Model, ...] = get_args(Model)
LEAST_PAIRS: dict[Model, int] = {"shift": 1, "rigid": 2, "similarity": 2, "affine": 3, "projective": 4}
POLISH = 3  # steps that bring a projective fit from the algebraic to the true distance
TINY = 1e-12


def apply(matrix: Float, points: Float) -> Float:
    """Points (..., n, 2) taken along by motions (..., 3, 3)."""
    if matrix.ndim == 2 and points.ndim == 2:
        return carry(plain(matrix), plain(points))
    out = points @ np.swapaxes(matrix[..., :2, :2], -1, -2) + matrix[..., None, :2, 2]
    last = (points @ matrix[..., 2, :2, None])[..., 0] + matrix[..., 2, 2, None]
    return out / np.where(np.abs(last) < TINY, TINY, last)[..., None]


def plain(table: Float) -> Float:
    """Of the one kind that kernels are compiled for."""
    return read_only(np.ascontiguousarray(table, np.float64))


def mapped_corners(matrix: Float, size: tuple[int, int]) -> Float:
    """Where the corners of a picture of (width, height) px go, (4, 2), clockwise from the top left."""
    width, height = size
    return apply(matrix, np.array([[0, 0], [width, 0], [width, height], [0, height]], np.float64))


def moved(matrix: Float, size: tuple[int, int]) -> float:
    """By how many px the corner goes that goes farthest."""
    return float(np.hypot(*(mapped_corners(matrix, size) - mapped_corners(np.eye(3), size)).T).max())


def local_scale(matrix: Float, points: Float) -> Float:
    """By what factor lengths grow at points (n, 2): the root of the determinant of the motion's slope there, (n,)."""
    last = points @ matrix[2, :2] + matrix[2, 2]
    whole = np.linalg.det(matrix)
    return np.sqrt(np.abs(whole / np.where(np.abs(last) < TINY, TINY, last) ** 3))


def inverse(matrix: Float) -> Float:
    """The motion back, (..., 3, 3)."""
    return np.asarray(np.linalg.inv(matrix), np.float64)


def slope_at(matrix: Float, place: Float) -> Float:
    """How a motion turns and zooms what lies near a place (2,): its slope there, (2, 2)."""
    last = matrix[2, :2] @ place + matrix[2, 2]
    there = (matrix[:2, :2] @ place + matrix[:2, 2]) / last
    return (matrix[:2, :2] - there[:, None] * matrix[2, :2]) / last


def fit_pairs(model: Model, a: Float, b: Float, weight: Float | None = None, *, polish: bool = True) -> Float | None:
    """The motion (3, 3) that takes points ``a`` (n, 2) to ``b`` with the least squares, weighted by ``weight`` (n,).

    None where the pairs do not fix it: too few, all in one place or, from affine on, on one line.
    """
    if len(a) < LEAST_PAIRS[model]:
        return None
    weights = np.ones(len(a)) if weight is None else weight
    if np.count_nonzero(weights > 0) < LEAST_PAIRS[model]:
        return None
    found = fit_sets(model, a[None], b[None], weights[None])[0]
    if not np.isfinite(found).all():
        return None
    return _polished(found, a, b, weights) if polish and model == "projective" and len(a) > 4 else found


def fit_sets(model: Model, a: Float, b: Float, weight: Float | None = None) -> Float:
    """Motions (k, 3, 3) of ``k`` sets of pairs (k, n, 2), weighted (k, n); NaN where a set does not fix one."""
    weights = np.ones(a.shape[:2]) if weight is None else weight
    if model in ("shift", "rigid", "similarity"):
        return _by_turning(model, a, b, weights)
    return _by_solving(model, a, b, weights)


def _by_turning(model: Model, a: Float, b: Float, weight: Float) -> Float:
    """Shift, rigid and similarity in closed form (Umeyama 1991, in the plane: one complex factor)."""
    share = weight / np.maximum(weight.sum(axis=1, keepdims=True), TINY)
    middle_a, middle_b = (share[..., None] * a).sum(axis=1), (share[..., None] * b).sum(axis=1)
    out = np.zeros((len(a), 3, 3))
    out[:, 2, 2] = 1.0
    factor = np.ones(len(a), np.complex128)
    if model != "shift":
        one, other = a - middle_a[:, None], b - middle_b[:, None]
        one_c, other_c = one[..., 0] + 1j * one[..., 1], other[..., 0] + 1j * other[..., 1]
        spread = (share * np.abs(one_c) ** 2).sum(axis=1)
        with np.errstate(invalid="ignore", divide="ignore"):
            factor = (share * np.conj(one_c) * other_c).sum(axis=1) / np.where(spread < TINY, np.nan, spread)
        if model == "rigid":
            with np.errstate(invalid="ignore", divide="ignore"):
                factor = factor / np.abs(factor)
    out[:, 0, 0] = out[:, 1, 1] = factor.real
    out[:, 1, 0], out[:, 0, 1] = factor.imag, -factor.imag
    out[:, :2, 2] = middle_b - (out[:, :2, :2] @ middle_a[..., None])[..., 0]
    return out


def _by_solving(model: Model, a: Float, b: Float, weight: Float) -> Float:
    """Affine and projective by normal equations, coordinates brought to unit size first (Hartley 1997, section 4)."""
    to_a, to_b = _unit(a, weight), _unit(b, weight)
    one, other = apply(to_a, a), apply(to_b, b)
    k, n = one.shape[:2]
    flat = np.concatenate([one, np.ones((k, n, 1))], axis=2)
    unknown = 8 if model == "projective" else 6
    rows = np.zeros((k, n, 2, unknown))
    rows[:, :, 0, 0:3] = flat
    rows[:, :, 1, 3:6] = flat
    if model == "projective":
        rows[:, :, 0, 6:8] = -other[..., 0, None] * one
        rows[:, :, 1, 6:8] = -other[..., 1, None] * one
    rows, goal = rows.reshape(k, 2 * n, unknown), other.reshape(k, 2 * n)
    heavy = np.repeat(weight, 2, axis=1)
    square = np.einsum("kni,kn,knj->kij", rows, heavy, rows)
    right = np.einsum("kni,kn,kn->ki", rows, heavy, goal)
    out = np.full((k, 3, 3), np.nan)
    with np.errstate(all="ignore"):
        firm = np.abs(np.linalg.det(square)) > 1e-14
    if firm.any():
        solved = np.linalg.solve(square[firm], right[firm][..., None])[..., 0]
        last = np.tile([0.0, 0.0, 1.0], (len(solved), 1))
        if model == "projective":
            last[:, :2] = solved[:, 6:]
        unit = np.concatenate([solved[:, :6], last], axis=1).reshape(-1, 3, 3)
        whole = np.linalg.inv(to_b[firm]) @ unit @ to_a[firm]
        with np.errstate(all="ignore"):
            out[firm] = whole / whole[:, 2:, 2:]
    return out


def _unit(points: Float, weight: Float) -> Float:
    """What brings sets of points (k, n, 2) to their middle and to a spread of one."""
    share = weight / np.maximum(weight.sum(axis=1, keepdims=True), TINY)
    middle = (share[..., None] * points).sum(axis=1)
    spread = np.sqrt((share[..., None] * (points - middle[:, None]) ** 2).sum(axis=(1, 2)))
    out = np.zeros((len(points), 3, 3))
    out[:, 0, 0] = out[:, 1, 1] = 1.0 / np.maximum(spread, 1e-9)
    out[:, :2, 2] = -middle / np.maximum(spread, 1e-9)[:, None]
    out[:, 2, 2] = 1.0
    return out


def _polished(matrix: Float, a: Float, b: Float, weight: Float) -> Float:
    """A projective motion brought to the least true distance by Gauss-Newton steps on its eight numbers."""
    root = np.sqrt(weight)[:, None]
    for _ in range(POLISH):
        last = a @ matrix[2, :2] + matrix[2, 2]
        if np.abs(last).min() < 1e-9:
            return matrix
        there = apply(matrix, a)
        flat = np.column_stack([a, np.ones(len(a))]) / last[:, None]
        slope = np.zeros((len(a), 2, 8))
        slope[:, 0, 0:3], slope[:, 1, 3:6] = flat, flat
        slope[:, :, 6:8] = -there[:, :, None] * flat[:, None, :2]
        scale = np.abs(slope).max(axis=(0, 1)) + TINY
        step = np.linalg.lstsq(
            (slope * root[:, :, None] / scale).reshape(-1, 8), ((b - there) * root).ravel(), rcond=None
        )[0]
        better = matrix + np.append(step / scale, 0.0).reshape(3, 3)
        if not np.isfinite(better).all():
            return matrix
        matrix = better
    return matrix
