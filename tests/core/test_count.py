"""Crossings worked by hand, and what must hold for any path and any line."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
from builders import crossings_of, tracks_of, walk_rows
from hypothesis import assume, given
from hypothesis import strategies as st

from drover.core.count.lines import count_crossings
from drover.core.count.live import LiveCount, LiveRows
from drover.core.count.tallies import tally, tally_rows
from drover.core.count.whole_clip import count_all
from drover.core.recipe import CountSettings, LineSettings, ZoneSettings
from drover.core.score.counts import count_score
from drover.core.types import TrackState

TIMES = np.arange(400) / 25


def line(*points: tuple[float, float], name: str = "Gap", reference: str = "foot", band: float = 0.0) -> CountSettings:
    return CountSettings(line=(LineSettings(name=name, points=points, reference=reference, dead_band=band),))


UP = line((0.5, 1.0), (0.5, 0.0))  # up the middle of the frame: forward is to the right


def count(points: list[tuple[float, float]], settings: CountSettings = UP, **keywords):
    tracks = tracks_of(walk_rows(1, points), len(points), **keywords)
    return count_crossings(tracks, TIMES, settings)


def test_forward_is_from_the_negative_to_the_positive_side():
    """Side of (x, y): (x2-x1)(y-y1) - (y2-y1)(x-x1); for the line up the middle it is 100 (x - 50)."""
    assert count([(40, 50), (60, 50)]).direction.tolist() == [1]
    assert count([(60, 50), (40, 50)]).direction.tolist() == [-1]
    assert count([(40, 50), (60, 50)], line((0.5, 0.0), (0.5, 1.0))).direction.tolist() == [-1]


def test_the_moment_and_place_lie_between_the_frames():
    found = count([(41, 30), (53, 36), (70, 40)])
    assert found.time.tolist() == pytest.approx([0.75 / 25])  # nine of twelve px
    assert (found.x[0], found.y[0]) == pytest.approx((50, 34.5))
    assert found.frame.tolist() == [1]


def test_only_the_length_of_the_line_counts():
    short = line((0.5, 0.6), (0.5, 0.4))
    assert len(count([(40, 50), (60, 50)], short)) == 1
    assert len(count([(40, 30), (60, 30)], short)) == 0


def test_a_path_through_a_corner_crosses_once():
    bent = line((0.5, 1.0), (0.5, 0.5), (0.6, 0.0))
    assert count([(40, 50), (60, 50)], bent).direction.tolist() == [1]


def test_standing_on_the_line_and_turning_back_nets_nothing():
    found = count([(40, 50), (50, 50), (50, 52), (40, 50)])
    assert found.direction.sum() == 0


def test_centre_and_foot_may_tell_different_stories():
    floor = ((0.0, 0.5), (1.0, 0.5))
    path = [(20.0, 47.0), (30.0, 53.0)]  # foot crosses 50, the centre five px higher does not
    assert len(count(path, line(*floor))) == 1
    assert len(count(path, line(*floor, reference="centre"))) == 0


def test_a_crossing_while_coasting_says_it_was_not_seen():
    state = {(k, 1): TrackState.COASTING if k == 1 else TrackState.CONFIRMED for k in range(4)}
    found = count([(45, 50), (49, 50), (53, 50), (57, 50)], state=state)
    assert found.seen.tolist() == [False]
    state = dict.fromkeys(state, TrackState.CONFIRMED)
    assert count([(45, 50), (49, 50), (53, 50), (57, 50)], state=state).seen.tolist() == [True]


def test_dithering_counts_every_passage_but_each_identity_once_a_direction():
    found = count([(40, 50), (60, 50), (40, 50), (60, 50)])
    t = tally(found, 0)
    assert (t.forward, t.back, t.net, t.passages) == (2, 1, 1, 3)
    assert (t.identities_forward, t.identities_back) == (1, 1)
    assert tally(found, 0, until=0.05).passages == 1
    assert tally_rows(found)[0]["class"] == "object"


def test_rows_of_different_identities_are_not_joined():
    tracks = tracks_of([*walk_rows(1, [(40, 50)]), *walk_rows(2, [(60, 50)], first=1)], 2)
    assert len(count_crossings(tracks, TIMES, UP)) == 0


coordinates = st.integers(0, 1000).map(lambda v: v / 10)
paths = st.lists(st.tuples(coordinates, coordinates), min_size=2, max_size=30)
fractions = st.integers(0, 64).map(lambda v: v / 64)
bands = st.sampled_from([0.0, 0.5, 2.0])
corners = st.lists(st.tuples(fractions, fractions), min_size=2, max_size=5, unique=True)


def clear_of(path, points) -> bool:
    """Whether no point of the path lies on the line and no corner on the path: there the rule for ties decides."""

    def sides(a, b, others):
        return [(b[0] - a[0]) * (y - a[1]) - (b[1] - a[1]) * (x - a[0]) for x, y in others]

    pixels = [(100 * x, 100 * y) for x, y in points]
    segments, steps = list(zip(pixels[:-1], pixels[1:], strict=True)), list(zip(path[:-1], path[1:], strict=True))
    flat = [v for a, b in segments for v in sides(a, b, path)] + [v for a, b in steps for v in sides(a, b, pixels)]
    return all(abs(v) > 1e-3 for v in flat)


@given(paths, corners, bands)
def test_backwards_in_time_only_the_directions_change(path, points, band):
    assume(clear_of(path, points))
    there, back = tally(count(path, line(*points, band=band)), 0), tally(count(path[::-1], line(*points, band=band)), 0)
    assert (there.forward, there.back) == (back.back, back.forward)


@given(paths, corners, bands)
def test_a_reversed_line_swaps_the_directions(path, points, band):
    assume(clear_of(path, points))
    one, other = tally(count(path, line(*points, band=band)), 0), tally(count(path, line(*points[::-1], band=band)), 0)
    assert (one.forward, one.back) == (other.back, other.forward)


@given(paths, fractions, bands)
def test_splitting_a_line_at_a_point_changes_nothing(path, share, band):
    a, b = (0.25, 0.125), (0.75, 0.875)
    middle = (a[0] + share * (b[0] - a[0]), a[1] + share * (b[1] - a[1]))
    assume(middle not in (a, b))
    assume(clear_of(path, [a, middle, b]))
    whole, split = count(path, line(a, b, band=band)), count(path, line(a, middle, b, band=band))
    assert whole.direction.tolist() == split.direction.tolist()
    assert whole.time == pytest.approx(split.time)


@given(paths, corners, bands)
def test_resolution_changes_no_count(path, points, band):
    assume(clear_of(path, points))
    small = count(path, line(*points, band=band))
    rows = [(frame, who, tuple(4 * v for v in box)) for frame, who, box in walk_rows(1, path)]
    large = count_crossings(tracks_of(rows, len(path), size=(400, 400)), TIMES, line(*points, band=band))
    assert small.direction.tolist() == large.direction.tolist()


@given(paths, bands)
def test_a_path_across_the_whole_frame_line_that_returns_has_net_nothing(path, band):
    t = tally(count([*path, path[0]], line((0.5, 1.5), (0.5, -0.5), band=band)), 0)
    assert t.net == 0


def live(tracks, times, settings, **more):
    """Crossings, stays and alarms of a live count over the same rows."""
    counter, events = LiveCount(settings, tracks.size, class_names=tracks.class_names, **more), []
    for frame in range(tracks.frame_count):
        part = tracks.rows_of(frame)
        rows = LiveRows(tracks.identity[part], tracks.box[part], tracks.state[part], tracks.class_id[part])
        events.append(counter.step(float(times[frame]), rows))
    events.append(counter.finish())
    told = [[one for event in events for one in getattr(event, kind)] for kind in ("crossings", "stays", "alarms")]
    return *told, counter


@given(paths, corners, bands)
def test_frame_by_frame_counts_the_same_as_the_whole_clip(path, points, band):
    settings = line(*points, band=band)
    tracks = tracks_of(walk_rows(1, path), len(path))
    crossings, _, _, _ = live(tracks, TIMES, settings)
    whole = count_crossings(tracks, TIMES, settings)
    assert [one.direction for one in crossings] == whole.direction.tolist()
    assert [one.time for one in crossings] == pytest.approx(whole.time.tolist())


RULES = {
    "one class": {"classes": ["ewe"]}, "first": {"each": "identity"}, "two": {"reference": "two"},
    "aged": {"least_age": 3.0}, "far": {"least_travel": 20.0}, "through": {"from_zone": "west", "to_zone": "east"},
    "wrong": {"forbidden": "forward"},
}  # fmt: skip


@pytest.mark.parametrize("seed", range(4))
def test_live_lines_zones_and_alarms_are_those_of_the_whole_clip(seed):
    """Many identities of two classes on random walks, every rule of a line, stays and three kinds of alarms."""
    rng = np.random.default_rng(seed)
    frames, rows = 500, []
    for who in range(1, 13):
        first, last = sorted(rng.integers(0, frames, 2).tolist())
        walk = 50 + np.cumsum(rng.normal(0, 2.0, (last - first + 1, 2)), axis=0)
        walk = 99 - np.abs(np.mod(walk, 198) - 99)
        rows += walk_rows(who, [tuple(map(float, point)) for point in walk], first)
    tracks = tracks_of(rows, frames)
    tracks = replace(tracks, class_id=(tracks.identity % 2).astype(np.int16), class_names=("ewe", "dog"))
    times = np.arange(frames) / 25
    lines = [
        {"name": name, "points": [[0.5, 0.0], [0.5, 1.0]], "dead_band": 0.5, **rule} for name, rule in RULES.items()
    ]
    zones = [
        {"name": "west", "points": [[0, 0], [0.45, 0], [0.45, 1], [0, 1]], "most_inside": 3, "bridge": 0.3},
        {"name": "east", "points": [[0.55, 0], [1, 0], [1, 1], [0.55, 1]], "longest_stay": 2.0, "classes": ["ewe"]},
    ]
    settings = CountSettings.model_validate({"line": lines, "zone": zones})
    whole = count_all(tracks, times, settings)
    crossings, stays, alarms, counter = live(tracks, times, settings)
    c, v = whole.crossings, whole.visits
    assert len(c) > 10 and len(v) > 5 and len(whole.alarms) > 3
    told = [(one.line, one.identity, one.direction, round(one.time, 6), one.class_id) for one in crossings]
    expected = zip(
        c.line.tolist(), c.identity.tolist(), c.direction.tolist(), np.round(c.time, 6).tolist(), c.class_id.tolist(),
        strict=True,
    )  # fmt: skip
    assert sorted(told) == sorted(expected)
    places = {
        (n, who, round(t, 6)): (x, y) for n, who, t, x, y in zip(c.line, c.identity, c.time, c.x, c.y, strict=True)
    }
    for one in crossings:
        assert (one.x, one.y) == pytest.approx(places[one.line, one.identity, round(one.time, 6)], abs=1e-3)
    expected = zip(v.zone.tolist(), v.identity.tolist(), v.enter.tolist(), v.leave.tolist(), strict=True)
    assert sorted(stays) == sorted(expected)
    told = [(a.kind, a.place, a.identity, round(a.time, 6)) for a in alarms]
    assert sorted(told) == sorted((a.kind, a.place, a.identity, round(a.time, 6)) for a in whole.alarms)
    assert counter.rows_kept == 0


def test_a_live_count_over_hours_keeps_little_and_tells_a_crossing_within_a_second():
    settings, told = line((0.5, -1.0), (0.5, 2.0), band=0.5), []
    counter = LiveCount(settings, (100, 100), forget_after=2.0)
    stays = np.array([[10.0, 40.0, 20.0, 50.0]], np.float32)
    for frame in range(5_000):
        who = 2 + frame // 100
        x = (frame % 100) * 1.0
        box = np.concatenate([stays, np.array([[x - 5, 60, x + 5, 70]], np.float32)])
        rows = LiveRows(np.array([1, who], np.int32), box, np.ones(2, np.int8), np.zeros(2, np.int16))
        told += [(one, frame) for one in counter.step(frame / 25, rows).crossings]
        assert counter.rows_kept < 1_200
    assert len(told) == 50
    assert max(frame / 25 - one.time for one, frame in told) < 1.0


def test_live_one_who_stays_for_minutes_is_counted_once_for_each_crossing_and_stay():
    """His path is thinned while he stands: what is found in it again lies at other moments than before."""
    settings, crossed, stays = line((0.5, -1.0), (0.5, 2.0), band=0.2), [], []
    zone = ZoneSettings(name="Left", points=((0.0, 0.0), (0.5, 0.0), (0.5, 1.0), (0.0, 1.0)), bridge=0.2)
    counter = LiveCount(settings.model_copy(update={"zone": (zone,)}), (100, 100), forget_after=2.0)
    for frame in range(4_000):
        time = frame / 25
        # Never evenly: over at 0.2, 2.3, 4.4 and 6.5 s, and once more after he has stood for a minute and a half.
        x = 50.0 + 30.0 * np.sin(1.5 * (time - 2.3)) if time < 7.5 else 79.0 if time < 100 else 20.0
        box = np.array([[x - 5, 40, x + 5, 60]], np.float32)
        events = counter.step(time, LiveRows(np.array([1]), box, np.ones(1, np.int8), np.zeros(1, np.int16)))
        crossed += [one.direction for one in events.crossings]
        stays += events.stays
    assert len(crossed) == 5 and all(a == -b for a, b in pairwise(crossed))
    assert len(stays) == 2


def test_count_error_sums_over_lines_and_directions():
    counted = crossings_of([(1, 1), (1, 1), (2, 1), (3, -1)])
    true = crossings_of([(9, 1), (8, 1), (7, 1), (6, -1), (6, 1)])
    score = count_score(counted, true)
    assert (score.count_error, score.true_total) == (2, 5)  # forward 2 of 4, back 1 of 1
    other = count_score(crossings_of([(1, 1)], name="Ford"), true)
    assert other.count_error == 6
