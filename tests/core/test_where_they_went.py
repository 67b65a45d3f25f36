"""Places, ways and speeds against twins that take one step after the other; the ground's measure by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import tracks_of, walk_rows
from hypothesis import given
from hypothesis import strategies as st

from drover.core.count.ground import Ground, ground_of, path_lengths, speeds
from drover.core.count.paths import path_for, prepare_paths, references_of
from drover.core.count.presence import flow_map, presence_map
from drover.core.recipe import CountSettings, GroundSettings, LineSettings, ZoneSettings
from drover.core.settings.count import REFERENCES

YARD = ((0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0))
walk = st.lists(st.tuples(st.integers(0, 100), st.integers(0, 60)), min_size=2, max_size=25)
WIDTH, HEIGHT = 100, 60


def walked(seed: int, *paths) -> tuple:
    """Tracks of some walks, with holes, at uneven times of which one is longer than a second."""
    rng = np.random.default_rng(seed)
    frames = max(map(len, paths))
    rows = [row for who, path in enumerate(paths, 1) for row in walk_rows(who, path) if rng.random() < 0.9]
    times = np.cumsum(rng.choice([0.04, 0.1, 0.3], frames) + np.where(np.arange(frames) == 12, 1.5, 0.0))
    return tracks_of(rows, frames, size=(WIDTH, HEIGHT)), times


def steps_of(tracks, times):
    """(identity, foot, movement, seconds) of every two rows of a path that are less than a second apart."""
    for who in np.unique(tracks.identity).tolist():
        rows = tracks.path_of(who).tolist()
        for a, b in zip(rows, rows[1:], strict=False):
            lasted = float(times[tracks.frame[b]] - times[tracks.frame[a]])
            foot, after = (np.array([(box[0] + box[2]) / 2, box[3]], float) for box in (tracks.box[a], tracks.box[b]))
            if lasted < 1.0:
                yield who, foot, after - foot, lasted


def cell_of(foot, cells: int) -> tuple[int, int]:
    size = WIDTH / cells
    tall = int(np.ceil(HEIGHT / size))
    return min(max(int(foot[1] / size), 0), tall - 1), min(max(int(foot[0] / size), 0), cells - 1)


@given(walk, walk, st.integers(0, 1000))
def test_flow_is_the_way_gone_over_the_time_spent_cell_by_cell(one, two, seed):
    tracks, times = walked(seed, one, two)
    way: dict[tuple[int, int], np.ndarray] = {}
    for _, foot, moved, lasted in steps_of(tracks, times):
        cell = cell_of(foot, 24)
        way[cell] = way.get(cell, np.zeros(3)) + np.array([*moved, lasted])
    flow = flow_map(tracks, times)
    size = WIDTH / 24
    told = {
        (round(y / size - 0.5), round(x / size - 0.5)): (dx, dy, seconds)
        for x, y, dx, dy, seconds in zip(flow.x, flow.y, flow.dx, flow.dy, flow.seconds, strict=True)
    }
    sums = {cell: (dx / s, dy / s, s) for cell, (dx, dy, s) in way.items() if s >= 0.4}
    assert set(told) == set(sums) and flow.cell == size
    for cell, values in sums.items():
        assert told[cell] == pytest.approx(values, rel=1e-5, abs=1e-5)


@given(walk, walk, st.integers(0, 1000), st.booleans())
def test_presence_is_the_time_spent_in_each_cell_a_little_blurred(one, two, seed, standing):
    tracks, times = walked(seed, one, two)
    plain = np.zeros((58, 96))
    for who, foot, moved, lasted in steps_of(tracks, times):
        slow = np.hypot(*moved) / lasted < 6.0 * WIDTH / 1280
        if who == 2 and (slow or not standing):
            plain[cell_of(foot, 96)] += lasted
    made = presence_map(tracks, times, identities={2}, standing=standing)
    assert made.shape == plain.shape
    np.testing.assert_allclose(made, blurred(blurred(plain).T).T, atol=1e-9)


def blurred(values: np.ndarray) -> np.ndarray:
    """Down the columns by a bell one cell wide; what would leave at an edge is turned back there."""
    bell = np.exp(-0.5 * np.arange(-4, 5) ** 2)
    wide = np.pad(values, ((4, 4), (0, 0)), mode="symmetric")
    return sum(weight * wide[k : k + len(values)] for k, weight in enumerate(bell / bell.sum()))


@given(walk, st.integers(0, 1000))
def test_a_speed_is_taken_from_a_quarter_of_a_second_before_to_a_quarter_after(path, seed):
    tracks, times = walked(seed, path)
    ground = Ground(np.diag([0.1, 0.2, 1.0]), np.zeros((4, 2)), 0.0, 0.0)  # across 0.1 m a px, along 0.2
    got = speeds(tracks, times, ground)
    if not len(tracks):
        return
    rows = tracks.path_of(1).tolist()
    for row in rows:
        now = times[tracks.frame[row]]
        near = [r for r in rows if abs(times[tracks.frame[r]] - now) <= 0.24 + 1e-9]
        first, last = near[0], near[-1]
        span = times[tracks.frame[last]] - times[tracks.frame[first]]
        if span == 0:
            assert np.isnan(got[row])
            continue
        feet = [np.array([(box[0] + box[2]) / 20, box[3] / 5], float) for box in (tracks.box[first], tracks.box[last])]
        assert got[row] == pytest.approx(np.hypot(*(feet[1] - feet[0])) / span, rel=1e-5, abs=1e-9)


def test_a_way_is_measured_four_times_a_second_and_one_glimpse_has_none():
    """To and fro between two frames is jitter: it adds nothing to the way."""
    ground = Ground(np.eye(3), np.zeros((4, 2)), 0.0, 0.0)
    times = np.arange(49) / 25.0
    straight = tracks_of(walk_rows(1, [(10.0 + k, 30) for k in range(49)]), 49)
    # Marks lie 6 frames apart, so every one of them is on an even frame.
    shaking = tracks_of(walk_rows(1, [(10.0 + k, 30 + 5 * (k % 2)) for k in range(49)]), 49)
    for tracks in (straight, shaking):
        way, mean, _ = path_lengths(tracks, times, ground)[1]
        assert way == pytest.approx(48.0, rel=1e-6) and mean == pytest.approx(25.0, rel=1e-6)
    assert path_lengths(shaking, times, ground)[1][2] >= 25.0
    glimpse = tracks_of(walk_rows(4, [(10.0, 30)]), 1)
    assert path_lengths(glimpse, times, ground) == {4: (0.0, 0.0, 0.0)}


def measured(points=YARD, sides=(12.0, 8.0, 12.0, 8.0), diagonals=(0.0, 0.0)) -> Ground:
    made = ground_of(GroundSettings(points=points, distances=(*sides, *diagonals)), (1200, 800))
    assert made is not None
    return made


@pytest.mark.parametrize("order", [(0, 1, 2, 3), (3, 2, 1, 0), (1, 2, 3, 0)])
def test_the_yard_s_own_sides_come_back_whichever_way_its_corners_are_named(order):
    points = tuple(YARD[k] for k in order)
    sides = tuple(float(np.hypot(12 * (a[0] - b[0]), 8 * (a[1] - b[1])))
                  for a, b in zip(points, (*points[1:], points[0]), strict=True))  # fmt: skip
    diagonal = float(np.hypot(12, 8))
    ground = measured(points, sides, (diagonal, diagonal))
    at = ground.metres(np.array([[0.0, 0.0], [300.0, 400.0], [600.0, 800.0]]))
    assert np.linalg.norm(at[1] - at[0]) == pytest.approx(5.0, rel=1e-4)
    assert np.linalg.norm(at[2] - at[0]) == pytest.approx(10.0, rel=1e-4)
    assert ground.misfit == pytest.approx(0.0, abs=1e-6)
    along, aside = ground.corners[1] - ground.corners[0], ground.corners[3] - ground.corners[0]
    turns = along[0] * aside[1] - along[1] * aside[0]
    assert turns > 0 if order != (3, 2, 1, 0) else turns < 0, "it is seen from above as in the picture"


def test_what_was_not_measured_twice_says_nothing_of_how_badly_it_fits():
    one = measured(diagonals=(float(np.hypot(12, 8)), 0.0))
    assert np.isnan(one.misfit) and np.isnan(one.misfit_px)
    assert ground_of(GroundSettings(), (100, 100)) is None


def test_a_misfit_is_told_in_metres_and_in_pixels():
    """A hundred pixels are a metre: a point that may be off by so many metres is off by a hundred times as many."""
    true = float(np.hypot(12, 8))
    ground = measured(diagonals=(true + 0.3, true + 0.3))
    assert 0.05 < ground.misfit < 0.3
    assert ground.misfit_px == pytest.approx(100 * ground.misfit, rel=0.05)


def test_beyond_the_horizon_nothing_has_a_place():
    """A ground that goes away upwards: what lies above its horizon is sky."""
    ground = Ground(np.array([[1.0, 0, 0], [0, 1.0, 0], [0, 0.01, -1.0]]), np.zeros((4, 2)), 0.0, 0.0)
    at = ground.metres(np.array([[50.0, 200.0], [50.0, 100.0], [50.0, 50.0]]))
    assert at[0] == pytest.approx([50.0, 200.0]) and np.isnan(at[1:]).all()


def test_the_points_that_lines_and_zones_ask_for():
    def asked(*references, inside=()):
        lines = tuple(LineSettings(name=f"L{k}", points=((0, 0), (1, 1)), reference=r)
                      for k, r in enumerate(references))  # fmt: skip
        zones = tuple(ZoneSettings(name=f"Z{k}", points=YARD[:3], inside_by=r) for k, r in enumerate(inside))
        return references_of(CountSettings(line=lines, zone=zones))

    assert asked() == set()
    assert asked("foot", "centre") == {"foot", "centre"}
    assert asked("two") == set(REFERENCES)
    assert asked("foot", inside=("area",)) == {"foot", "centre"}


def test_paths_of_the_scene_are_kept_apart_from_those_of_the_picture():
    tracks = tracks_of(walk_rows(1, [(10 + k, 30) for k in range(10)]), 10)
    known = {}
    plain = path_for(tracks, "foot", known)
    assert path_for(tracks, "foot", known, "scene") is plain, "a camera that stands still has but one scene"
    lying = replace(tracks, scene_box=tracks.box + np.float32(7))
    known = {}
    picture, scene = path_for(lying, "foot", known), path_for(lying, "foot", known, "scene")
    np.testing.assert_allclose(scene.x - picture.x, 7.0)
    assert path_for(lying, "foot", known, "scene") is scene and len(known) == 2
    ready = prepare_paths(tracks, "centre", ready=True)
    assert ready.first.tolist() == [0] * 10
    np.testing.assert_allclose(ready.travel, np.arange(10) / 10.0, rtol=1e-6)
