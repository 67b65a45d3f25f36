"""The motion that most pairs of points share, in spite of those that do not; where there is none, the reason.

Random samples (Fischler and Bolles 1981, "Random sample consensus"), each better one refined on all that agree with it
(Chum, Matas and Kittler 2003, "Locally optimized RANSAC"), until a better one is no longer to be expected. The draw has
a seed. A motion that is expected may be given; it is tried before any sample.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.features.models import LEAST_PAIRS, Model, apply, fit_pairs, fit_sets, plain
from drover.core.features.turning import FREEDOM, refine_turning

__all__ = ["Fit", "fit_motion", "how_many", "spread_of"]

Float = NDArray[np.float64]
BATCH = 48  # samples tried at once
ROUNDS = 4  # of refinement
CELLS = 6  # a side, into which the picture is divided to see how far agreement reaches
LEAST_AGREE = 6  # pairs beyond those that a sample needs
LEAST_SHARE = 0.2  # of the pairs must agree
LEAST_SPREAD = 0.12  # of the cells must hold a pair that agrees; under it they are clustered
LEAST_INSIDE = 0.3  # of sixteen parts of an outline that must hold a point that agrees
TINY = 1e-9
FARTHEST_ZOOM = 8.0  # times, beyond which a motion is taken for degenerate


@dataclass(frozen=True)
class Fit:
    """What came of a fit.

    ``matrix`` (3, 3) float64 is None exactly where ``reason`` is not empty; ``inlier`` (n,) bool; ``residual`` px is
    the root mean square of what agrees; ``coverage`` 0..1 the share of the picture's cells with an agreeing pair;
    ``tried`` random samples.
    """

    matrix: Float | None
    inlier: NDArray[np.bool_]
    residual: float
    coverage: float
    tried: int
    reason: str = ""

    @property
    def share(self) -> float:
        """Share of the pairs that agree, 0..1."""
        return float(self.inlier.mean()) if len(self.inlier) else 0.0


def fit_motion(
    a: Float,
    b: Float,
    model: Model,
    *,
    size: tuple[int, int],
    tolerance: float = 2.0,
    guess: Float | None = None,
    weight: Float | None = None,
    confidence: float = 0.999,
    most: int = 1500,
    seed: int = 0,
    least_share: float = LEAST_SHARE,
    spread_over: Float | None = None,
) -> Fit:
    """The motion that takes most of ``a`` (n, 2) px to ``b``, in pictures of ``size`` (width, height).

    ``tolerance`` px is how far off a pair may be; ``weight`` (n,) how much each counts in the vote; ``guess`` (3, 3) is
    tried first. At least ``least_share`` of the pairs must agree, and they must be spread over the picture, or over an
    outline ``spread_over`` (4, 2) in the first picture. Nothing is
    raised: where there is no motion, the reason is in the result.
    """
    need = LEAST_PAIRS[model]
    if len(a) < need + LEAST_AGREE:
        return _failed(len(a), f"too few points: {len(a)}, {need + LEAST_AGREE} are needed")
    if not (np.isfinite(a).all() and np.isfinite(b).all()):
        return _failed(len(a), "a point lies nowhere")
    votes = np.ones(len(a)) if weight is None else weight
    best, tried = _searched(a, b, model, votes, tolerance, guess, confidence, most, seed)
    if best is None:
        return _failed(len(a), "degenerate: the points lie in one place or on one line", tried)
    found = _judged(best, a, b, model, size if spread_over is None else None, tolerance, tried, least_share)
    if spread_over is not None and found.matrix is not None:
        found = _spread_enough(found, a, spread_over)
    return found


def _searched(
    a: Float,
    b: Float,
    model: Model,
    votes: Float,
    tolerance: float,
    guess: Float | None,
    confidence: float,
    most: int,
    seed: int,
) -> tuple[Float | None, int]:
    """The motion with the most votes, and how many samples that took."""
    need, rng = LEAST_PAIRS[model], np.random.default_rng(seed)
    best, best_votes, tried, wanted = None, 0.0, 0, float(most)
    whole = max(float(votes.sum()), 1e-9)

    def consider(matrix: Float | None) -> bool:
        nonlocal best, best_votes, wanted
        refined = None if matrix is None else _refined(matrix, a, b, model, votes, tolerance)
        if refined is None:
            return False
        count = float(votes[_off(refined, a, b) <= tolerance].sum())
        if count <= best_votes:
            return False
        best, best_votes = refined, count
        miss = 1.0 - min(count / whole, 1.0 - 1e-9) ** need
        wanted = min(float(most), np.log(1.0 - confidence) / np.log(miss)) if miss > 0 else 0.0
        return True

    consider(guess)
    if best_votes > 0.5 * whole:  # more agree with what was expected than can agree with anything else
        return best, tried
    while tried < min(wanted, most):
        chosen = np.argsort(rng.random((BATCH, len(a))), axis=1)[:, :need] if len(a) < 64 else _draw(rng, len(a), need)
        tried += BATCH
        found = fit_sets(model, a[chosen], b[chosen])
        found = found[np.isfinite(found).all(axis=(1, 2))]
        if not len(found):
            continue
        off = np.hypot(*np.moveaxis(apply(found, a[None]) - b[None], -1, 0))
        consider(found[int(((off <= tolerance) @ votes).argmax())])
    return best, tried


def _draw(rng: np.random.Generator, n: int, need: int) -> NDArray[np.int64]:
    """Samples of different pairs: those that drew one twice are drawn anew, or left as they are, which fits nothing."""
    chosen = rng.integers(0, n, (BATCH, need))
    for _ in range(2):
        double = (np.diff(np.sort(chosen, axis=1), axis=1) == 0).any(axis=1)
        chosen[double] = rng.integers(0, n, (int(double.sum()), need))
    return chosen


def _off(matrix: Float, a: Float, b: Float) -> Float:
    return np.hypot(*(apply(matrix, a) - b).T)


def _refined(matrix: Float, a: Float, b: Float, model: Model, votes: Float, tolerance: float) -> Float | None:
    """A motion fitted again and again to what agrees with it, each pair the less the farther off it is (Tukey 1974)."""
    if model in FREEDOM:
        found = refine_turning(plain(matrix), plain(a), plain(b), plain(votes), tolerance, ROUNDS, FREEDOM[model])
        return found if np.isfinite(found[0, 0]) else None
    reach, out = 2.0 * tolerance, matrix
    for turn in range(ROUNDS):
        off = _off(out, a, b) / reach
        weight = votes * np.where(off < 1, (1 - np.minimum(off, 1) ** 2) ** 2, 0.0)
        found = fit_pairs(model, a, b, weight, polish=turn == ROUNDS - 1)
        if found is None:
            return None
        reach, out = max(0.75 * reach, tolerance), found
    return out


def _judged(
    matrix: Float,
    a: Float,
    b: Float,
    model: Model,
    size: tuple[int, int] | None,
    tolerance: float,
    tried: int,
    least_share: float,
) -> Fit:
    """The motion, or why it is none."""
    off = _off(matrix, a, b)
    inlier = off <= tolerance
    coverage = 1.0 if size is None else spread_of(a[inlier], size)
    residual = float(np.sqrt((off[inlier] ** 2).mean())) if inlier.any() else float("inf")
    slope = np.linalg.det(matrix[:2, :2])
    reason = ""
    if inlier.sum() < LEAST_PAIRS[model] + LEAST_AGREE:
        reason = f"too few points agree: {int(inlier.sum())} of {len(a)}"
    elif inlier.mean() < least_share:
        reason = f"too few points agree: {100 * inlier.mean():.0f} %"
    elif not 1.0 / FARTHEST_ZOOM**2 < slope < FARTHEST_ZOOM**2:
        reason = "degenerate: it would fold or flatten the picture"
    elif (coverage < LEAST_SPREAD and model != "shift") or _on_a_line(a[inlier], model):
        reason = "the points that agree are clustered: they do not fix the whole picture"
    elif residual > tolerance:
        reason = f"what is left is too large: {residual:.1f} px"
    if reason:
        return Fit(None, inlier, residual, coverage, tried, reason)
    return Fit(matrix, inlier, residual, coverage, tried)


def _spread_enough(fit: Fit, a: Float, outline: Float) -> Fit:
    """The fit, unless what agrees lies in one corner of an outline (4, 2)."""
    low, high = outline.min(axis=0), outline.max(axis=0)
    cell = np.clip(((a[fit.inlier] - low) / np.maximum(high - low, TINY) * 4).astype(np.int64), 0, 3)
    coverage = how_many(cell[:, 0] * 4 + cell[:, 1]) / 16
    if coverage >= LEAST_INSIDE:
        return Fit(fit.matrix, fit.inlier, fit.residual, coverage, fit.tried)
    return Fit(None, fit.inlier, fit.residual, coverage, fit.tried, "the points that agree are clustered in one corner")


def how_many(cells: NDArray[np.int64]) -> int:
    """How many different cells, counted from 0, there are among some (n,)."""
    return int(np.count_nonzero(np.bincount(cells)))


def _on_a_line(points: Float, model: Model) -> bool:
    """Whether points that are to fix more than a turn lie nearly on one line."""
    if model not in ("affine", "projective"):
        return False
    spread = np.sqrt(np.maximum(np.linalg.eigvalsh(np.cov(points.T)), 0))
    return bool(spread[0] < 0.02 * spread[1])


def spread_of(points: Float, size: tuple[int, int]) -> float:
    """In what share of the picture's cells there is a point, 0..1."""
    if not len(points):
        return 0.0
    cell = np.clip((points / size * CELLS).astype(np.int64), 0, CELLS - 1)
    return how_many(cell[:, 0] * CELLS + cell[:, 1]) / CELLS**2


def _failed(n: int, reason: str, tried: int = 0) -> Fit:
    return Fit(None, np.zeros(n, np.bool_), float("inf"), 0.0, tried, reason)
