"""The motion filter against the textbook matrices; identities through gaps, crossings and hostile input."""

from __future__ import annotations

import numpy as np
import pytest
from builders import fixed, tracks_of
from hypothesis import given
from hypothesis import strategies as st
from numba import njit
from scipy.linalg import expm

from drover.core.assignment import NOBODY, match_pairs
from drover.core.recipe import AfterSettings, Recipe, ScoreSettings, TrackSettings, with_value
from drover.core.score.spans import score_result
from drover.core.simulate.boxes import simulate_boxes
from drover.core.track import rows as row_module
from drover.core.track.candidates import TERMS, pair_terms
from drover.core.track.evidence import gap_lengths, gaps_of
from drover.core.track.filters import (
    COVARIANCES,
    PUSH_LASTS,
    centre_and_size,
    forecast_boxes,
    new_filters,
    predict,
    update,
)
from drover.core.track.groups import assign_greedy, margins
from drover.core.track.joining import join_broken
from drover.core.track.measuring import measure, pace_of
from drover.core.track.pace import USUAL
from drover.core.track.sharing import fit_boxes, pixel_table
from drover.core.track.smoothing import smooth_line
from drover.core.track.turning import _move, new_modes, stay_over
from drover.core.track.whole_clip import begin, link_detections
from drover.core.types import Detections, Tracks, TrackState

RATE = 25.0


def boxes(*feet: tuple[float, float], size: float = 20.0) -> np.ndarray:
    return np.array([[x - size / 2, y - size, x + size / 2, y] for x, y in feet], np.float32).reshape(-1, 4)


def link(frames: list[np.ndarray], settings: TrackSettings | None = None, times=None, size=(640, 480)) -> Tracks:
    """Tracks of hand-made boxes, a list of (n, 4) arrays a frame."""
    count = len(frames)
    frame = np.repeat(np.arange(count), [len(rows) for rows in frames])
    box = np.concatenate([np.zeros((0, 4), np.float32), *frames])
    found = Detections.from_boxes(frame, box, np.ones(len(box), np.float32), frame_count=count, size=size)
    when = np.arange(count) / RATE if times is None else np.asarray(times, float)
    return link_detections(found, when, RATE, settings or TrackSettings())


def matrices(model: str, t: float, q: float):
    """Transition of one coordinate as the exponential of its rate, and its noise by Van Loan's block matrix (1978)."""
    if model == "steady":
        rate = np.array([[0, 1], [0, 0.0]])
    else:
        rate = np.array([[0, 1, 0], [0, 0, 1], [0, 0, -1 / PUSH_LASTS]])
    n = len(rate)
    white = np.zeros((n, n))
    white[-1, -1] = q * q
    block = expm(np.block([[-rate, white], [np.zeros((n, n)), rate.T]]) * t)
    f = block[n:, n:].T
    return f, f @ block[:n, n:]


@pytest.mark.parametrize("model", ["steady", "pushed"])
def test_the_filter_equals_the_textbook_kalman_filter(model):
    """Twin: full matrices for centre x."""
    rng = np.random.default_rng(2)
    jumpiness, noise, n = 0.7, 3.0, 2 if model == "steady" else 3
    mean, cov = new_filters(np.array([[50.0, 60.0, 20.0, 20.0]]), noise)
    x, p = np.array([50.0, 0.0, 0.0])[:n], np.diag([noise**2, cov[0, 2], cov[0, 5]])[:n, :n]
    h = np.eye(1, n)
    for k in range(40):
        t, z = (1.0, 2.0, 0.5)[k % 3], 50 + rng.normal(0, 5)
        predict(mean, cov, 1, t, jumpiness, 0.2, 0.0, model == "pushed", np.zeros(1, np.bool_), 0.0)
        f, q = matrices(model, t, jumpiness)
        x, p = f @ x, f @ p @ f.T + q
        gain = p @ h.T / (h @ p @ h.T + noise**2)
        nis = (z - x[0]) ** 2 / (p[0, 0] + noise**2)
        x, p = x + gain[:, 0] * (z - x[0]), (np.eye(n) - gain @ h) @ p
        told = update(mean, cov, 0, np.array([z, 60.0, 20.0, 20.0]), np.array([noise, np.inf, np.inf, np.inf]))
        assert mean[0, [0, 4, 6][:n]] == pytest.approx(x)
        assert cov[0, [0, 2]] == pytest.approx([p[0, 0], p[1, 1]])
        assert told == pytest.approx(nis)


