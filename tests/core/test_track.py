"""The motion filter against the textbook matrices; identities through gaps, crossings and hostile input."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.pipeline import link_detections
from drover.core.recipe import TrackSettings
from drover.core.track.evidence import gap_lengths, gaps_of
from drover.core.track.matching import REFUSED, assign, match_costs, match_distances
from drover.core.track.motion import centre_and_size, forecast_boxes, new_filters, predict, update
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


def test_the_filter_equals_the_textbook_kalman_filter():
    """Twin: full matrices for centre x, position and velocity (Bar-Shalom et al., 5.2.3)."""
    rng = np.random.default_rng(2)
    jumpiness, noise = 0.7, 3.0
    mean, cov = new_filters(np.array([[50.0, 60.0, 20.0, 20.0]]), noise)
    x, p = np.array([50.0, 0.0]), np.diag([noise**2, cov[0, 2]])
    f, h = np.array([[1.0, 1.0], [0.0, 1.0]]), np.array([[1.0, 0.0]])
    q = jumpiness**2 * np.array([[0.25, 0.5], [0.5, 1.0]])
    for _ in range(40):
        z = 50 + rng.normal(0, 5)
        predict(mean, cov, 1.0, jumpiness, 0.2)
        x, p = f @ x, f @ p @ f.T + q
        gain = p @ h.T / (h @ p @ h.T + noise**2)
        x, p = x + gain[:, 0] * (z - x[0]), (np.eye(2) - gain @ h) @ p
        update(mean, cov, np.array([0]), np.array([[z, 60.0, 20.0, 20.0]]), noise, 0.0)
        assert [mean[0, 0], mean[0, 4]] == pytest.approx(x)
        assert cov[0, :3] == pytest.approx([p[0, 0], p[0, 1], p[1, 1]])


def test_steady_motion_is_learnt_and_forecast():
    mean, cov = new_filters(np.array([[0.0, 0.0, 30.0, 20.0]]), 2.0)
    for k in range(1, 60):
        predict(mean, cov, 1.0, 0.1, 0.1)
        update(mean, cov, np.array([0]), np.array([[3.0 * k, -1.0 * k, 30.0, 20.0]]), 2.0, 0.0)
    predict(mean, cov, 10.0, 0.1, 0.1)
    assert mean[0, :2] == pytest.approx([3 * 69, -69], abs=0.5)
    assert forecast_boxes(mean)[0] == pytest.approx([3 * 69 - 15, -79, 3 * 69 + 15, -59], abs=0.6)


def test_covariances_stay_positive_over_many_steps():
    mean, cov = new_filters(np.array([[0.0, 0.0, 1.0, 1.0]]), 1e-1)
    row, z = np.array([0]), np.array([[0.0, 0.0, 1.0, 1.0]])
    for _ in range(20_000):
        predict(mean, cov, 1.0, 50.0, 50.0)
        update(mean, cov, row, z, 1e-1, 0.0)
    assert np.isfinite(cov).all()
    for c in (0, 3):
        assert cov[0, c] > 0
        assert cov[0, c] * cov[0, c + 2] >= cov[0, c + 1] ** 2


def test_a_box_that_doubles_its_size_moves_the_track_less():
    def moved(doubt: float) -> float:
        mean, cov = new_filters(np.array([[100.0, 50.0, 30.0, 20.0]]), 3.0)
        update(mean, cov, np.array([0]), np.array([[115.0, 50.0, 60.0, 20.0]]), 3.0, doubt)
        return float(mean[0, 0] - 100)

    assert moved(0.0) == pytest.approx(7.5)  # equal variances: half way
    # log 2 less the slack of 0.2 is 0.493; noise 3 * (1 + 5 * 0.493) = 10.4; gain 9 / (9 + 108).
    assert moved(5.0) == pytest.approx(15 * 9 / (9 + (3 * (1 + 5 * (np.log(2) - 0.2))) ** 2))


def test_distance_cost_and_gate_by_hand():
    mean, cov = new_filters(np.array([[10.0, 10.0, 4.0, 4.0]]), 3.0)
    cov[0, 0] = cov[0, 3] = 16.0
    distance = match_distances(mean, cov, np.array([[13.0, 14.0, 4.0, 4.0], [60.0, 10.0, 4.0, 4.0]]), 3.0)
    assert distance[0] == pytest.approx([1.0, 10.0])  # sqrt(25 / 25), 50 / 5
    cost = match_costs(distance, np.array([[0.6, 0.0]]), np.array([0.5]), gate=4.0, overlap_weight=0.5)
    assert cost[0] == pytest.approx([0.5 * 0.25 + 0.5 * 0.4 + 0.15, REFUSED])


@given(st.integers(0, 5), st.integers(0, 5), st.integers(0, 10_000))
def test_assignment_is_the_best_of_all(rows, columns, seed):
    """Twin: every way of pairing, tried out; refused pairs cost a fixed large amount."""
    from itertools import permutations

    cost = np.random.default_rng(seed).uniform(0, 1, (rows, columns))
    cost[cost > 0.7] = REFUSED
    r, c = assign(cost)
    total = cost[r, c].sum() + REFUSED * (min(rows, columns) - len(r))
    wide = cost if rows <= columns else cost.T
    best = min(
        (sum(wide[k, j] for k, j in enumerate(p)) for p in permutations(range(wide.shape[1]), wide.shape[0])),
        default=0.0,
    )
    assert total == pytest.approx(best)
    assert len(set(r)) == len(r)
    assert len(set(c)) == len(c)


def test_one_animal_keeps_one_identity_through_a_gap_and_coasts_along_its_way():
    way = [boxes((40 + 4 * k, 200)) for k in range(80)]
    frames = [boxes() if 30 <= k < 50 else rows for k, rows in enumerate(way)]
    tracks = link(frames)
    assert tracks.paths.identity.tolist() == [1]
    assert len(tracks) == 80
    assert tracks.state[30:50].tolist() == [TrackState.COASTING] * 20
    assert tracks.detection[30:50].tolist() == [-1] * 20
    middle = (tracks.box[:, 0] + tracks.box[:, 2]) / 2
    assert np.abs(middle[20:] - (40 + 4 * np.arange(20, 80))).max() < 3
    assert gaps_of(tracks).tolist() == [[1, 30, 20]]
    assert gap_lengths(tracks, np.arange(80) / RATE) == pytest.approx([21 / RATE])


def test_a_gap_longer_than_allowed_ends_the_identity_where_it_was_last_seen():
    frames = [boxes((100 + k, 200)) if k < 30 or k >= 90 else boxes() for k in range(120)]
    tracks = link(frames)
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
    needed = TrackSettings().life.hits_to_confirm
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
    used = tracks.detection[tracks.detection >= 0]
    assert len(np.unique(used)) == len(used)
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
