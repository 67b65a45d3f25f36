"""Points, descriptions, flow and fits against what is known: drawn corners, exact motions, plain twins."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.features.binary import describe_binary
from drover.core.features.corners import ARC, RING_X, RING_Y, eigen_corners, eigen_strength, segment_corners
from drover.core.features.flow import follow_points
from drover.core.features.histograms import describe_gradients
from drover.core.features.matching import match
from drover.core.features.models import LEAST_PAIRS, MODELS, apply, fit_pairs, inverse, local_scale, mapped_corners
from drover.core.features.pair import look_at_pair
from drover.core.features.points import Points, spread
from drover.core.features.pyramid import halve, pyramid, resized, smoothed
from drover.core.features.robust import ROUNDS, fit_motion, how_many, spread_of
from drover.core.features.scales import DETECTORS, find_points
from drover.core.features.turning import FREEDOM, refine_turning
from drover.core.kernel_parts import read_only
from moving import SIZE, ground, looking, seen

LARGE = ground()
STILL = seen(LARGE, looking(380, 230))


def a_motion(model: str, turn: float, zoom: float, x: float, y: float) -> np.ndarray:
    out = np.eye(3)
    turn, zoom = (0.0 if model == "shift" else turn), (1.0 if model in ("shift", "rigid") else zoom)
    c, s = zoom * np.cos(turn), zoom * np.sin(turn)
    out[:2, :2] = [[c, -s], [s, c]]
    if model in ("affine", "projective"):
        out[:2, :2] = out[:2, :2] @ [[1.0, 0.12], [-0.05, 1.1]]
    if model == "projective":
        out[2, :2] = 2e-4, -1e-4
    out[:2, 2] = x, y
    return out


# --- corners ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("find", [eigen_corners, segment_corners])
def test_the_corners_of_a_square_are_found_where_they_were_drawn(find):
    picture = np.full((60, 80), 60, np.uint8)
    picture[20:40, 30:55] = 200
    found = find(picture)
    for corner in ((30, 20), (55, 20), (55, 40), (30, 40)):
        assert np.hypot(*(found[:, :2] - corner).T).min() < 3.5
    assert np.abs(found[:, 0] - 42.5).min() > 8, "no corner along a side"


def test_the_segment_test_is_its_definition():
    grey = np.random.default_rng(0).integers(0, 255, (40, 50)).astype(np.uint8)
    grey = smoothed(smoothed(grey))
    threshold, passes = 7, set()
    for y in range(4, 36):
        for x in range(4, 46):
            ring = [int(grey[y + b, x + a]) - int(grey[y, x]) for a, b in zip(RING_X, RING_Y, strict=True)] * 2
            arcs = [ring[k : k + ARC] for k in range(16)]
            best = max(max(min(arc), -max(arc)) for arc in arcs)
            if best > threshold:
                passes.add((x, y, best))
    strength = {(x, y): best for x, y, best in passes}
    before, after = [(-1, -1), (0, -1), (1, -1), (-1, 0)], [(1, 0), (-1, 1), (0, 1), (1, 1)]
    tops = {
        (x, y)
        for x, y, best in passes
        if all(strength.get((x + a, y + b), 0) < best for a, b in before)
        and all(strength.get((x + a, y + b), 0) <= best for a, b in after)
    }
    assert {(int(x), int(y)) for x, y, _ in segment_corners(grey, threshold)} == tops and len(tops) > 15


def test_the_least_eigenvalue_is_that_of_the_summed_gradients():
    grey = np.random.default_rng(1).integers(0, 255, (30, 34)).astype(np.uint8)
    out, values = eigen_strength(grey), grey.astype(np.float64)
    dx, dy = np.gradient(values, axis=1), np.gradient(values, axis=0)
    for y, x in ((10, 12), (15, 20), (18, 7)):
        part = np.s_[y - 3 : y + 4, x - 3 : x + 4]
        a, b = dx[part].ravel(), dy[part].ravel()
        matrix = np.array([[a @ a, a @ b], [a @ b, b @ b]]) / 49
        assert out[y, x] == pytest.approx(np.linalg.eigvalsh(matrix)[0], rel=1e-3)


def test_points_are_spread_and_none_is_found_where_there_is_nothing():
    for name in DETECTORS:
        assert len(find_points(np.full((120, 160), 90, np.uint8), name)) == 0
        found = find_points(STILL, name, most=120, rungs=3)
        assert 60 <= len(found) <= 130
        cells = np.unique((found.place / SIZE * (4, 3)).astype(int), axis=0)
        assert len(cells) >= 11, f"{name}: nearly every part of the picture has some"
    place = np.column_stack([np.arange(100.0), np.full(100, 5.0)])
    points = Points(place, np.arange(100.0), np.ones(100), np.zeros(100))
    few = spread(points, (100, 10), 10, (10, 1))
    assert sorted(few.strength) == [10 * k + 9 for k in range(10)], "the strongest of each cell"
    inside = np.zeros(STILL.shape, np.bool_)
    inside[50:100, 60:160] = True
    part = find_points(STILL, "segment", inside=inside).place
    assert len(part) and ((part > (60, 50)) & (part < (160, 100))).all()


def test_halves_and_other_sizes_keep_places():
    picture = np.zeros((64, 96), np.uint8)
    picture[20:28, 40:48] = 240
    small = halve(picture)
    assert small.shape == (32, 48) and small[10:14, 20:24].min() == 240
    y, x = np.nonzero(resized(picture, 48, 72) > 120)
    assert (x.mean() + 0.5) / 72 * 96 == pytest.approx(44, abs=0.4)
    assert (y.mean() + 0.5) / 48 * 64 == pytest.approx(24, abs=0.4)
    assert [p.shape for p in pyramid(STILL, 3)] == [(270, 480), (135, 240), (67, 120)]


# --- descriptions and flow ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("describe", [describe_binary, describe_gradients])
@pytest.mark.parametrize(("turn", "zoom"), [(0.0, 1.0), (0.7, 1.0), (-2.4, 0.8), (0.3, 1.5)])
def test_descriptions_find_points_again_turned_and_zoomed(describe, turn, zoom):
    view, first = looking(380, 230, turn, zoom), looking(380, 230)
    other = seen(LARGE, view)
    a, b = (find_points(picture, "segment", most=500, rungs=5) for picture in (STILL, other))
    pairs = match(describe(STILL, a), describe(other, b))
    off = np.hypot(*(apply(view @ inverse(first), a.place[pairs[:, 0]]) - b.place[pairs[:, 1]]).T)
    assert len(pairs) >= 25 and (off < 3).mean() > 0.7


def test_matching_keeps_what_is_clear_and_mutual():
    a = np.array([[0, 0], [255, 0]], np.uint64)
    b = np.array([[1, 0], [0, 2**60], [254, 0], [2**63, 2**63]], np.uint64)
    assert match(a, b, ratio=1.0).tolist() == [[0, 0], [1, 2]]
    assert match(a, b, ratio=0.85).tolist() == [[1, 2]], "of two as near as each other neither is clear"
    assert len(match(a, np.zeros((0, 2), np.uint64))) == 0
    far = np.full((1, 2), 2**64 - 1, np.uint64)
    assert len(match(np.zeros((1, 2), np.uint64), far)) == 0, "128 bits apart is nothing alike"
    unit = np.eye(3, 128, dtype=np.float32)
    assert match(unit, unit[::-1]).tolist() == [[0, 2], [1, 1], [2, 0]]


@pytest.mark.parametrize(("x", "y"), [(0.3, -0.7), (5.25, 3.5), (-14.0, 9.0)])
def test_flow_finds_shifts_to_a_fraction_of_a_pixel(x, y):
    other = seen(LARGE, looking(380 - x, 230 - y), order=3)
    place = find_points(STILL, "eigen", most=160).place
    place = place[((place > 45) & (place < np.array(SIZE) - 45)).all(axis=1)]
    flow = follow_points(pyramid(STILL, 4), pyramid(other, 4), place)
    assert flow.found.mean() > 0.7
    off = flow.place[flow.found] - place[flow.found] - (x, y)
    assert np.hypot(*np.median(off, axis=0)) < 0.05 and np.quantile(np.hypot(*off.T), 0.9) < 0.25


def test_a_point_that_went_out_of_sight_does_not_come_home():
    covered = STILL.copy()
    covered[100:200, 100:260] = np.random.default_rng(9).integers(60, 200, (100, 160))
    place = find_points(STILL, "eigen", most=200).place
    inside = ((place > (112, 112)) & (place < (248, 188))).all(axis=1)
    flow = follow_points(pyramid(STILL, 3), pyramid(covered, 3), place)
    assert inside.sum() >= 8 and flow.found[inside].mean() < 0.15
    clear = ((place < (80, 80)) | (place > (290, 230))).any(axis=1) & ((place > 20) & (place < (460, 250))).all(axis=1)
    assert flow.found[clear].mean() > 0.7


# --- motions -----------------------------------------------------------------------------------------------------


@given(
    model=st.sampled_from(MODELS), turn=st.floats(-3, 3), zoom=st.floats(0.3, 3), x=st.floats(-300, 300),
    y=st.floats(-300, 300), seed=st.integers(0, 999),
)  # fmt: skip
def test_every_motion_is_fitted_exactly_and_goes_back(model, turn, zoom, x, y, seed):
    true = a_motion(model, turn, zoom, x, y)
    a = np.random.default_rng(seed).uniform(0, 400, (LEAST_PAIRS[model] + 6, 2))
    found = fit_pairs(model, a, apply(true, a))
    assert found is not None
    assert np.allclose(apply(found, a), apply(true, a), atol=1e-4)
    assert np.allclose(apply(inverse(true), apply(true, a)), a, atol=1e-6)
    step = 1e-3
    grown = [np.linalg.det(np.array([apply(true, p + e) - apply(true, p) for e in np.eye(2) * step])[:, 0].T)
             for p in a[:3, None]]  # fmt: skip
    assert np.allclose(np.sqrt(np.abs(grown)) / step, local_scale(true, a[:3]), rtol=1e-2)


@pytest.mark.parametrize("model", MODELS)
def test_a_fit_holds_in_spite_of_half_the_pairs_being_wrong(model):
    true, rng = a_motion(model, 0.1, 1.08, 12, -7), np.random.default_rng(4)
    a = rng.uniform(0, 1, (160, 2)) * SIZE
    b = apply(true, a) + rng.normal(0, 0.25, a.shape)
    wrong = rng.random(160) < 0.5
    b[wrong] += rng.uniform(-80, 80, (int(wrong.sum()), 2))
    fit = fit_motion(a, b, model, size=SIZE, seed=1)
    assert fit.reason == "" and fit.matrix is not None
    assert np.hypot(*(mapped_corners(fit.matrix, SIZE) - mapped_corners(true, SIZE)).T).max() < 0.8
    assert fit.inlier[~wrong].mean() > 0.97 and fit.residual < 0.6
    again = fit_motion(a, b, model, size=SIZE, seed=1)
    assert again.matrix is not None and np.array_equal(again.matrix, fit.matrix), "the same seed gives the same"
    expected = fit_motion(a, b, model, size=SIZE, guess=true, most=0)
    assert expected.matrix is not None and expected.tried == 0


@given(
    model=st.sampled_from(tuple(FREEDOM)), n=st.integers(1, 40), turn=st.floats(-0.3, 0.3), x=st.floats(-9, 9),
    seed=st.integers(0, 999),
)  # fmt: skip
def test_a_motion_is_refined_as_the_plain_formulas_say(model, n, turn, x, seed):
    true, rng, tolerance = a_motion(model, turn, 1.02, x, -x), np.random.default_rng(seed), 2.0
    a, votes = rng.uniform(0, 400, (n, 2)), rng.choice([0.1, 1.0], n)
    b = apply(true, a) + rng.normal(0, 0.4, a.shape)
    b[rng.random(n) < 0.3] += 30.0
    plain, reach = true, 2 * tolerance
    for _ in range(ROUNDS):
        if plain is not None:
            off = np.hypot(*(apply(plain, a) - b).T) / reach
            plain = fit_pairs(model, a, b, votes * np.where(off < 1, (1 - off**2) ** 2, 0.0))
            reach = max(0.75 * reach, tolerance)
    found = refine_turning(*map(read_only, (true, a, b, votes)), tolerance, ROUNDS, FREEDOM[model])
    assert np.isfinite(found).all() == (plain is not None)
    assert plain is None or np.allclose(found, plain, atol=1e-9)
    tilted = a_motion("projective", turn, 1.0, x, x)
    assert np.allclose(apply(tilted, a), apply(tilted[None], a[None])[0], rtol=1e-12)


def test_a_fit_that_fails_says_why():
    rng = np.random.default_rng(6)
    a = rng.uniform(0, 1, (60, 2)) * SIZE
    cases = {
        "too few points": (a[:5], a[:5], "similarity"),
        "too few points agree": (a, rng.permutation(a) + rng.uniform(-40, 40, a.shape), "similarity"),
        "clustered": (a * 0.02 + 200, a * 0.02 + 203, "similarity"),
        "degenerate": (np.tile([[50.0, 60.0]], (40, 1)), np.tile([[52.0, 61.0]], (40, 1)), "similarity"),
        "fold or flatten": (a, a * 0.01 + 100, "similarity"),
        "nowhere": (a, np.full_like(a, np.nan), "shift"),
    }
    line = np.column_stack([np.linspace(0, 470, 60), np.full(60, 100.0)])
    cases["clustered "] = (line, line + np.array([3, 1]), "affine")
    for words, (one, other, model) in cases.items():
        fit = fit_motion(one, other, model, size=SIZE)  # type: ignore[arg-type]
        assert fit.matrix is None, words
        assert words.strip() in fit.reason or "degenerate" in fit.reason


def test_how_many_cells_by_hand():
    assert how_many(np.array([3, 0, 3, 7])) == 3
    assert how_many(np.zeros(0, np.int64)) == 0


def test_a_pair_of_pictures_is_told_by_every_way():
    view = looking(372, 226, 0.03, 1.04)
    other, true = seen(LARGE, view), view @ inverse(looking(380, 230))
    for link in ("flow", "bits", "gradients"):
        way = look_at_pair(STILL, other, "segment", link, "similarity")
        assert way.fit.matrix is not None and way.overlap > 0.85 and way.ms > 0
        assert np.hypot(*(mapped_corners(way.fit.matrix, SIZE) - mapped_corners(true, SIZE)).T).max() < 1.5
    blank = look_at_pair(np.full_like(STILL, 7), other, "segment", "bits", "similarity")
    assert blank.fit.matrix is None and "too few" in blank.fit.reason and blank.overlap == 0


# --- what a fit rests on ------------------------------------------------------------------------------------------


@given(st.lists(st.tuples(st.floats(-5, 405), st.floats(-5, 305)), max_size=60))
def test_the_spread_is_the_share_of_six_by_six_cells_that_hold_a_point(points):
    cells = {(min(max(int(x // (400 / 6)), 0), 5), min(max(int(y // 50), 0), 5)) for x, y in points}
    assert spread_of(np.array(points, float).reshape(-1, 2), (400, 300)) == pytest.approx(len(cells) / 36)


@pytest.mark.parametrize(
    ("thick", "model", "fits"),
    [(0, "affine", False), (2, "affine", False), (20, "affine", True), (20, "projective", True), (0, "rigid", True)],
)
def test_points_on_one_line_fix_a_turn_and_no_shear(thick, model, fits):
    """A line from corner to corner, ``thick`` px to either side of it: under a fiftieth of its length it is a line."""
    rng = np.random.default_rng(4)
    along = rng.uniform(0, 1, (200, 1))
    a = along * [400, 300] + rng.normal(0, max(thick, 1e-9), (200, 1)) * [-0.6, 0.8]
    fit = fit_motion(a, apply(a_motion(model, 0.05, 1.0, 3, 4), a), model, size=(400, 300))
    assert (fit.matrix is not None) == fits
    if not fits:
        assert "clustered" in fit.reason or "degenerate" in fit.reason


def test_what_is_said_of_a_pair_that_lies_nowhere_and_of_too_few():
    a = np.random.default_rng(1).uniform(0, 300, (40, 2))
    for k, bad in ((0, np.nan), (39, np.inf)):
        b = a + 3.0
        b[k, 1] = bad
        fit = fit_motion(a, b, "shift", size=(300, 300))
        assert fit.matrix is None and fit.reason == "a point lies nowhere" and not fit.inlier.any()
        assert fit_motion(b, a, "shift", size=(300, 300)).reason == "a point lies nowhere"
    for model, least in LEAST_PAIRS.items():
        few = fit_motion(a[: least + 5], a[: least + 5] + 1.0, model, size=(300, 300))
        assert few.reason == f"too few points: {least + 5}, {least + 6} are needed" and few.share == 0.0
        assert fit_motion(a[: least + 6], a[: least + 6] + 1.0, model, size=(300, 300)).matrix is not None


def test_pairs_that_weigh_more_carry_the_vote_and_a_guess_is_taken_where_most_agree():
    """Forty pairs go to the right, sixty down; weighed five to one the forty are most."""
    a = np.random.default_rng(2).uniform(0, 300, (100, 2))
    b = a + np.where(np.arange(100)[:, None] < 40, [20.0, 0.0], [0.0, 30.0])
    weight = np.where(np.arange(100) < 40, 5.0, 1.0)
    plainly, weighed = (fit_motion(a, b, "shift", size=(300, 300), weight=one) for one in (None, weight))
    assert plainly.matrix[:2, 2] == pytest.approx([0, 30]) and plainly.share == pytest.approx(0.6)
    assert weighed.matrix[:2, 2] == pytest.approx([20, 0]) and weighed.inlier.tolist() == [True] * 40 + [False] * 60
    right = fit_motion(a, b, "shift", size=(300, 300), guess=a_motion("shift", 0, 1, 1, 29))
    assert right.tried == 0 and right.matrix[:2, 2] == pytest.approx([0, 30])
    wrong = fit_motion(a, b, "shift", size=(300, 300), guess=a_motion("shift", 0, 1, 20, 0))
    assert wrong.tried > 0 and wrong.matrix[:2, 2] == pytest.approx([0, 30]), "fewer than half agree with it"


def test_what_agrees_in_one_corner_of_an_outline_does_not_fix_it():
    rng = np.random.default_rng(3)
    a, outline = rng.uniform(0, 100, (60, 2)), np.array([[0, 0], [200, 0], [200, 200], [0, 200]], float)
    move = a_motion("similarity", 0.1, 1.05, 5, 5)
    corner = fit_motion(a, apply(move, a), "similarity", size=(640, 480), spread_over=outline)
    assert corner.matrix is None and "clustered in one corner" in corner.reason
    assert corner.coverage == pytest.approx(4 / 16)
    wide = fit_motion(2 * a, apply(move, 2 * a), "similarity", size=(640, 480), spread_over=outline)
    assert wide.matrix == pytest.approx(move, abs=1e-6) and wide.coverage == pytest.approx(1.0)