@given(
    st.lists(st.floats(0.05, 8.0), min_size=2, max_size=6), st.sampled_from(["steady", "pushed", "turning"]),
    st.booleans(),
)  # fmt: skip
def test_a_time_foretold_at_once_or_in_pieces_is_the_same(pieces, model, fades):
    """What is unsure after a second must not depend on the frame rate: mean, covariance and chances compose."""
    made = []
    for steps in (pieces, [sum(pieces)]):
        mean, cov = new_filters(np.array([[50.0, 60.0, 30.0, 20.0]]), 2.0)
        mean[0, 4:] = 3.0, -2.0, 0.2, 0.1
        mode = new_modes(cov)
        mode[0, ::21] = 0.0, 1.0, 0.0  # one model alone: mixing in between is an approximation of its own
        for t in steps:
            fading = np.full(1, fades)
            if model == "turning":
                _move_alone(mean, cov, mode, t, 25.0 if fades else 0.0)
            else:
                predict(mean, cov, 1, t, 0.7, 0.4, 0.5, model == "pushed", fading, 25.0)
        made.append((mean.copy(), cov.copy()))
    assert made[0][0] == pytest.approx(made[1][0], rel=1e-6, abs=1e-6)
    assert made[0][1] == pytest.approx(made[1][1], rel=1e-5, abs=1e-6)


def _move_alone(mean, cov, mode, t, fade):
    """One turning model moved on by itself, its result put where the plain filters have theirs."""
    state, matrix = mean[0, [0, 1, 4, 5]].copy(), mode[0, 26:42].reshape(4, 4)
    _move(state, matrix, t, 0.1, fade, 0.5)
    mean[0, [0, 1, 4, 5]] = state
    cov[0, [0, 1, 2, 14]] = matrix[0, 0], matrix[0, 2], matrix[2, 2], matrix[0, 3]


@given(st.lists(st.floats(0.01, 40.0), min_size=2, max_size=5))
def test_the_chance_to_go_on_as_before_composes_over_time(pieces):
    def chain(t):
        stay = stay_over(t)
        out = np.full((3, 3), (1 - stay) / 2)
        np.fill_diagonal(out, stay)
        return out

    assert np.linalg.multi_dot([chain(t) for t in pieces]) == pytest.approx(chain(sum(pieces)))


def test_steady_motion_is_learnt_and_forecast():
    mean, cov = new_filters(np.array([[0.0, 0.0, 30.0, 20.0]]), 2.0)
    for k in range(1, 60):
        predict(mean, cov, 1, 1.0, 0.1, 0.1, 0.0, False, np.zeros(1, np.bool_), 0.0)
        update(mean, cov, 0, np.array([3.0 * k, -1.0 * k, 30.0, 20.0]), np.full(4, 2.0))
    predict(mean, cov, 1, 10.0, 0.1, 0.1, 0.0, False, np.zeros(1, np.bool_), 0.0)
    assert mean[0, :2] == pytest.approx([3 * 69, -69], abs=0.5)
    assert forecast_boxes(mean)[0] == pytest.approx([3 * 69 - 15, -79, 3 * 69 + 15, -59], abs=0.6)


def test_an_unseen_animal_slows_down_in_the_time_given():
    mean, cov = new_filters(np.array([[0.0, 0.0, 30.0, 20.0]]), 2.0)
    mean[0, 4] = 5.0
    for _ in range(50):
        predict(mean, cov, 1, 1.0, 0.1, 0.1, 0.0, False, np.ones(1, np.bool_), 25.0)
    assert mean[0, 4] == pytest.approx(5 * np.exp(-2))
    assert mean[0, 0] == pytest.approx(5 * 25 * (1 - np.exp(-2)))  # the integral of a speed that dies away


