"""Bodies of which only a part is told from the ground: what goes along with it is found, and nothing else is."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import tracks_of
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import gaussian_filter

from drover.core.bodies.along import Extent, extent_of, what_goes_along
from drover.core.bodies.grid import GRID, Laid, cell_middles, line_at
from drover.core.bodies.lacking import Leg, lacking_legs
from drover.core.bodies.looks import cell_differences
from drover.core.bodies.reaching import reach_of
from drover.core.bodies.settle import settle
from drover.core.bodies.size_field import SizeField
from drover.core.detect_pass import detect_clip
from drover.core.errors import Cancelled
from drover.core.footage.reader import ClipReader
from drover.core.footage.writer import ClipWriter
from drover.core.geometry import pair_overlap
from drover.core.recipe import Recipe
from drover.core.second_look import _of_ends, _with_extents, look_again
from drover.core.types import Detections

RATE, FRAMES, SIZE = 25.0, 150, (320, 180)
TIMES = np.arange(FRAMES) / RATE
WIDE, TALL, HEAD = 30, 18, 7
SEEN, HIDDEN = (30, 75, 120), (52, 150)  # tops of ducks that are white, and of those of the water's colour


# --- what goes along ---------------------------------------------------------------------------------------------


def looks_of(seed: int, body: tuple[float, float, float, float] | None, shade: float, calm: float) -> np.ndarray:
    """Fifty looks at ground that ripples, with a body over it of which only the mean or the calm is seen."""
    rng = np.random.default_rng(seed)
    looks = rng.normal(0, 1, (50, 3, GRID, GRID)).astype(np.float32)
    if body is not None:
        u = cell_middles()
        inside = ((u > body[1]) & (u < body[3]))[:, None] & ((u > body[0]) & (u < body[2]))[None, :]
        looks[:, :, inside] = shade + calm * looks[:, :, inside]
    core = np.abs(cell_middles()) < 0.15
    looks[:, 0, core[:, None] & core[None, :]] = 12.0
    return looks


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 1000), st.sampled_from([(-0.15, 0.85), (-0.85, 0.15)]), st.sampled_from([(0.7, 1.0), (0.1, 0.3)]))
def test_a_body_is_found_by_its_shade_or_by_the_ripples_that_are_missing(seed, across, way):
    body = (across[0], -0.15, across[1], 0.85)
    told = what_goes_along(looks_of(seed, body, *way), np.ones((50, GRID, GRID), np.bool_))
    assert told is not None
    extent = extent_of(*told, (0.3, 0.3))
    assert extent is not None and extent.edge > 1.4
    assert np.abs(np.array(extent.box) - body).max() < 0.16, "two cells"


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 1000))
def test_what_is_small_and_whole_does_not_grow(seed):
    told = what_goes_along(looks_of(seed, None, 0.0, 1.0), np.ones((50, GRID, GRID), np.bool_))
    assert told is not None
    extent = extent_of(*told, (0.3, 0.3))
    assert extent is None or extent.edge < 1.4 or max(np.abs(extent.box)) < 0.32


def test_somebody_beside_is_not_taken_for_a_part_and_too_little_ground_says_nothing():
    looks = looks_of(3, (0.15, -0.5, 0.8, 0.5), 2.0, 1.0)
    free = np.ones((50, GRID, GRID), np.bool_)
    free[:, :, cell_middles() > 0.15] = False
    told = what_goes_along(looks, free)
    assert told is not None
    extent = extent_of(*told, (0.3, 0.3))
    assert extent is None or extent.box[2] < 0.3
    free[:, np.abs(cell_middles()) > 0.9] = False
    free[:, :, np.abs(cell_middles()) > 0.9] = False
    assert what_goes_along(looks, free) is None


# --- what stands out ---------------------------------------------------------------------------------------------

SEEN_OF_IT = (0.3, 0.4)  # of a body's width and height
EVERYWHERE = np.ones((50, GRID, GRID), np.bool_)


def coat_and(seed: int, *parts: tuple[float, float, float, float, float], light: float = 0.3) -> Laid:
    """Fifty looks at a coat that differs by 8 on restless ground, with ``parts``: x1, y1, x2, y2, and by how much.

    All of them leave a share ``light`` of the ground's.
    """
    rng, u = np.random.default_rng(seed), cell_middles()
    looks = rng.normal(0, 1.5, (50, 3, GRID, GRID)).astype(np.float32)
    lights = np.ones((50, GRID, GRID), np.float32)
    for x1, y1, x2, y2, differ in (*parts, (-0.15, -0.2, 0.15, 0.2, 8.0)):
        inside = ((u > y1) & (u < y2))[:, None] & ((u > x1) & (u < x2))[None, :]
        looks[:, 0, inside], lights[:, inside] = differ, light
    return Laid(looks, lights, EVERYWHERE)


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 1000), st.booleans())
def test_head_and_legs_that_stand_out_belong_to_a_coat(seed, below):
    head, legs = (-0.075, -0.45, 0.075, -0.3, -7.0), (-0.15, 0.2, 0.15, 0.8, 4.0)
    reach = reach_of(coat_and(seed, head, *([legs] if below else [])), SEEN_OF_IT)
    # To a cell, and over a bright collar.
    assert reach == pytest.approx([0.0, 0.25, 0.0, 0.6 if below else 0.0], abs=0.08)


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 1000))
def test_the_rim_of_a_whole_body_somebody_beside_it_and_what_lies_further_off_do_not(seed):
    rim, other = (-0.3, -0.4, 0.3, 0.4, 2.0), (-0.15, 0.25, 0.15, 0.8, 8.0)
    free = EVERYWHERE.copy()
    free[:, cell_middles() > 0.25] = False
    reach = reach_of(replace(coat_and(seed, rim, other), free=free), SEEN_OF_IT)
    assert reach is not None and not reach.any()
    further = (-0.15, -0.75, 0.15, -0.5, 8.0)
    reach = reach_of(coat_and(seed, further), SEEN_OF_IT)
    assert reach is not None and not reach.any()
    free[:, np.abs(cell_middles()) > 0.9] = False
    free[:, :, np.abs(cell_middles()) > 0.9] = False
    assert reach_of(replace(coat_and(seed), free=free), SEEN_OF_IT) is None, "too little ground"


@pytest.mark.parametrize(("differ", "light", "below"), [(-5.0, 0.8, 0.0), (-5.0, 0.3, 0.6), (5.0, 1.4, 0.6)])
def test_what_may_be_its_shadow_is_none_of_it_where_there_are_shadows(differ, light, below):
    laid = coat_and(1, (-0.15, 0.2, 0.15, 0.8, differ), light=light)
    assert reach_of(laid, SEEN_OF_IT, 0.5) == pytest.approx([0.0, 0.0, 0.0, below], abs=0.08)
    assert reach_of(laid, SEEN_OF_IT) == pytest.approx([0.0, 0.0, 0.0, 0.6], abs=0.08), "legs, where there are none"


def test_how_wide_it_is_is_asked_once_more_of_it_is_known():
    legs = (-0.45, 0.2, 0.45, 0.8, 8.0)
    assert reach_of(coat_and(1, legs), SEEN_OF_IT) == pytest.approx([0.3, 0.0, 0.3, 0.6], abs=0.08)
    beside = coat_and(1, (-0.45, -0.2, 0.45, 0.2, 8.0))
    assert not reach_of(beside, SEEN_OF_IT).any(), "a shadow"


def test_a_cell_s_light_is_that_of_its_pixels_to_the_empty_scene():
    seen, empty = np.full((4, 6), 60, np.uint8), np.full((4, 6), 120, np.uint8)
    seen[:, 3:], empty[:, 5] = 150, 0
    noise = np.full((4, 6), 32, np.uint8)
    _, lights = cell_differences(seen, empty, noise, np.array([1.0, 3.0, 5.0]), np.array([2.0]), (2.0, 2.0))
    assert lights[0].tolist() == pytest.approx([0.5, (60 + 150) / 240, 300.0 / 120])


def test_a_cell_holds_the_mean_of_its_pixels_in_multiples_of_their_noise():
    seen = np.zeros((4, 6), np.uint8)
    seen[:2, :3] = [[10, 12, 90], [14, 16, 90]]
    noise = np.full((4, 6), 32, np.uint8)  # two levels
    cells, _ = cell_differences(
        seen, np.full((4, 6), 10, np.uint8), noise, np.array([1.0, 2.5, 90.0]), np.array([1.0]), (2.0, 2.0)
    )
    # Means of 0, 1, 2 and 3; one px column of what differs by 40, cut at 30; beyond the edge the last pixel.
    assert cells[0, 0] == pytest.approx(1.5)
    assert cells[0, 1] == pytest.approx((30 + 30 - 5 - 5) / 4)
    assert cells[0, 2] == pytest.approx(-5.0)


# --- who is looked at --------------------------------------------------------------------------------------------


def legs_of(wide: float, tall: float, *, full: int = 0, x: float = 100.0) -> tuple[int, int]:
    """How many legs of a life of 150 pictures, ``full`` of them in full, are looked at, and how many of those as far
    too small; bodies are 20 by 40 px."""
    rows = []
    for k in range(FRAMES):
        w, t = (20.0, 40.0) if k < full else (wide, tall)
        rows.append((k, 1, (x + k - w / 2, 120 - t, x + k + w / 2, 120.0)))
    box = np.array([row[2] for row in rows], np.float32)
    found = Detections.from_boxes(np.arange(FRAMES), box, np.ones(FRAMES, np.float32), frame_count=FRAMES, size=SIZE)
    legs = lacking_legs(found, tracks_of(rows, FRAMES, size=SIZE), TIMES, SizeField((40.0, 0.0), (20.0, 0.0), 0.1))
    return len(legs), sum(leg.lacking for leg in legs)


def test_pieces_and_bodies_without_an_end_are_far_too_small_and_children_are_not():
    assert legs_of(6, 12) == (3, 3), "a head"
    assert legs_of(19, 26) == (3, 3), "as wide as others, without legs"
    assert legs_of(12, 24) == (3, 0), "smaller both ways: a child, or lost in shade above and below"
    assert legs_of(19, 12) == (3, 0), "as wide and a third as tall: something else, as a hen between walkers"
    assert legs_of(20, 36) == (0, 0), "whole"
    assert legs_of(3, 6) == (3, 0), "a child far away, or a head"
    assert legs_of(1.5, 6) == legs_of(6, 3) == (0, 0), "something else"
    assert legs_of(6, 12, full=110) == (0, 0), "seen in full for most of its life"
    assert legs_of(6, 12, x=-20.0) == (2, 2), "the first leg is at the edge, and says nothing"


def test_who_has_lost_the_legs_is_held_against_those_that_stand_where_they_would():
    field = SizeField((-40.0, 0.5), (-20.0, 0.25), 0.1)  # 20 px tall at level 120, 60 at 200
    whole = np.array([[100.0, 140.0, 130.0, 200.0]])
    wide, tall = field.of_part(whole - [0, 0, 0, 30.0])
    assert (wide[0], tall[0]) == pytest.approx((30.0, 60.0))
    assert field.of(whole)[1][0] == pytest.approx(60.0)


def turning(*shares: tuple[float, float, int]) -> list[Leg]:
    """Legs of two seconds each of one life, that show so much of a usual width and height and go to a side."""
    rows, x = [], 150.0
    for wide, tall, way in shares:
        for _ in range(50):
            x += way
            rows.append((len(rows), 1, (x - 10 * wide, 120 - 40 * tall, x + 10 * wide, 120.0)))
    box, n = np.array([row[2] for row in rows], np.float32), len(rows)
    found = Detections.from_boxes(np.arange(n), box, np.ones(n, np.float32), frame_count=n, size=SIZE)
    field = SizeField((40.0, 0.0), (20.0, 0.0), 0.1)
    return lacking_legs(found, tracks_of(rows, n, size=SIZE), np.arange(n) / RATE, field)


def test_a_leg_that_shows_too_little_is_filled_from_those_that_show_as_much_of_the_same_side():
    legs = turning((0.25, 0.22, 1), (0.25, 0.18, 1), (0.25, 0.24, 1), (0.25, 0.22, -1), (0.45, 0.5, 1))
    assert [leg.part for leg in legs] == [True] * 4 + [False], "the last is smaller both ways: a child"
    assert [leg.lacking for leg in legs] == [True, False, True, True, False]
    reach = {0: (-0.9, -0.3, 0.2, 0.7), 2: (-0.7, -0.3, 0.2, 0.9)}
    told = [(leg, Extent(reach[k], 2.0) if k in reach else None) for k, leg in enumerate(legs[:4])]
    grown = {int(leg.frame[0]): (*low, *high) for leg, low, high in _of_ends(told)}
    assert grown == {k: pytest.approx((-0.8, -0.3, 0.2, 0.8)) for k in (0, 50, 100)}, "not where it goes back"


def test_what_passes_by_one_leg_says_nothing_of_how_far_a_body_reaches():
    """Five legs show a body to the left, above and below; beside one of them somebody else goes along."""
    legs, told = turning(*[(0.3, 0.4, 1)] * 5), []
    own, other = np.zeros((GRID, GRID), bool), np.zeros((GRID, GRID), bool)
    own[line_at(-0.4) : line_at(0.6), line_at(-0.8) : line_at(0.2)] = True
    other[line_at(-0.4) : line_at(0.6), line_at(0.3) : line_at(0.9)] = True
    for k, leg in enumerate(legs):
        clear = np.where(own, 7.0, np.where(other & (k == 2), 60.0, 1.0))
        told.append((leg, (clear, np.ones((GRID, GRID), bool))))
    reach = [extent for _, extent in _with_extents(told)]
    assert all(one is not None and one.box == pytest.approx((-0.8, -0.4, 0.2, 0.6), abs=0.1) for one in reach)


def test_where_bodies_are_not_of_a_size_nothing_is_looked_at_again():
    """The clip is not even asked: there is none."""
    found = Detections.from_boxes(np.zeros(1, int), np.array([[0, 0, 9, 9.0]]), np.ones(1), frame_count=1, size=SIZE)
    tracks = tracks_of([(0, 1, (0, 0, 9, 9))], 1, size=SIZE)
    mixed = SizeField((40.0, 0.0), (20.0, 0.0), 0.3)
    assert look_again(None, None, found, tracks, np.zeros(1), mixed) is found  # type: ignore[arg-type]


# --- a clip ------------------------------------------------------------------------------------------------------


def place(k: int, top: int) -> tuple[int, int, int, int]:
    """The true box of a duck that swims to the right, more slowly the lower it is."""
    x = int(20 + (1.6 - top / 200) * k)
    return x, top, x + WIDE, top + TALL


@pytest.fixture(scope="module")
def pond(tmp_path_factory: pytest.TempPathFactory):
    """A clip of rippling water with white ducks and some of its own colour, whose heads alone are dark."""
    path = tmp_path_factory.mktemp("pond") / "pond.mp4"
    rng = np.random.default_rng(5)
    with ClipWriter(path, width=SIZE[0], height=SIZE[1], rate=RATE, preset="ultrafast", quality=12) as out:
        for k in range(FRAMES):
            ripple = gaussian_filter(rng.normal(0, 1, (SIZE[1], SIZE[0])), (1.0, 3.0))
            picture = 110 + 6.0 * ripple / ripple.std()
            for top in (*SEEN, *HIDDEN):
                x1, y1, x2, y2 = place(k, top)
                picture[y1:y2, x1:x2] = 190.0 if top in SEEN else 112.0
                picture[y1 : y1 + HEAD, x2 - HEAD : x2] = 30.0
            picture = picture + rng.normal(0, 1.2, picture.shape)
            out.add(np.clip(picture, 0, 255).astype(np.uint8)[..., None].repeat(3, axis=2))
    with ClipReader(path) as reader:
        clip = reader.info
    return clip, detect_clip(clip, Recipe().detect)


def overlaps(found: Detections, top: int) -> np.ndarray:
    """The best overlap with a duck in each picture."""
    out = []
    for k in range(FRAMES):
        truth = np.array([place(k, top)], np.float32)
        rows = range(found.frame_start[k], found.frame_start[k + 1])
        out.append(max((pair_overlap(truth, 0, found.box, d) for d in rows), default=0.0))
    return np.array(out)


def settled(clip, result, **more) -> Detections:
    def again(found, tracks, field):
        return look_again(result, clip, found, tracks, clip.times, field, **more)

    return settle(result.detections, clip.times, clip.rate, Recipe().detect.bodies, look_again=again)


def test_ducks_of_the_water_s_colour_are_boxed_whole_and_white_ones_stay_as_they_are(pond):
    clip, result = pond
    once = settle(result.detections, clip.times, clip.rate, Recipe().detect.bodies)
    again = settled(clip, result)
    for top in HIDDEN:
        assert np.median(overlaps(once, top)) < 0.3, "heads alone"
        assert (overlaps(again, top) >= 0.5).mean() > 0.85
    for top in SEEN:
        assert overlaps(again, top) == pytest.approx(overlaps(once, top))
    assert np.array_equal(again.frame_start, once.frame_start) and again.runs is once.runs


def test_it_is_stopped_on_the_way_and_looks_at_nothing_where_no_scene_is_kept(pond):
    clip, result = pond
    with pytest.raises(Cancelled):
        settled(clip, result, cancelled=lambda: True)
    unknown = settled(clip, replace(result, checkpoints=()))
    assert np.array_equal(unknown.box, settle(result.detections, clip.times, clip.rate, Recipe().detect.bodies).box)
