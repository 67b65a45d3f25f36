"""Counting against slow twins: every frame, every line and every zone looked at one after the other."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from builders import box_at, crossings_of, tracks_of, walk_rows
from hypothesis import assume, given
from hypothesis import strategies as st

from drover.core.count.alarms import find_alarms
from drover.core.count.ground import ground_of, solve_homography
from drover.core.count.intervals import count_intervals, interval_rows
from drover.core.count.lines import count_crossings
from drover.core.count.passages import find_passages, line_distance, settled_passages
from drover.core.count.paths import prepare_paths
from drover.core.count.presence import flow_map, presence_map
from drover.core.count.tallies import tally, tally_rows
from drover.core.count.zones import find_stays, find_visits, occupancy, share_inside, zone_totals
from drover.core.geometry import (
    box_reference,
    convex_hull,
    overlap_matrix,
    points_inside,
    side_of_line,
    simplify_outline,
    trace_outlines,
)
from drover.core.recipe import CountSettings, GroundSettings, LineSettings, ZoneSettings
from drover.core.stretches import stretches
from drover.core.types import TrackState

TIMES = np.arange(400) / 25
whole = st.integers(0, 100)
points = st.lists(st.tuples(whole, whole), min_size=2, max_size=14)


# --- lines ----------------------------------------------------------------------------------------------------


def crossed(path, line) -> list[tuple[int, Fraction, int]]:
    """Step, share and direction of every passage, in exact fractions."""
    out = []
    for k, (a, b) in enumerate(zip(path, path[1:], strict=False)):
        here = []
        for p, q in zip(line, line[1:], strict=False):
            before = (q[0] - p[0]) * (a[1] - p[1]) - (q[1] - p[1]) * (a[0] - p[0])
            after = (q[0] - p[0]) * (b[1] - p[1]) - (q[1] - p[1]) * (b[0] - p[0])
            of_p = (b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0])
            of_q = (b[0] - a[0]) * (q[1] - a[1]) - (b[1] - a[1]) * (q[0] - a[0])
            if (before >= 0) != (after >= 0) and (of_p >= 0) != (of_q >= 0):
                here.append((k, Fraction(before, before - after), 1 if after >= 0 else -1))
        out += sorted(here, key=lambda one: one[1])
    return out


@given(points, points)
def test_passages_are_those_of_exact_arithmetic(path, line):
    x, y = (np.array([p[k] for p in path], float) for k in range(2))
    step, share, direction = find_passages(x, y, np.ones(len(path), np.int32), np.array(line, float))
    want = crossed(path, line)
    assert step.tolist() == [one[0] for one in want]
    assert direction.tolist() == [one[2] for one in want]
    assert share.tolist() == pytest.approx([float(one[1]) for one in want])


@given(points, st.lists(st.tuples(whole, whole), min_size=2, max_size=4), st.floats(0, 2))
def test_of_each_attempt_within_the_band_only_what_came_out_holds(path, line, band):
    """Twin: attempts end where the path leaves the band; of each the last passages the way it came out are kept."""
    x, y = (np.array([p[k] for p in path], float) for k in range(2))
    corners, size, owner = np.array(line, float), np.full(len(path), 10.0), np.ones(len(path), np.int32)
    step, _, direction = find_passages(x, y, owner, corners)
    got = settled_passages(x, y, size, owner, corners, band, step, direction)
    far = np.array([line_distance(a, b, corners) > band * 10 for a, b in path])
    want, attempt = np.zeros(len(step), np.bool_), []

    def close(rows: list[int]) -> None:
        net = int(direction[rows].sum())
        for k in reversed(rows):
            if net and np.sign(direction[k]) == np.sign(net):
                want[k] = True
                net -= int(direction[k])

    for k in range(len(step)):
        if attempt and far[step[attempt[-1]] + 1 : step[k] + 1].any():
            close(attempt)
            attempt = []
        attempt.append(k)
    if attempt:
        close(attempt)
    np.testing.assert_array_equal(got, want)


@given(st.lists(points, min_size=1, max_size=4), st.sampled_from(["foot", "centre", "top", "left", "right"]))
def test_each_identity_is_counted_as_if_it_were_alone(paths, reference):
    line = LineSettings(name="Gap", points=((0.5, 1.0), (0.5, 0.0)), dead_band=0.5, reference=reference)
    settings = CountSettings(line=(line,))
    rows = [row for who, path in enumerate(paths, 1) for row in walk_rows(who, path)]
    count = max(map(len, paths))
    together = count_crossings(tracks_of(rows, count), TIMES, settings)
    alone = []
    for who, path in enumerate(paths, 1):
        found = count_crossings(tracks_of(walk_rows(who, path), count), TIMES, settings)
        alone += [(who, float(t), int(d)) for t, d in zip(found.time, found.direction, strict=True)]
    mine = zip(together.identity.tolist(), together.time.tolist(), together.direction.tolist(), strict=True)
    assert sorted(mine) == sorted(alone)
    assert (np.diff(together.time) >= 0).all()


@given(points)
def test_two_lines_side_by_side_are_crossed_one_after_the_other(path):
    """Nobody gets from the left to the right without having gone over both."""
    lines = tuple(
        LineSettings(name=name, points=((at, 1.2), (at, -0.2)), dead_band=0.0) for name, at in (("A", 0.4), ("B", 0.6))
    )
    assume(all(p[0] not in (40, 60) for p in path))
    found = count_crossings(tracks_of(walk_rows(1, path), len(path)), TIMES, CountSettings(line=lines))
    nets = [int(found.direction[found.line == k].sum()) for k in range(2)]
    for k, at in enumerate((40, 60)):
        assert nets[k] == int(path[-1][0] > at) - int(path[0][0] > at)


@given(st.lists(st.tuples(st.integers(1, 4), st.sampled_from([1, -1])), max_size=30), st.integers(1, 9))
def test_totals_and_intervals_are_sums_of_the_rows(rows, length):
    crossings = crossings_of(rows)
    total = tally(crossings, 0)
    assert (total.forward, total.back) == tuple(sum(way == w for _, way in rows) for w in (1, -1))
    assert total.identities_forward == len({who for who, way in rows if way == 1})
    assert total.identities_back == len({who for who, way in rows if way == -1})
    assert (total.net, total.passages) == (sum(way for _, way in rows), len(rows))
    (row,) = tally_rows(crossings)
    assert row["net"] == total.net
    counted = count_intervals(crossings, 0, float(length), 30.0)
    assert len(counted.start) == -(-30 // length)
    for k, start in enumerate(counted.start):
        inside = [way for n, (_, way) in enumerate(rows) if start <= n < start + length]
        assert (counted.forward[k], counted.back[k]) == (inside.count(1), inside.count(-1))
    table = interval_rows(crossings, float(length), 30.0)
    assert table[-1]["forward_so_far"] == total.forward
    assert table[-1]["end"] == 30.0
    until = 7.0
    part = tally(crossings, 0, until=until)
    assert part.forward == sum(way == 1 for n, (_, way) in enumerate(rows) if n <= until)


# --- zones ----------------------------------------------------------------------------------------------------


@given(st.lists(st.lists(st.booleans(), min_size=1, max_size=30), min_size=1, max_size=4), st.integers(0, 6))
def test_stays_bridge_short_absences_and_leave_out_short_stays(paths, bridge):
    """Twin: the frames of each path as a string; absences go first, then stays, but for those the path cuts off."""
    start = np.concatenate([[0], np.cumsum([len(p) for p in paths])]).astype(np.int64)
    inside = np.concatenate([np.array(p) for p in paths])
    when = np.concatenate([np.arange(len(p), dtype=float) for p in paths])
    got = find_stays(start, inside, when, float(bridge)).tolist()
    want = []
    for p, path in enumerate(paths):
        parts = [[int(a), int(b) - 1] for a, b in zip(*stretches(np.array(path)), strict=True)]
        merged: list[list[int]] = []
        for part in parts:
            # The absence is noticed in the frame that is `bridge` after the last one inside.
            if merged and part[0] - merged[-1][1] <= bridge:
                merged[-1][1] = part[1]
            else:
                merged.append(part)
        for a, b in merged:
            if a == 0 or b == len(path) - 1 or b - a >= bridge:
                want.append([p, int(start[p]) + a, int(start[p]) + b])
    assert got == want


@given(st.lists(st.tuples(whole, whole), min_size=3, max_size=40))
def test_who_is_inside_adds_up_to_the_time_spent_there(path):
    zone = ZoneSettings(name="Pen", points=((0.3, 0.3), (0.7, 0.3), (0.7, 0.7), (0.3, 0.7)), bridge=0.0)
    tracks = tracks_of(walk_rows(1, path), len(path))
    visits = find_visits(tracks, TIMES, CountSettings(zone=(zone,)))
    assert (visits.leave >= visits.enter).all()
    assert (visits.enter[1:] >= visits.leave[:-1] - 1e-9).all(), "one identity is inside once at a time"
    seen = [30 <= x < 70 and 30 <= y < 70 for x, y in path]
    for k, here in enumerate(seen):
        if here:
            assert ((visits.enter <= TIMES[k] + 1e-9) & (visits.leave >= TIMES[k] - 1e-9)).any()
    totals = zone_totals(visits, 0, TIMES[: len(path)])
    assert totals.entered - totals.left in (-1, 0, 1)
    assert totals.identities == int(any(seen))
    assert occupancy(visits, 0, TIMES[: len(path)]).max(initial=0) <= 1


@given(st.integers(0, 10_000))
def test_the_share_of_a_box_inside_a_polygon_is_that_of_its_pixels(seed):
    rng = np.random.default_rng(seed)
    corners = convex_hull(rng.uniform(0, 60, (6, 2)))
    assume(len(corners) >= 3)
    low = rng.integers(0, 40, 2)
    box = np.array([[*low, *(low + rng.integers(4, 20, 2))]], np.float32)
    fine = 8
    x, y = (np.arange(box[0, k] * fine, box[0, k + 2] * fine) / fine + 0.5 / fine for k in range(2))
    grid = np.array([(a, b) for b in y for a in x])
    want = points_inside(grid[:, 0].copy(), grid[:, 1].copy(), corners).mean()
    assert share_inside(box, corners)[0] == pytest.approx(want, abs=0.03)


def test_alarms_are_raised_by_their_limits_and_not_below():
    square = ((0.3, 0.3), (0.7, 0.3), (0.7, 0.7), (0.3, 0.7))
    for longest, most, raised in ((3.0, 2, set()), (1.0, 0, {"stays too long"}), (0.0, 1, {"too many inside"})):
        zone = ZoneSettings(name="Pen", points=square, bridge=0.0, longest_stay=longest, most_inside=most)
        rows = walk_rows(1, [(50, 50)] * 50) + walk_rows(2, [(60, 60)] * 30, first=10)
        tracks = tracks_of(rows, 50)
        settings = CountSettings(zone=(zone,))
        visits = find_visits(tracks, TIMES, settings)
        alarms = find_alarms(tracks, TIMES, settings, count_crossings(tracks, TIMES, settings), visits)
        assert {alarm.kind for alarm in alarms} == raised
        for alarm in alarms:
            assert alarm.value > alarm.limit
            assert alarm.place == "Pen" and "Pen" in alarm.words
            if alarm.kind == "stays too long":
                assert alarm.time == pytest.approx(float(visits.enter[visits.identity == alarm.identity][0]) + 1.0)
            else:
                assert alarm.time == pytest.approx(10 / 25, abs=0.05)


# --- where they went ------------------------------------------------------------------------------------------


@given(st.lists(st.tuples(st.integers(5, 95), st.integers(5, 95)), min_size=2, max_size=30))
def test_presence_adds_up_to_the_time_known_of_everybody(path):
    tracks = tracks_of([*walk_rows(1, path), *walk_rows(2, path[::-1])], len(path))
    spent = presence_map(tracks, TIMES)
    assert spent.sum() == pytest.approx(2 * (len(path) - 1) / 25, rel=0.05)
    assert (spent >= 0).all()
    alone = presence_map(tracks, TIMES, identities={1}) + presence_map(tracks, TIMES, identities={2})
    np.testing.assert_allclose(alone, spent)


def test_flow_points_the_way_they_go_at_their_speed():
    path = [(10 + 0.2 * k, 50) for k in range(90)]
    flow = flow_map(tracks_of(walk_rows(1, path), 90), TIMES)
    assert len(flow.x)
    np.testing.assert_allclose(flow.dx, 0.2 * 25, rtol=1e-3)
    np.testing.assert_allclose(flow.dy, 0.0, atol=1e-4)


# --- the ground -----------------------------------------------------------------------------------------------


@given(st.floats(-0.3, 0.3), st.floats(-0.3, 0.3), st.floats(0.5, 2.0), st.floats(-0.002, 0.002))
def test_a_plane_seen_from_anywhere_is_measured_back(turn, lean, scale, tilt):
    """Four points of a plane 4 m by 3 m, seen through a homography of our own; a fifth point comes out where it is."""
    metres = np.array([[0, 0], [4, 0], [4, 3], [0, 3]], float)
    view = np.array([
        [100 * scale, 30 * turn, 200], [40 * lean, 90 * scale, 150], [tilt, tilt / 2, 1.0],
    ])  # fmt: skip

    def seen(points: np.ndarray) -> np.ndarray:
        flat = np.column_stack([points, np.ones(len(points))]) @ view.T
        return flat[:, :2] / flat[:, 2:]

    pixels = seen(metres)
    assume((pixels > 1).all() and (pixels < 999).all())
    np.testing.assert_allclose(solve_homography(pixels, metres) @ np.array([*pixels[2], 1.0]) ,
                               _on_line(solve_homography(pixels, metres), pixels[2], metres[2]), rtol=1e-6)  # fmt: skip
    sides = [float(np.linalg.norm(metres[a] - metres[b])) for a, b in ((0, 1), (1, 2), (2, 3), (3, 0), (0, 2), (1, 3))]
    made = ground_of(GroundSettings(points=tuple(map(tuple, pixels / 1000)), distances=tuple(sides)), (1000, 1000))
    assert made is not None
    fifth, corner = np.array([[1.5, 2.0]]), metres[:1]
    apart = np.linalg.norm(made.metres(seen(fifth)) - made.metres(seen(corner)))
    assert apart == pytest.approx(2.5, rel=1e-3)
    assert made.misfit < 1e-3


def _on_line(matrix: np.ndarray, pixel: np.ndarray, metre: np.ndarray) -> np.ndarray:
    third = float(matrix[2] @ np.array([*pixel, 1.0]))
    return np.array([metre[0] * third, metre[1] * third, third])


# --- plain geometry -------------------------------------------------------------------------------------------


@given(st.integers(0, 10_000))
def test_overlap_is_shared_over_joint_area_and_knows_no_order(seed):
    rng = np.random.default_rng(seed)
    low = rng.integers(0, 12, (7, 2))
    box = np.hstack([low, low + rng.integers(0, 9, (7, 2))]).astype(np.float32)
    got = overlap_matrix(box, box)
    for a in range(7):
        for b in range(7):
            cells = [
                {(x, y) for x in range(int(o[0]), int(o[2])) for y in range(int(o[1]), int(o[3]))}
                for o in (box[a], box[b])
            ]
            union = len(cells[0] | cells[1])
            assert got[a, b] == pytest.approx(len(cells[0] & cells[1]) / union if union else 0.0)
    np.testing.assert_allclose(got, got.T)


@given(st.integers(0, 10_000))
def test_a_hull_holds_every_point_and_turns_one_way(seed):
    cloud = np.random.default_rng(seed).integers(0, 20, (12, 2)).astype(float)
    hull = convex_hull(cloud)
    assume(len(hull) >= 3)
    for a, b in zip(hull, np.roll(hull, -1, axis=0), strict=True):
        sides = [side_of_line(x, y, tuple(a), tuple(b)) for x, y in cloud]
        assert min(sides) >= -1e-9


@given(st.integers(0, 10_000), st.floats(0.3, 4.0))
def test_a_simpler_outline_is_a_part_of_the_old_one_and_nowhere_farther(seed, tolerance):
    rng = np.random.default_rng(seed)
    mask = np.zeros((24, 24), np.bool_)
    for _ in range(4):
        x, y = rng.integers(2, 12, 2)
        mask[y : y + rng.integers(3, 9), x : x + rng.integers(3, 9)] = True
    runs = [(y, int(a), int(b)) for y, row in enumerate(mask) for a, b in zip(*stretches(row), strict=True)]
    outline = trace_outlines(np.array(runs, np.int16))[0]
    simple = simplify_outline(outline, tolerance)
    kept = {tuple(p) for p in simple.tolist()}
    assert kept <= {tuple(p) for p in outline.tolist()}
    for p in outline:
        sides = zip(simple, np.roll(simple, -1, axis=0), strict=True)
        assert (
            min(line_distance(float(p[0]), float(p[1]), np.array([a, b], float)) for a, b in sides) <= tolerance + 1e-6
        )


@given(st.lists(st.booleans(), max_size=40))
def test_stretches_are_the_unbroken_runs_of_true(holds):
    first, past = stretches(np.array(holds, np.bool_))
    rebuilt = np.zeros(len(holds), np.bool_)
    for a, b in zip(first, past, strict=True):
        assert b > a
        rebuilt[a:b] = True
    assert rebuilt.tolist() == holds
    assert all(b < a for b, a in zip(past[:-1], first[1:], strict=True))


def test_every_reference_point_of_a_box():
    box = np.array([[10, 20, 30, 60]], np.float32)
    want = {"foot": (20, 60), "centre": (20, 40), "top": (20, 20), "left": (10, 40), "right": (30, 40)}
    assert {name: tuple(box_reference(box, name)[0]) for name in want} == want


# --- tables ---------------------------------------------------------------------------------------------------


@given(st.lists(st.tuples(st.integers(0, 12), st.integers(1, 5)), unique=True, max_size=40))
def test_paths_are_the_rows_of_each_identity_in_frame_order(pairs):
    tracks = tracks_of([(frame, who, box_at(50, 50)) for frame, who in pairs], 13)
    paths = tracks.paths
    assert paths.identity.tolist() == sorted({who for _, who in pairs})
    for k, who in enumerate(paths.identity.tolist()):
        rows = paths.row[paths.start[k] : paths.start[k + 1]]
        assert tracks.identity[rows].tolist() == [who] * len(rows)
        assert tracks.frame[rows].tolist() == sorted(frame for frame, one in pairs if one == who)
        np.testing.assert_array_equal(tracks.path_of(who), rows)
    assert len(paths.row) == len(pairs)
    assert len(tracks.path_of(9)) == 0


def test_travel_is_counted_in_sizes_from_the_start_of_each_path():
    tracks = tracks_of([*walk_rows(1, [(10, 50), (20, 50), (40, 50)]), *walk_rows(2, [(90, 50), (90, 90)])], 3)
    assert prepare_paths(tracks).travel.tolist() == pytest.approx([0, 1, 3, 0, 4])


def test_a_crossing_while_coasting_is_marked_unseen_on_either_side_of_the_line():
    rows = walk_rows(1, [(40, 50), (60, 50), (70, 50)])
    settings = CountSettings(line=(LineSettings(name="Gap", points=((0.5, 1.0), (0.5, 0.0)), dead_band=0.0),))
    for hidden, seen in ((0, False), (1, False), (2, True)):
        state = {(k, 1): int(TrackState.COASTING if k == hidden else TrackState.CONFIRMED) for k in range(3)}
        assert count_crossings(tracks_of(rows, 3, state=state), TIMES, settings).seen.tolist() == [seen]