@pytest.mark.parametrize("pushed", [False, True])
def test_covariances_stay_positive_over_a_million_steps(pushed):
    mean, cov = new_filters(np.array([[0.0, 0.0, 1.0, 1.0]]), 1e-1)
    run_many(mean, cov, pushed, 1_000_000)
    assert np.isfinite(cov).all() and np.isfinite(mean).all()
    for c in (0, 6):
        p, pv, vv, pa, va, aa = cov[0, c : c + 6]
        assert np.linalg.eigvalsh(np.array([[p, pv, pa], [pv, vv, va], [pa, va, aa]])).min() >= -1e-9 * max(p, vv, aa)


@njit
def run_many(mean, cov, pushed, steps):  # pragma: no cover
    z, r, none = np.array([0.0, 0.0, 1.0, 1.0]), np.full(4, 0.1), np.zeros(1, np.bool_)
    for _ in range(steps):
        predict(mean, cov, 1, 1.0, 50.0, 50.0, 0.0, pushed, none, 0.0)
        update(mean, cov, 0, z, r)


def measured(box, *, mean=(100.0, 50.0, 40.0, 20.0), doubt=1.5):
    state, usual = np.zeros((1, 8)), np.array([[mean[2], mean[3]]])
    state[0, :4] = mean
    z, spread = np.empty(4), np.empty(4)
    measure(
        state,
        usual,
        0,
        np.array([box], np.float32),
        0,
        2.0,
        doubt,
        0.0,
        (0.0, 0.0, 640.0, 480.0),
        pace_of(1.0),
        z,
        spread,
    )
    return z, spread


def test_an_animal_going_behind_something_is_followed_by_the_side_that_still_moves():
    # Expected 80..120; the right side has stopped at 108, the left is where it should be.
    z, spread = measured([80, 40, 108, 60])
    assert z[0] == pytest.approx(100.0)  # left side plus half the known width
    assert spread[2] > 5 * spread[3]  # its width is not believed to shrink, its height is measured as ever
    plain, even = measured([80, 40, 108, 60], doubt=0.0)
    assert plain[0] == pytest.approx(94.0)
    assert even.tolist() == [2.0] * 4


def test_at_the_edge_of_the_picture_the_inner_side_tells_where_an_animal_is():
    z, _ = measured([0, 40, 25, 60], mean=(12.0, 50.0, 40.0, 20.0))
    assert z[0] == pytest.approx(5.0)  # 25 less half of the known 40: it is on its way out
    coming, spread = measured([0, 40, 30, 60], mean=(10.0, 50.0, 20.0, 20.0))
    assert coming[0] == pytest.approx(15.0) and spread[2] < 2.0  # coming in: it is as large as it looks


def pair(mean, box, *, last=None, gate=4.0, generalised=False):
    state, cov = np.zeros((1, 8)), np.zeros((1, COVARIANCES))
    state[0, : len(mean)] = mean
    cov[0, 0] = cov[0, 6] = 16.0
    out, look = np.empty(len(TERMS)), np.zeros((0, 32), np.float32)
    seen = np.array([last or [*mean[:2], 0.0, 0.0]])
    far = pair_terms(
        state, cov, seen, 0, forecast_boxes(state), fixed(np.array([box], np.float32)), 0, 10.0, 3.0,
        gate, generalised, look, look, out,
    )  # fmt: skip
    return far, dict(zip(TERMS, out.tolist(), strict=True))


