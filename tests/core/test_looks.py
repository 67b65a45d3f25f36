"""How things look, lost ones that come back, exits, and what is said of odd input; cases made by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from drover.core.detect.look import describe_blobs
from drover.core.doubt.moments import find_moments
from drover.core.geometry import convex_hull, inside_polygons
from drover.core.recipe import Recipe, TrackSettings, with_value
from drover.core.track.exits import in_exits, learn_exits
from drover.core.track.input_notes import input_notes
from drover.core.track.looks import look_distance
from drover.core.track.whole_clip import link_detections
from drover.core.types import LOOK, Detections

RATE, SIZE = 25.0, (640, 480)


def looked(grey: np.ndarray, colour: tuple[int, int]) -> np.ndarray:
    """Descriptor of a 20 x 20 blob in the middle of a picture of one colour."""
    chroma = np.empty((2, 20, 20), np.uint8)
    chroma[0], chroma[1] = colour
    runs = np.array([[y, 10, 30] for y in range(10, 30)], np.int16)
    return describe_blobs(runs, np.array([20]), grey, chroma)


def apart(a: np.ndarray, b: np.ndarray) -> float:
    return look_distance(a.astype(np.float32), 0, b.astype(np.float32), 0)


def test_looks_tell_brightness_colour_and_texture_apart_and_not_a_little_light():
    flat = np.full((40, 40), 120, np.uint8)
    light, dark = looked(flat, (128, 128)), looked(np.full((40, 40), 40, np.uint8), (128, 128))
    stripes = flat.copy()
    stripes[::4] = 200
    assert light.shape == (1, LOOK)
    # Both histograms of a flat grey blob are of length 255; it has no edges.
    assert np.linalg.norm(light[0, :8].astype(float)) == pytest.approx(255, abs=2)
    assert light[0, 24:].sum() == 0
    assert apart(light, light) == pytest.approx(0, abs=1e-6)
    assert apart(light, looked(flat + 3, (128, 128))) < 0.1
    assert apart(light, dark) > 0.9
    assert apart(light, looked(flat, (128, 180))) > 0.9
    assert apart(light, looked(stripes, (128, 128))) > 0.5
    assert apart(light, np.zeros((1, LOOK))) == 0, "what nobody looked at is not unlike"


def walk(frames: int, places, looks=None) -> Detections:
    """One box a frame where ``places(frame)`` gives middles; ``looks(frame)`` rows of descriptors."""
    rows = [(f, x, y) for f in range(frames) for x, y in places(f)]
    table = np.array(rows, float).reshape(-1, 3)
    box = np.column_stack([table[:, 1] - 10, table[:, 2] - 10, table[:, 1] + 10, table[:, 2] + 10])
    found = Detections.from_boxes(
        table[:, 0].astype(np.int64), box.astype(np.float32), np.ones(len(table), np.float32), frame_count=frames,
        size=SIZE,
    )  # fmt: skip
    if looks is None:
        return found
    return replace(found, look=np.concatenate([looks(f) for f in range(frames)]).astype(np.uint8))


def live(**values: object) -> TrackSettings:
    recipe = with_value(Recipe(), "track.after.join", False)
    for path, value in values.items():
        recipe = with_value(recipe, "track." + path.replace("__", "."), value)
    return recipe.track


PALE, BLACK = np.eye(1, LOOK, 5) * 255, np.eye(1, LOOK, 0) * 255


def test_one_lost_for_longer_than_its_gap_comes_back_as_itself():
    """It goes behind a barn at x = 300 for 4 s and comes out where it went in; the longest gap is 1 s."""

    def here(f):
        return [(100 + 2 * f, 200)] if f < 100 else [(300, 200 + 2 * (f - 200))] if f >= 200 else []

    times = np.arange(300) / RATE
    found = walk(300, here)
    again = link_detections(found, times, RATE, live(life__longest_gap=1.0, life__return_within=8.0))
    assert again.paths.identity.tolist() == [1]
    assert (np.diff(np.sort(again.frame)) > 0).all(), "one row a frame"
    never = link_detections(found, times, RATE, live(life__longest_gap=1.0, life__return_within=0.0))
    assert never.paths.identity.tolist() == [1, 2]
    late = link_detections(found, times, RATE, live(life__longest_gap=1.0, life__return_within=3.0))
    assert late.paths.identity.tolist() == [1, 2]


def test_what_looks_another_way_does_not_come_back_as_it():
    def here(f):
        return [(100 + 2 * f, 200)] if f < 100 else [(300, 200 + 2 * (f - 200))] if f >= 200 else []

    def looks(f):
        return np.repeat(PALE if f < 100 else BLACK, len(here(f)), axis=0)

    settings = live(life__longest_gap=1.0, life__return_within=8.0, match__look_weight=0.5)
    times = np.arange(300) / RATE
    assert link_detections(walk(300, here, looks), times, RATE, settings).paths.identity.tolist() == [1, 2]
    same = walk(300, here, lambda f: np.repeat(PALE, len(here(f)), axis=0))
    assert link_detections(same, times, RATE, settings).paths.identity.tolist() == [1]


def test_two_that_meet_and_part_are_told_apart_by_their_looks():
    """Both stand in the same place unseen for a moment and come out crosswise; only the looks say which is which."""

    def here(f):
        if f < 50:
            return [(200 + f, 200), (300 - f, 200)]
        return [] if f < 60 else [(250 + (f - 60), 200), (250 - (f - 60), 200)]

    def swapped(f):
        first = PALE if f < 50 else BLACK
        other = BLACK if f < 50 else PALE
        return np.concatenate([first, other]) if here(f) else np.zeros((0, LOOK))

    found = walk(140, here, swapped)
    times = np.arange(140) / RATE
    for weight, as_seen in ((1.0, True), (0.0, False)):
        tracks = link_detections(found, times, RATE, live(match__look_weight=weight, blobs__share=False))
        pale = {int(tracks.identity[r]) for r in range(len(tracks))
                if tracks.detection[r] >= 0 and found.look[tracks.detection[r], 5] == 255}  # fmt: skip
        assert (len(pale) == 1) is as_seen


def test_a_change_of_look_is_a_moment():
    found = walk(80, lambda f: [(100 + 2 * f, 200)], lambda f: PALE if f < 40 else BLACK)
    times = np.arange(80) / RATE
    tracks = link_detections(found, times, RATE, live(match__look_weight=0.0))
    told = [m for m in find_moments(tracks, times, look=found.look) if m.kind == "look"]
    assert len(told) == 1 and abs(told[0].frame - 40) <= 1


# --- exits --------------------------------------------------------------------------------------------------


def test_points_in_polygons_and_hulls_by_hand():
    square = ((0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0))
    notch = ((0.0, 0.0), (4.0, 0.0), (4.0, 4.0), (2.0, 1.0), (0.0, 4.0))
    points = np.array([[0.5, 0.5], [1.5, 0.5], [2.0, 3.0], [3.5, 2.0]])
    assert inside_polygons(points, (square,)).tolist() == [True, False, False, False]
    assert inside_polygons(points, (notch,)).tolist() == [True, True, False, True]
    cloud = np.array([[0, 0], [2, 0], [2, 2], [0, 2], [1, 1], [1, 0]], float)
    assert convex_hull(cloud).tolist() == [[0, 0], [2, 0], [2, 2], [0, 2]]
    assert in_exits(np.zeros((0, 2)), (square,), SIZE).shape == (0,)


def test_a_barn_door_is_learnt_and_makes_births_and_ends_there_plain():
    """Twelve animals, one after the other, walk from the left edge to a door at (400, 240) and are gone."""

    def here(f):
        return [(5 + 5 * (f % 100), 240 + 3 * (f // 100 % 3))] if f % 100 < 80 else []

    times = np.arange(1200) / RATE
    tracks = link_detections(walk(1200, here), times, RATE, live(life__return_within=0.0))
    exits = learn_exits(tracks)
    assert len(exits) == 1
    middle = np.array(exits[0]).mean(axis=0) * SIZE
    assert middle == pytest.approx([400, 243], abs=20)
    before = {m.kind for m in find_moments(tracks, times)}
    after = {m.kind for m in find_moments(tracks, times, exits=exits)}
    assert "end" in before and "end" not in after


def test_one_that_leaves_by_an_exit_is_not_waited_for():
    def here(f):
        return [(100 + 3 * f, 240)] if f < 60 else [(280 + 3 * (f - 85), 240)] if f >= 85 else []

    door = [[[0.40, 0.4], [0.50, 0.4], [0.50, 0.6], [0.40, 0.6]]]
    times = np.arange(160) / RATE
    plain = link_detections(walk(160, here), times, RATE, live())
    gone = link_detections(walk(160, here), times, RATE, live(life__exits=door))
    assert plain.paths.identity.tolist() == [1]
    assert gone.paths.identity.tolist() == [1, 2]


# --- odd input ----------------------------------------------------------------------------------------------


def test_odd_input_is_told_in_plain_lines():
    plain = walk(60, lambda f: [(100 + f, 100)])
    times = np.arange(60) / RATE
    assert input_notes(plain, times) == ()
    assert "nothing was detected" in input_notes(walk(20, lambda f: []), times[:20])[0]
    crowd = walk(3, lambda f: [(k % 640, 1 + k // 640) for k in range(2000 if f == 1 else 1)])
    assert "2000 boxes in frame 2" in input_notes(crowd, times[:3])[0]
    twice = walk(10, lambda f: [(50, 50), (50, 50)])
    assert "10 boxes lie exactly on another" in input_notes(twice, times[:10])[0]
    flat = replace(plain, box=plain.box[:, [0, 1, 0, 3]])
    assert "60 boxes have no width or height, the first in frame 1" in input_notes(flat, times)[0]
    back = times.copy()
    back[30:35] -= 1.0
    assert "go back 1 times, first at frame 31" in input_notes(plain, back)[0]
    hole = times + np.where(np.arange(60) >= 30, 600.0, 0.0)
    assert "the longest 600 s after frame 30" in input_notes(plain, hole)[0]
