"""Rules of lines, zones, alarms, intervals, presence; worked by hand with boxes of 10 px."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import tracks_of, walk_rows
from hypothesis import given
from hypothesis import strategies as st

from drover.core.count.alarms import find_alarms
from drover.core.count.edits import with_copy, with_item, with_new, without_item
from drover.core.count.ground import ground_of, path_lengths, solve_homography, speeds
from drover.core.count.intervals import count_intervals, interval_rows
from drover.core.count.lines import count_crossings
from drover.core.count.presence import flow_map, presence_map
from drover.core.count.zones import find_visits, inside_now, occupancy, zone_totals
from drover.core.errors import DroverError
from drover.core.recipe import CountSettings, GroundSettings, LineSettings, Recipe, ZoneSettings, parse_recipe
from drover.core.types import Tracks

TIMES = np.arange(1000) / 25
UP = ((0.5, 1.0), (0.5, 0.0))  # forward is to the right


def counted(paths: dict[int, list[tuple[float, float]]], *, zones=(), **rule):
    rows = [row for who, points in paths.items() for row in walk_rows(who, points)]
    tracks = tracks_of(rows, max(map(len, paths.values())))
    settings = CountSettings(line=(LineSettings(name="Gap", points=UP, **rule),), zone=zones)
    return count_crossings(tracks, TIMES, settings)


def ways(found) -> list[tuple[int, int]]:
    return list(zip(found.identity.tolist(), found.direction.tolist(), strict=True))


# --- lines --------------------------------------------------------------------------------------------------


def test_dithering_within_the_band_adds_nothing_and_going_through_counts_once():
    dither = [(40, 50), (52, 50), (47, 50), (53, 50), (46, 50), (52, 50)]
    assert ways(counted({1: [*dither, (70, 50)]})) == [(1, 1)]
    assert ways(counted({1: [*dither, (30, 50)]})) == []
    # Out of the band (10 px) on the far side and back again are two crossings.
    assert ways(counted({1: [(40, 50), (61, 50), (40, 50)]})) == [(1, 1), (1, -1)]
    found = counted({1: [*dither, (70, 50)]})
    assert found.time[0] == pytest.approx((4 + 4 / 6) / 25), "the passage that held: from 46 to 52 after frame 4"


def test_a_path_that_ends_within_the_band_counts_where_it_was_last():
    assert ways(counted({1: [(40, 50), (54, 50)]})) == [(1, 1)]
    assert ways(counted({1: [(40, 50), (54, 50), (48, 50)]})) == []


def test_the_band_is_in_sizes_of_the_animal():
    path = [(30, 50), (62, 50), (30, 50)]
    assert len(counted({1: path}, dead_band=1.0)) == 2
    assert len(counted({1: path}, dead_band=1.3)) == 0


@pytest.mark.parametrize(
    ("reference", "frame"), [("foot", 2), ("centre", 2), ("top", 2), ("left", 3), ("right", 1), ("two", 2)]
)
def test_each_point_of_the_box_crosses_in_its_own_time(reference, frame):
    """The box is 10 px wide: its right side is over at x = 45, its middle at 50, its left side at 55."""
    found = counted({1: [(44, 50), (48, 50), (54, 50), (58, 50), (80, 50)]}, reference=reference)
    assert (len(found), int(found.frame[0])) == (1, frame)


def test_two_points_are_needed_where_any_two_are_asked_for():
    """A box that bulges over the line with its right side alone has not crossed it."""
    rows = [(k, 1, box) for k, box in enumerate([(30, 40, 40, 50), (30, 40, 56, 50), (30, 40, 40, 50)])]
    tracks = tracks_of(rows, 3)
    for reference, many in (("right", 2), ("two", 0)):
        line = LineSettings(name="a", points=UP, reference=reference, dead_band=0.0)
        assert len(count_crossings(tracks, TIMES, CountSettings(line=(line,)))) == many


def test_classes_age_travel_and_once_an_identity():
    there = [(40, 50), (70, 50)]
    assert ways(counted({1: there, 2: there})) == [(1, 1), (2, 1)]
    late = [(20, 50)] * 25 + there
    assert ways(counted({1: there, 2: late}, least_age=1.0)) == [(2, 1)]
    far = [(0, 50), (20, 50), (40, 50), (70, 50)]
    assert ways(counted({1: there, 2: far}, least_travel=3.0)) == [(2, 1)]
    to_and_fro = [(20, 50), (80, 50), (20, 50), (80, 50)]
    assert ways(counted({1: to_and_fro})) == [(1, 1), (1, -1), (1, 1)]
    assert ways(counted({1: to_and_fro}, each="identity")) == [(1, 1), (1, -1)]


def test_only_the_classes_named_count_by_what_an_identity_mostly_is():
    path = [(20, 50), (30, 50), (40, 50), (70, 50)]
    tracks = tracks_of([*walk_rows(1, path), *walk_rows(2, path)], 4)
    kinds = np.where(tracks.identity == 1, 0, 1).astype(np.int16)
    kinds[(tracks.identity == 1) & (tracks.frame == 3)] = 1  # taken for a dog just as it crosses
    tracks = replace(tracks, class_id=kinds, class_names=("ewe", "dog"))
    line = LineSettings(name="a", points=UP, classes=("ewe",))
    assert ways(count_crossings(tracks, TIMES, CountSettings(line=(line,)))) == [(1, 1)]


def zone(name: str, x1: float, x2: float, **more) -> ZoneSettings:
    return ZoneSettings(name=name, points=((x1, 0.0), (x2, 0.0), (x2, 1.0), (x1, 1.0)), bridge=0.0, **more)


def test_a_line_may_ask_where_an_animal_came_from_and_went_to():
    zones = (zone("west", 0.0, 0.25), zone("east", 0.75, 1.0))
    through, short = [(10, 50), (40, 50), (70, 50), (90, 50)], [(40, 50), (70, 50), (90, 50)]
    rule = {"from_zone": "west", "to_zone": "east"}
    assert ways(counted({1: through, 2: short}, zones=zones, **rule)) == [(1, 1)]
    # The other way round it is the other zone that it must come from.
    assert ways(counted({1: through[::-1], 2: short[::-1]}, zones=zones, **rule)) == [(1, -1)]
    assert ways(counted({1: through, 2: short}, zones=zones, from_zone="west")) == [(1, 1)]


@given(st.lists(st.integers(0, 99), min_size=2, max_size=25), st.sampled_from(["foot", "two"]))
def test_net_is_forward_less_back_and_a_return_nets_nothing(xs, reference):
    path = [(float(x) + 0.5, 50.0) for x in [*xs, xs[0]]]
    found = counted({1: path}, reference=reference, dead_band=0.7)
    assert int(found.direction.sum()) == 0


# --- zones --------------------------------------------------------------------------------------------------


def visits_of(path: list[tuple[float, float]], *zones: ZoneSettings, rate: float = 25.0):
    tracks = tracks_of(walk_rows(1, path), len(path))
    return find_visits(tracks, np.arange(len(path)) / rate, CountSettings(zone=zones))


def test_a_stay_is_exact_between_frames():
    found = visits_of([(10, 50), (30, 50), (50, 50), (70, 50), (90, 50)], zone("z", 0.25, 0.75), rate=1.0)
    assert (found.enter.tolist(), found.leave.tolist()) == ([0.75], [3.25])
    assert (found.enter_frame.tolist(), found.leave_frame.tolist()) == ([1], [3])
    assert found.entered.tolist() == found.left.tolist() == [True]


def test_one_first_or_last_seen_inside_has_not_entered_or_left():
    found = visits_of([(50, 50), (60, 50)], zone("z", 0.25, 0.75), rate=1.0)
    assert (found.enter.tolist(), found.leave.tolist()) == ([0.0], [1.0])
    assert not found.entered[0] and not found.left[0]


def test_short_absences_are_bridged_and_short_stays_dropped():
    path = (
        [(10, 50)] * 5
        + [(50, 50)] * 10
        + [(20, 50)] * 2
        + [(50, 50)] * 10
        + [(10, 50)] * 10
        + [(50, 50)]
        + [(10, 50)] * 5
    )
    z = zone("z", 0.25, 0.75)
    assert len(visits_of(path, z, rate=10.0)) == 3
    bridged = visits_of(path, z.model_copy(update={"bridge": 0.5}), rate=10.0)
    assert len(bridged) == 1
    assert bridged.leave[0] - bridged.enter[0] == pytest.approx(2.2, abs=0.11)


def test_by_area_a_share_of_the_box_must_lie_inside():
    """At x = 25 half of the box lies inside a zone from 25 on."""
    path = [(22.0, 50.0), (24.9, 50.0), (25.6, 50.0), (40.0, 50.0)]
    found = visits_of(path, zone("z", 0.25, 0.75, inside_by="area", least_share=0.5), rate=1.0)
    assert found.enter_frame.tolist() == [2]


def test_occupancy_dwell_and_the_most_at_once():
    rows = [*walk_rows(1, [(50, 50)] * 10), *walk_rows(2, [(50, 50)] * 4, first=3), *walk_rows(3, [(10, 50)] * 10)]
    tracks, times = tracks_of(rows, 10), np.arange(10.0)
    found = find_visits(tracks, times, CountSettings(zone=(zone("z", 0.25, 0.75),)))
    assert occupancy(found, 0, times).tolist() == [1, 1, 1, 2, 2, 2, 2, 1, 1, 1]
    assert inside_now(found, 0, 4.0) == [1, 2]
    totals = zone_totals(found, 0, times)
    assert (totals.most_inside, totals.most_at, totals.identities) == (2, 3.0, 2)
    assert (totals.mean_dwell, totals.longest_dwell) == (6.0, 9.0)


# --- alarms -------------------------------------------------------------------------------------------------


def alarms_of(tracks: Tracks, settings: CountSettings, times=TIMES):
    crossings, visits = count_crossings(tracks, times, settings), find_visits(tracks, times, settings)
    ground = ground_of(settings.ground, tracks.size)
    return find_alarms(tracks, times, settings, crossings, visits, ground)


def test_each_kind_of_alarm_by_hand():
    rows = [*walk_rows(1, [(50, 50)] * 10), *walk_rows(2, [(90, 50), (60, 50), (30, 50)], first=2)]
    tracks, times = tracks_of(rows, 10), np.arange(10.0)
    line = LineSettings(name="Gap", points=UP, forbidden="back", dead_band=0.0)
    z = zone("Yard", 0.25, 0.75, longest_stay=4.0, most_inside=1)
    found = alarms_of(tracks, CountSettings(line=(line,), zone=(z,)), times)
    told = [(one.kind, one.identity, round(one.time, 3)) for one in found]
    assert told == [("too many inside", 0, 2.5), ("wrong way", 2, round(3 + 1 / 3, 3)), ("stays too long", 1, 4.0)]
    assert "1 in Yard for 9 s, allowed 4" in [one.words for one in found]
    assert found[0].value == 2.0


def test_one_that_runs_is_told_in_metres_a_second():
    """100 px are 10 m; 2.5 px a frame at 25 frames/s are 6.25 m/s, 0.5 px are 1.25 m/s."""
    square = ((0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0))
    ground = GroundSettings(points=square, distances=(10.0, 10.0, 10.0, 10.0, 0.0, 200**0.5))
    rows = [*walk_rows(1, [(2.5 * k, 50) for k in range(40)]), *walk_rows(2, [(0.5 * k, 60) for k in range(40)])]
    settings = CountSettings(zone=(zone("Yard", 0.0, 1.0, top_speed=5.0),), ground=ground)
    found = alarms_of(tracks_of(rows, 40), settings)
    assert [(one.kind, one.identity) for one in found] == [("too fast", 1)]
    assert found[0].value == pytest.approx(6.25, rel=1e-3)


# --- ground -------------------------------------------------------------------------------------------------


def test_a_slanted_view_gives_back_the_metres_it_was_made_from():
    """A yard of 12 x 8 m seen slantwise through a known homography."""
    true = np.array([[80.0, 20.0, 300.0], [5.0, 30.0, 200.0], [0.002, 0.03, 1.0]])
    yard = np.array([[0.0, 0.0], [12.0, 0.0], [12.0, 8.0], [0.0, 8.0]])

    def seen(points):
        out = np.column_stack([points, np.ones(len(points))]) @ true.T
        return out[:, :2] / out[:, 2:]

    size = (1280, 720)
    fractions = tuple((float(x / 1280), float(y / 720)) for x, y in seen(yard))
    diagonal = float(np.hypot(12, 8))
    ground = ground_of(GroundSettings(points=fractions, distances=(12.0, 8.0, 12.0, 8.0, diagonal, diagonal)), size)
    assert ground.misfit == pytest.approx(0, abs=1e-6)
    inner = np.array([[3.0, 2.0], [9.0, 6.0], [6.0, 4.0]])
    got = ground.metres(seen(inner))
    assert np.linalg.norm(got[0] - got[1]) == pytest.approx(np.hypot(6, 4), rel=1e-6)
    assert np.linalg.norm(got[0] - got[2]) == pytest.approx(np.hypot(3, 2), rel=1e-6)
    off = ground_of(GroundSettings(points=fractions, distances=(12.0, 8.0, 12.0, 8.0, diagonal, diagonal + 0.5)), size)
    assert 0.1 < off.misfit < 0.5 and off.misfit_px > 1


def test_lengths_and_speeds_over_the_ground():
    square = ((0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0))
    ground = ground_of(
        GroundSettings(points=square, distances=(10.0, 10.0, 10.0, 10.0, 200**0.5, 200**0.5)), (100, 100)
    )
    tracks = tracks_of(walk_rows(7, [(10 + 0.5 * k, 50) for k in range(101)]), 101)
    metres, mean, top = path_lengths(tracks, TIMES, ground)[7]
    assert (metres, mean, top) == pytest.approx((5.0, 1.25, 1.25), rel=1e-3)
    assert speeds(tracks, TIMES, ground) == pytest.approx(np.full(101, 1.25), rel=1e-3)


@pytest.mark.parametrize(
    ("points", "distances", "words"),
    [
        (((0.1, 0.1), (0.2, 0.2), (0.3, 0.3), (0.4, 0.4)), (1.0, 1.0, 1.0, 1.0, 1.4, 1.4), "lie on one line"),
        (((0.1, 0.1), (0.9, 0.1), (0.9, 0.9), (0.1, 0.9)), (1.0, 1.0, 1.0, 50.0, 1.4, 0.0), "cannot belong"),
    ],
)
def test_points_on_a_line_and_impossible_distances_are_refused(points, distances, words):
    with pytest.raises(DroverError, match=words):
        ground_of(GroundSettings(points=points, distances=distances), (100, 100))


def test_a_homography_takes_four_points_where_they_belong():
    source = np.array([[0.0, 0.0], [100.0, 10.0], [90.0, 80.0], [5.0, 70.0]])
    target = np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]])
    matrix = solve_homography(source, target)
    out = np.column_stack([source, np.ones(4)]) @ matrix.T
    assert out[:, :2] / out[:, 2:] == pytest.approx(target, abs=1e-9)


# --- over time, and where -------------------------------------------------------------------------------------


def test_intervals_add_up_to_the_totals():
    path = [(20, 50), (80, 50), (20, 50), (80, 50), (20, 50), (80, 50)]
    found = counted({1: path})
    found = replace(found, time=np.array([1.0, 9.99, 10.0, 25.0, 31.0]))
    per = count_intervals(found, 0, 10.0, 35.0)
    assert per.forward.tolist() == [1, 1, 0, 1] and per.back.tolist() == [1, 0, 1, 0]
    assert per.peak == 0
    rows = interval_rows(found, 10.0, 35.0)
    assert [row["end"] for row in rows] == [10.0, 20.0, 30.0, 35.0]
    assert (rows[-1]["forward_so_far"], rows[-1]["back_so_far"]) == (3, 2)


def test_presence_adds_up_to_the_time_and_flow_points_along():
    tracks = tracks_of([*walk_rows(1, [(10 + k, 50) for k in range(51)]), *walk_rows(2, [(80, 80)] * 51)], 51)
    times = np.arange(51) / 25
    assert presence_map(tracks, times).sum() == pytest.approx(4.0, rel=1e-6)
    assert presence_map(tracks, times, identities={1}).sum() == pytest.approx(2.0, rel=1e-6)
    assert presence_map(tracks, times, standing=True).sum() == pytest.approx(2.0, rel=1e-6)
    flow = flow_map(tracks, times, identities={2})
    assert flow.dx == pytest.approx(0) and flow.dy == pytest.approx(0)
    slow = tracks_of(walk_rows(1, [(10 + 0.1 * k, 50) for k in range(51)]), 51)
    assert flow_map(slow, times).dx[0] == pytest.approx(2.5)


# --- edits and bad input --------------------------------------------------------------------------------------


def test_zones_renamed_and_removed_keep_the_recipe_whole():
    recipe = with_new(Recipe(), "line", [(0.5, 0.0), (0.5, 1.0)])
    recipe = with_new(recipe, "zone", [(0.1, 0.1), (0.4, 0.1), (0.4, 0.4)])
    recipe = with_item(recipe, "line", 0, {"from_zone": "Zone 1"})
    renamed = with_item(recipe, "zone", 0, {"name": "Yard"})
    assert renamed.count.line[0].from_zone == "Yard"
    assert without_item(renamed, "zone", 0).count.line[0].from_zone == ""
    copied = with_copy(renamed, "zone", 0).count.zone
    assert [one.name for one in copied] == ["Yard", "Yard 2"] and copied[0].points != copied[1].points


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('[[count.zone]]\nname = "a"\npoints = [[0, 0], [1, 0]]', "a zone needs 3"),
        ('[[count.zone]]\nname = "a"\npoints = [[0, 0], [1, 1], [1, 0], [0, 1]]', "must not cross"),
        ('[[count.zone]]\nname = "a"\npoints = [[0, 0], [0.5, 0.5], [1, 1]]', "needs some area"),
        ('[[count.zone]]\nname = "a"\npoints = [[0, 0], [nan, 0], [1, 1]]', "points"),
        ('[[count.zone]]\nname = "a"\npoints = [[0, 0], [9, 0], [1, 1]]', "must be in -4..5"),
        ('[[count.zone]]\nname = "a"\npoints = [[0,0],[1,0],[1,1]]\n'
         '[[count.zone]]\nname = "a"\npoints = [[0,0],[1,0],[1,1]]', "two zones are called 'a'"),
        ('[[count.line]]\nname = "a"\npoints = [[0, 0], [1, 0]]\nfrom_zone = "b"', "a zone 'b' that is not there"),
        ('[[count.line]]\nname = "a"\npoints = [[0, 0], [1, 0]]\ndead_band = 99', "dead_band"),
        ("[count.ground]\npoints = [[0, 0], [1, 0], [1, 1]]\ndistances = [1, 1, 1, 1, 1, 1]", "four points and six"),
        ("[count.ground]\npoints = [[0,0],[1,0],[1,1],[0,1]]\ndistances = [1, 1, 0, 1, 1, 1]", "four sides"),
    ],
)  # fmt: skip
def test_what_cannot_be_a_line_a_zone_or_a_measure_is_said(text, words):
    with pytest.raises(DroverError, match=words):
        parse_recipe(text)