def test_every_term_of_a_pair_by_hand():
    far, terms = pair((10.0, 10.0, 4.0, 4.0), [11, 12, 15, 16])
    assert far == pytest.approx(1.0)  # 3, 4 px off, standard deviation 5
    assert terms["distance"] == pytest.approx(0.25)
    assert terms["overlap"] == pytest.approx(1.0)
    assert terms["size"] == 0.0
    _, half = pair((10.0, 10.0, 4.0, 4.0), [10, 8, 14, 12])
    assert half["overlap"] == pytest.approx(1 - 8 / 24)
    # Apart by 4 px: the box around both is 12 x 4, 16 of its 48 px are empty.
    _, apart = pair((10.0, 10.0, 4.0, 4.0), [16, 8, 20, 12], generalised=True)
    assert apart["overlap"] == pytest.approx(1 - 0.5 * (1 - 16 / 48))
    _, back = pair((10.0, 10.0, 4.0, 4.0), [-2, 8, 2, 12], last=[10.0, 10.0, 5.0, 0.0])
    assert back["direction"] == pytest.approx(1.0)
    _, grown = pair((10.0, 10.0, 4.0, 4.0), [6, 8, 14, 12])
    assert grown["size"] == pytest.approx(1 - np.exp(-1.5 * np.log(2)))


def solved(cost: np.ndarray, *, greedy: bool = False) -> np.ndarray:
    """Match of each row; infinite costs are beyond the gate."""
    track, detection = (np.ascontiguousarray(place) for place in np.nonzero(np.isfinite(cost)))
    match = np.full(cost.shape[0], -1)
    use = np.ones(len(track), np.bool_)
    values = np.ascontiguousarray(cost[track, detection])
    if greedy:
        assign_greedy(track, detection, values, use, cost.shape[1], match)
    else:
        match_pairs(track, detection, values, use, *cost.shape, match)
    return match


@given(st.integers(0, 5), st.integers(0, 5), st.integers(0, 10_000))
def test_the_assignment_is_the_best_of_all(rows, columns, seed):
    """Twin: every way of pairing or leaving alone, tried out."""
    cost = np.random.default_rng(seed).uniform(0, 1, (rows, columns))
    cost[cost > 0.6] = np.inf

    def best(row: int, taken: frozenset) -> float:
        if row == rows:
            return 0.0
        ways = [NOBODY + best(row + 1, taken)]
        for column in range(columns):
            if column not in taken and np.isfinite(cost[row, column]):
                ways.append(cost[row, column] + best(row + 1, taken | {column}))
        return min(ways)

    match = solved(cost)
    total = sum(NOBODY if j < 0 else cost[i, j] for i, j in enumerate(match))
    assert total == pytest.approx(best(0, frozenset()))
    used = match[match >= 0]
    assert len(set(used.tolist())) == len(used)


def test_the_greedy_way_takes_the_best_pair_and_pays_for_it():
    cost = np.array([[0.1, 0.2], [0.2, 0.9]])
    assert solved(cost).tolist() == [1, 0]
    assert solved(cost, greedy=True).tolist() == [0, 1]


def test_a_margin_is_what_the_runner_up_would_cost_more():
    cost = np.array([[0.1, 0.4, np.inf], [np.inf, 0.2, 0.9]])
    track, detection = (np.ascontiguousarray(place) for place in np.nonzero(np.isfinite(cost)))
    match = solved(cost)
    room = margins(track, detection, np.ascontiguousarray(cost[track, detection]), match, 3)
    assert match.tolist() == [0, 1]
    # Track 0 could have had detection 1 for 0.3 more; track 1 loses detection 1 to track 0 for 0.2 more.
    assert room == pytest.approx([0.3, 0.2])


def test_a_blob_of_two_is_cut_where_the_two_are():
    """Two boxes 40 x 20 and 20 x 30 overlap in one blob; sizes are known, places are 5 px off."""
    mask = np.zeros((60, 100), np.bool_)
    mask[10:30, 10:50] = True
    mask[15:45, 44:64] = True
    runs = np.array(
        [[y, np.flatnonzero(row)[0], np.flatnonzero(row)[-1] + 1] for y, row in enumerate(mask) if row.any()]
    )
    table, x0, y0 = pixel_table(runs.astype(np.int16), np.array([10, 10, 64, 45], np.float32))
    assert table[-1, -1] == mask.sum() and (x0, y0) == (10, 10)
    expected = np.array([[25.0, 13.0], [39.0, 24.0]])  # from the corner; truly 20, 10 and 44, 20
    at, firmness = fit_boxes(table, expected, np.array([[40.0, 20.0], [20.0, 30.0]]), np.full((2, 2), 6.0))
    assert at[0] == pytest.approx([20, 10], abs=1.6)
    assert at[1] == pytest.approx([44, 20], abs=1.6)
    assert firmness.min() > 0.2


def test_one_wholly_hidden_in_a_blob_is_not_measured():
    filled = np.zeros((0, 3), np.int16)
    table, _, _ = pixel_table(filled, np.array([0, 0, 60, 40], np.float32))
    at, firmness = fit_boxes(
        table, np.array([[30.0, 20.0], [33.0, 22.0]]), np.array([[60.0, 40.0], [20.0, 16.0]]), np.full((2, 2), 5.0)
    )
    assert at[0] == pytest.approx([30, 20], abs=0.8)
    assert firmness[0].min() > 0.5
    assert firmness[1].max() < 0.06
    assert at[1] == pytest.approx([33, 22], abs=0.8)  # stays where it was expected


def test_two_that_melt_into_one_blob_come_out_with_their_own_numbers():
    """Equal boxes meet at one height, are one blob for 14 frames, and go on."""
    frames = []
    for k in range(80):
        left, right = 100 + 3 * k, 340 - 3 * k
        if abs(right - left) < 22:
            frames.append(np.array([[min(left, right), 180, max(left, right) + 20, 200]], np.float32))
        else:
            frames.append(np.array([[x, 180, x + 20, 200] for x in (left, right)], np.float32))
    tracks = link(frames)
    assert tracks.paths.identity.tolist() == [1, 2]
    for identity, sign in ((1, 1), (2, -1)):
        path = tracks.path_of(identity)
        assert len(path) == 80
        assert np.all(np.sign(np.diff(tracks.box[path, 0])[8:]) == sign)
    together = tracks.detection[tracks.rows_of(39)]
    assert together[0] == together[1] >= 0  # both are traced to the blob they share


def test_a_break_behind_a_tree_is_joined_and_drawn_straight():
    settings = TrackSettings(life=TrackSettings().life.model_copy(update={"longest_gap": 0.5, "return_within": 0.0}))
    way = [boxes((100 + 4 * k, 200)) for k in range(100)]
    frames = [boxes() if 30 <= k < 70 else rows for k, rows in enumerate(way)]
    assert link(frames, settings).paths.identity.tolist() == [1]
    apart = settings.model_copy(update={"after": settings.after.model_copy(update={"join": False})})
    assert link(frames, apart).paths.identity.tolist() == [1, 2]
    short = link(frames, settings)
    assert short.frame.tolist() == [*range(30), *range(70, 100)], "so long a break is not drawn"
    joined = link(
        frames, settings.model_copy(update={"after": settings.after.model_copy(update={"draw_within": 60.0})})
    )
    middle = (joined.box[:, 0] + joined.box[:, 2]) / 2
    assert np.abs(middle[30:70] - (100 + 4 * np.arange(30, 70))).max() < 3
    assert joined.state[30:70].tolist() == [TrackState.COASTING] * 40


@pytest.mark.parametrize(("early", "one"), [(3, True), (5, True), (8, False)])
def test_an_end_goes_on_as_what_began_just_before_it(early, one):
    """One stood there and left; for a last moment something else at that place was taken for it."""
    stood = [(k, 1, (100.0, 150.0, 130.0, 220.0)) for k in range(100)]
    left = [
        (k, 2, (x, 150.0, x + 30.0, 220.0)) for k in range(100 - early, 160) for x in [104.0 + 3 * (k - 100 + early)]
    ]
    rows = sorted(stood + left)
    tracks = join_broken(tracks_of(rows, 160, size=(640, 360)), np.arange(160) / 25, TrackSettings())
    assert tracks.paths.identity.tolist() == ([1] if one else [1, 2])
    if one:
        assert tracks.frame.tolist() == list(range(160)), "one box a picture"
        assert tracks.box[100 - early].tolist() == list(left[0][2])


def test_what_goes_out_at_the_edge_is_not_joined_to_what_comes_in():
    settings = TrackSettings(life=TrackSettings().life.model_copy(update={"longest_gap": 0.2}))
    frames = [boxes((560 + 3 * k, 200)) for k in range(26)] + [boxes()] * 10 + [boxes((636, 206))] * 12
    assert len(link(frames, settings).paths.identity) == 2


def test_smoothing_gives_the_least_squares_line_of_steady_motion():
    """With hardly any process noise the smoother is the straight line of least squares (Rauch et al. 1965)."""
    rng = np.random.default_rng(5)
    at = np.cumsum(rng.uniform(0.5, 2.0, 60))
    z = 30 + 2.5 * at + rng.normal(0, 3.0, 60)
    line = np.polyval(np.polyfit(at, z, 1), at)
    assert smooth_line(at, z, np.ones(60, np.bool_), 1e-6, 3.0, 10.0) == pytest.approx(line, abs=0.25)


def test_smoothing_goes_over_the_detections_and_not_over_what_was_filtered_before():
    """Twin: the exact posterior of all positions by one least-squares solution with the filter's own noises."""
    rng = np.random.default_rng(8)
    middle = 100 + np.cumsum(rng.normal(2.0, 0.3, 40))
    seen = (middle + rng.normal(0, 2.0, 40)).tolist()
    after = AfterSettings(join=False, smooth=True)
    motion = TrackSettings().motion.model_copy(update={"size_scaling": 0.0, "jumpiness": 0.5, "box_noise": 2.0})
    tracks = link([boxes((x, 200)) for x in seen], TrackSettings(after=after, motion=motion))
    found = (tracks.box[:, 0] + tracks.box[:, 2]) / 2
    # Positions and speeds, 80 numbers: rows of the design are steps (whitened by their noise) and measurements.
    step, noise = np.array([[1, 1], [0, 1.0]]), 0.25 * np.array([[1 / 3, 1 / 2], [1 / 2, 1.0]])
    white = np.linalg.inv(np.linalg.cholesky(noise))
    rows, sides = [np.eye(1, 80, 1) / 4.0], [np.zeros(1)]
    for k in range(39):
        part = np.zeros((2, 80))
        part[:, 2 * k : 2 * k + 2], part[:, 2 * k + 2 : 2 * k + 4] = -white @ step, white
        rows.append(part)
        sides.append(np.zeros(2))
    for k in range(40):
        rows.append(np.eye(1, 80, 2 * k) / 2.0)
        sides.append(np.array([seen[k] / 2.0]))
    best = np.linalg.lstsq(np.vstack(rows), np.concatenate(sides), rcond=None)[0][::2]
    assert found == pytest.approx(best, abs=0.05)


@pytest.mark.parametrize("step", [0.0, 0.5], ids=["apart", "draws"])
@pytest.mark.parametrize(("rows", "columns", "pairs"), [(12, 9, 40), (60, 70, 300), (90, 30, 900), (200, 200, 500)])
def test_pairs_however_many_are_matched_at_least_cost(rows, columns, pairs, step):
    """Twin: SciPy's solver over the whole table, with a column of its own for every row that stays alone."""
    from scipy.optimize import linear_sum_assignment

    rng = np.random.default_rng(rows)
    track, detection = np.unravel_index(rng.choice(rows * columns, pairs, replace=False), (rows, columns))
    cost = rng.uniform(-0.3, 2.4, pairs)
    if step:
        cost = np.round(cost / step) * step
    match = np.full(rows, -1, np.int64)
    track, detection = np.ascontiguousarray(track), np.ascontiguousarray(detection)
    match_pairs(track, detection, cost, np.ones(pairs, np.bool_), rows, columns, match)
    table = np.full((rows, columns + rows), 1e6)
    table[track, detection] = cost
    table[np.arange(rows), columns + np.arange(rows)] = NOBODY
    best = table[linear_sum_assignment(table)].sum()
    chosen = match[match >= 0]
    assert len(np.unique(chosen)) == len(chosen)
    of = {(int(t), int(d)): float(c) for t, d, c in zip(track, detection, cost, strict=True)}
    mine = sum(of[(t, int(d))] if d >= 0 else NOBODY for t, d in enumerate(match))
    assert mine == pytest.approx(best)


def test_flicker_costs_near_linear_time_and_joins_are_searched_in_bounds():
    """Twice the clutter must not cost more than about twice the pairs that are weighed."""
    from drover.core.simulate.boxes import flickering
    from drover.core.track.join_costs import MOST_STARTS, Ends, find_joins

    rng = np.random.default_rng(3)
    n = 3000
    time, centre = np.sort(rng.uniform(0, 30, n)), rng.uniform(0, 1000, (n, 2))
    speed, size, none = rng.normal(0, 30, (n, 2)), rng.uniform(15, 40, (n, 2)), np.zeros(n, np.bool_)
    end, start, cost = find_joins(
        Ends(time, centre, speed, size, none),
        Ends(time + 0.1, centre, speed, size, none),
        np.full(n, -1, np.int64),
        4.0,
        0,
        n,
    )
    assert np.bincount(end).max() <= MOST_STARTS
    assert np.isfinite(cost).all() and (time[start] + 0.1 > time[end]).all()
    found = flickering(60, 200)
    assert 150 < len(found) / 60 < 250
    tracks = link_detections(found, np.arange(60) / RATE, RATE, TrackSettings())
    assert len(tracks.paths.identity) < 0.1 * len(found)


def test_one_animal_keeps_one_identity_through_a_gap_and_coasts_along_its_way():
    way = [boxes((40 + 4 * k, 200)) for k in range(80)]
    frames = [boxes() if 30 <= k < 50 else rows for k, rows in enumerate(way)]
    tracks = link(frames)
    assert tracks.paths.identity.tolist() == [1]
    assert len(tracks) == 80
    assert tracks.state[30:50].tolist() == [TrackState.COASTING] * 20
    assert tracks.detection[30:50].tolist() == [-1] * 20
    middle = (tracks.box[:, 0] + tracks.box[:, 2]) / 2
    assert np.abs(middle[20:] - (40 + 4 * np.arange(20, 80))).max() < 4
    assert gaps_of(tracks).tolist() == [[1, 30, 20]]
    assert gap_lengths(tracks, np.arange(80) / RATE) == pytest.approx([21 / RATE])


def test_a_gap_longer_than_allowed_ends_the_identity_where_it_was_last_seen():
    frames = [boxes((100 + k, 200)) if k < 30 or k >= 150 else boxes() for k in range(180)]
    life = TrackSettings().life.model_copy(update={"return_within": 0.0})
    tracks = link(frames, TrackSettings(life=life))
    assert tracks.paths.identity.tolist() == [1, 2]
    assert tracks.frame[tracks.path_of(1)].max() == 29


def test_two_that_cross_at_different_depths_keep_their_identities():
    frames = [boxes((100 + 5 * k, 150), (500 - 5 * k, 240)) for k in range(80)]
    tracks = link(frames)
    assert tracks.paths.identity.tolist() == [1, 2]
    for identity, sign in ((1, 1), (2, -1)):
        path = tracks.path_of(identity)
        assert np.all(np.sign(np.diff(tracks.box[path, 0])[5:]) == sign)


def test_what_flickers_is_never_believed():
    frames = [boxes((100, 100)) if k % 3 == 0 else boxes() for k in range(90)]
    assert len(link(frames)) == 0


def test_rows_from_before_belief_are_kept_as_tentative():
    tracks = link([boxes((100 + k, 100)) for k in range(20)])
    needed = USUAL.hits_to_confirm
    assert tracks.state.tolist() == [TrackState.TENTATIVE] * (needed - 1) + [TrackState.CONFIRMED] * (21 - needed)


def test_speed_is_per_second_so_dropped_frames_change_nothing():
    """An animal at 100 px/s, every third frame dropped: times tell, and the forecast stays on it."""
    kept = [k for k in range(120) if k % 3]
    tracks = link([boxes((20 + 4 * k, 200)) for k in kept], times=[k / RATE for k in kept])
    assert tracks.paths.identity.tolist() == [1]
    middle = (tracks.box[:, 0] + tracks.box[:, 2]) / 2
    assert np.abs(middle - (20 + 4 * np.array(kept)))[10:].max() < 2


hostile_boxes = st.lists(
    st.lists(
        st.tuples(
            st.floats(-50, 700, width=32), st.floats(-50, 700, width=32), st.sampled_from([0.0, 5.0, 5.0, 300.0])
        ),
        max_size=8,
    ),
    max_size=25,
)


@given(hostile_boxes)
def test_any_boxes_give_a_sound_table(frames):
    rows = [np.array([[x, y, x + s, y + s] for x, y, s in part], np.float32).reshape(-1, 4) for part in frames]
    tracks = link(rows)
    assert np.isfinite(tracks.box).all()
    pairs = list(zip(tracks.frame.tolist(), tracks.identity.tolist(), strict=True))
    assert pairs == sorted(set(pairs))
    for identity in tracks.paths.identity.tolist():
        path = tracks.path_of(identity)
        assert np.diff(tracks.frame[path]).tolist() == [1] * (len(path) - 1)
        assert tracks.state[path[-1]] != TrackState.COASTING


def test_a_thousand_boxes_on_one_spot_do_not_hang():
    tracks = link([boxes(*[(100, 100)] * 400) for _ in range(10)])
    assert len(tracks.paths.identity) <= 400


def test_linking_twice_gives_the_same_bytes(short_run):
    again = link_detections(
        short_run.detect.detections, short_run.clip.times, short_run.clip.rate, short_run.recipe.track
    )
    assert again.box.tobytes() == short_run.tracks.box.tobytes()
    assert again.identity.tobytes() == short_run.tracks.identity.tobytes()


def test_centre_and_size_of_a_box():
    assert centre_and_size(np.array([[2, 4, 8, 20]], np.float32)).tolist() == [[5, 12, 6, 16]]


def test_fifty_with_noise_misses_and_weak_false_alarms_keep_their_identities():
    found, truth = simulate_boxes(50, 300, missed=0.05, false_alarms=0.05, weak=0.05)
    tracks = link_detections(found, np.arange(300) / RATE, RATE, TrackSettings())
    score = score_result(tracks, truth, ScoreSettings())
    assert score.identity.idf1 > 0.97
    assert len(tracks.paths.identity) <= 55
    weak = found.confidence[tracks.detection[tracks.detection >= 0]] < 0.4
    assert 0.02 < weak.mean() < 0.08  # weak boxes continue tracks; weak false alarms start none


def test_five_pictures_a_second_are_enough():
    """Animals that move by more than their own size from one picture to the next."""
    settings = TrackSettings(match=TrackSettings().match.model_copy(update={"overlap": "generalised"}))
    frames = [boxes((30 + 24 * k, 120), (610 - 24 * k, 300)) for k in range(24)]
    tracks = link(frames, settings, times=np.arange(24) / 5.0)
    assert tracks.paths.identity.tolist() == [1, 2]
    assert len(tracks) == 48


def test_a_tracker_that_forgets_its_rows_goes_on_all_the_same(monkeypatch):
    monkeypatch.setattr(row_module, "MOST_IDENTITIES", 30)
    found, _ = simulate_boxes(25, 700, missed=0.3)
    settings = with_value(with_value(Recipe(), "track.life.longest_gap", 0.1), "track.life.return_within", 0.3).track
    times = np.arange(700) / RATE
    (whole, boxes_of), (live, _) = (begin(found, times, RATE, settings) for _ in range(2))
    for frame, now in enumerate(times.tolist()):
        whole.step(now, boxes_of(frame))
        live.step(now, boxes_of(frame))
        for one, other in zip(whole.now(), live.now(), strict=True):
            assert np.array_equal(one, other)
        live.forget()
        assert len(live._rows._identity) <= 31
        assert live._rows.count == 0
    assert len(whole._rows._identity) > 60
    assert len(live._rows.columns["number"]) == 1024
