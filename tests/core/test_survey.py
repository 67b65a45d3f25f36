"""What a clip says of itself: the empty scene, its noise, shadows; and what hangs on it."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage
from surveys import shots, surveyed

from drover.core.detect.background_kernels import mark_moving
from drover.core.detect.bitmask import words_for
from drover.core.detect.colour import join_differences
from drover.core.detect.detector import Detector
from drover.core.detect.hysteresis import held_together
from drover.core.errors import DroverError
from drover.core.footage.reader import ClipReader
from drover.core.footage_types import Frame
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.kept_surveys import KeptSurveys
from drover.core.recipe import DetectSettings, Recipe, with_value
from drover.core.simulate.boxes import simulate_boxes
from drover.core.simulate.names import WORLD_NAMES
from drover.core.simulate.worlds.casting import Options
from drover.core.simulate.worlds.scenes import WORLDS, build_world
from drover.core.simulate.worlds.world import draw_world, write_world
from drover.core.survey.empty_scene import find_empty_scene, in_one_light
from drover.core.survey.resolve import resolve_detect
from drover.core.survey.samples import Samples
from drover.core.survey.standing import put_ground_back
from drover.core.survey.survey import survey_of
from drover.core.survey_pass import read_samples, survey_clip
from drover.core.track.cells import cells_between, into_cells
from drover.core.track.travel import drop_flicker, drop_unmoved, travelled
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections


def true_ground(seed: int) -> np.ndarray:
    return np.kron(np.random.default_rng(seed).uniform(60, 150, (8, 12)), np.ones((8, 8)))


# --- the empty scene ------------------------------------------------------------------------------------------


@settings(max_examples=15)
@given(st.integers(0, 500), st.sampled_from([2.0, 4.0, 8.0]))
def test_noise_and_ground_are_measured_back(seed, noise):
    empty = find_empty_scene(shots(seed, noise=noise))
    assert np.abs(empty.grey - true_ground(seed)).mean() < noise
    assert float(np.median(empty.noise)) == pytest.approx(noise, rel=0.3)


@settings(max_examples=10)
@given(st.integers(0, 500), st.integers(18, 28), st.booleans(), st.booleans())
def test_who_is_there_from_the_start_or_to_the_end_is_told_from_the_ground_he_hides(seed, stays, comes, grey):
    """He stands there for most of the time: only that he breaks off at his outline tells what he is."""

    def put(k, picture):
        if (k >= 32 - stays) if comes else (k < stays):
            picture[18:47, 40:57] = 215

    empty = find_empty_scene(seen := shots(seed, put=put, grey=grey))
    hidden = np.abs(empty.grey - true_ground(seed))[20:45, 42:55].mean()
    assert hidden > 20, "he is taken for ground at first"
    seen = Samples(seen.grey, None, seen.time) if grey else seen
    empty = find_empty_scene(seen)
    scene, places = put_ground_back(seen, empty)
    assert places == 1
    away = np.abs(scene.grey - true_ground(seed))
    assert away[20:45, 42:55].mean() < 2.5 and away[18:47, 40:57].mean() < 4.0
    assert float(np.median(scene.noise[18:47, 40:57])) < 3.0, "nor does he leave the place restless"
    np.testing.assert_array_equal(scene.grey[:, :30], empty.grey[:, :30])


@pytest.mark.parametrize("kind", ["arrives late", "soft light", "passes"])
def test_what_is_no_ground_behind_somebody_is_not_put_back(kind):
    def put(k, picture):
        if kind == "arrives late" and k >= 26:
            picture[18:47, 40:57] = 215
        elif kind == "soft light" and k >= 14:
            y, x = np.mgrid[:64, :96]
            picture *= 1 + 0.6 * np.exp(-(((y - 32) / 16) ** 2) - ((x - 48) / 16) ** 2)
        elif kind == "passes":
            picture[20:44, 3 * k : 3 * k + 12] = 220

    seen = shots(3, put=put)
    empty = find_empty_scene(seen)
    scene, places = put_ground_back(seen, empty)
    assert places == 0 and scene is empty


@settings(max_examples=15)
@given(st.integers(0, 500), st.integers(0, 20), st.integers(8, 11))
def test_whoever_stands_for_a_third_of_the_time_is_not_the_ground(seed, first, lasts):
    """In the way for some pictures in a row, at the start, in the middle or near the end."""

    def put(k, picture):
        if first <= k < first + lasts:
            picture[20:44, 30:50] = 230

    empty = find_empty_scene(shots(seed, put=put))
    inside = np.abs(empty.grey - true_ground(seed))[22:42, 32:48]
    assert float(np.median(inside)) < 4.0
    assert float(np.median(empty.noise[22:42, 32:48])) < 6.0, "nor is it restlessness"


def test_one_that_stands_in_the_middle_of_the_time_for_more_than_half_of_it_is_not_the_ground_either():
    def put(k, picture):
        if 6 <= k < 24:
            picture[20:44, 30:50] = 230

    empty = find_empty_scene(shots(4, put=put))
    assert float(np.median(np.abs(empty.grey - true_ground(4))[22:42, 32:48])) < 4.0


def test_what_flickers_is_noisier_than_what_is_quiet():
    rng = np.random.default_rng(9)

    def put(k, picture):
        picture[:, 48:] += rng.normal(0, 14, (64, 48))

    empty = find_empty_scene(shots(3, put=put))
    assert np.median(empty.noise[:, 56:]) > 5 * np.median(empty.noise[:, :40])
    assert np.median(empty.restless[:, :40]) < 1.0


def test_a_cloud_that_passes_is_no_noise():
    def put(k, picture):
        picture *= 1.0 - 0.25 * np.exp(-(((np.arange(96) - 3.5 * k + 5) / 18) ** 2))

    lit, plain = shots(5, put=put), shots(5)
    calm = float(np.median(find_empty_scene(in_one_light(lit)).noise))
    assert calm < 1.6 * float(np.median(find_empty_scene(plain).noise))
    assert calm < 0.7 * float(np.median(find_empty_scene(lit).noise))


def test_things_are_found_from_the_first_picture_and_one_that_stands_there_leaves_no_ghost():
    def put(k, picture):
        if k < 6:
            picture[20:44, 30:50] = 230

    samples = shots(6, put=put)
    detector = Detector(DetectSettings(), (96, 64), find_empty_scene(samples))

    def found(k: int) -> np.ndarray:
        grey, chroma = samples.grey[k], samples.chroma[k]
        return detector.step(Frame(k, k / 25, lambda: grey, lambda: np.dstack([grey] * 3), lambda: chroma)).box

    first = found(0)
    assert len(first) == 1
    assert np.abs(first[0] - [30, 20, 50, 44]).max() <= 2
    for k in range(1, 6):
        found(k)
    assert all(len(found(k)) == 0 for k in range(6, 20))


# --- one measure of difference --------------------------------------------------------------------------------


@given(st.integers(0, 10_000))
def test_brightness_and_colours_join_as_the_root_of_their_squares(seed):
    rng = np.random.default_rng(seed)
    colour, grey = rng.integers(0, 160, (2 * 4, 6)).astype(np.uint8), rng.integers(0, 255, (8, 12)).astype(np.uint8)
    want = np.empty((8, 12))
    for y in range(8):
        for x in range(12):
            parts = float(grey[y, x]), float(colour[y // 2, x // 2]), float(colour[4 + y // 2, x // 2])
            want[y, x] = min(np.sqrt(sum(p * p for p in parts)), 255.0)
    join_differences(colour, grey, 0, len(colour) // 2)
    assert np.abs(grey - want).max() <= 1.0


def packed(mask: np.ndarray) -> np.ndarray:
    words = words_for(*mask.shape)
    mark_moving(np.where(mask, 255, 0).astype(np.uint8), 100.0, words)
    return words


def test_the_weak_hangs_on_the_strong_and_a_bridge_between_two_is_cut():
    weak, strong = np.zeros((40, 100), np.bool_), np.zeros((40, 100), np.bool_)
    weak[5:35, 10:24] = weak[5:35, 30:44] = True  # two bodies
    weak[18:22, 24:30] = True  # and a faint bridge
    strong[8:30, 12:22] = strong[8:30, 32:42] = True
    weak[5:15, 70:90] = True  # nothing strong in it
    found = held_together(packed(weak), packed(strong), np.full((40, 100), 60, np.uint8), 4.0)
    assert len(found.box) == 2
    assert found.box[0].tolist()[:2] == [10, 5] and found.box[1].tolist()[2:] == [44, 35]
    assert found.area.sum() == weak[:, :60].sum(), "no pixel is lost or twice"


def test_head_coat_and_legs_are_one_body():
    weak, strong = np.zeros((60, 40), np.bool_), np.zeros((60, 40), np.bool_)
    weak[5:55, 10:26] = True
    strong[6:12, 14:20] = strong[16:34, 11:25] = strong[40:54, 12:17] = True
    found = held_together(packed(weak), packed(strong), np.full((60, 40), 60, np.uint8), 4.0)
    assert found.box.tolist() == [[10, 5, 26, 55]]


@given(st.integers(0, 10_000), st.floats(0.3, 0.6), st.floats(0.1, 0.5))
def test_what_is_held_together_is_whole_blobs_of_the_weak(seed, share, part):
    rng = np.random.default_rng(seed)
    weak = ndimage.binary_opening(rng.random((40, 100)) < share + 0.2)
    strong = weak & (rng.random((40, 100)) < part)
    found = held_together(packed(weak), packed(strong), np.full((40, 100), 60, np.uint8), 1.0)
    mask = np.zeros((40, 100), int)
    for y, a, b in found.runs:
        mask[y, a:b] += 1
    assert mask.max(initial=0) <= 1
    label, count = ndimage.label(weak, np.ones((3, 3)))
    for number in range(1, count + 1):
        blob = label == number
        held = strong[blob].sum() >= max(1.0, 0.12 * blob.sum())
        assert (mask[blob] == int(held)).all()


# --- settings on auto -----------------------------------------------------------------------------------------


def test_auto_takes_what_the_clip_says_and_what_was_set_stays():
    auto, plain = Recipe().detect, surveyed()
    assert auto.shadow.mode == "auto"
    assert resolve_detect(auto, surveyed(grey=True)).shadow.mode == "off"
    assert resolve_detect(auto, plain).shadow.darkest == 0.75
    assert resolve_detect(auto, plain).shadow.sharpest < 1.0
    assert resolve_detect(auto, plain, steadied=True).shadow.sharpest == 2.0, "every grain of it has a rim"
    set_by_hand = with_value(Recipe(), "detect.shadow.mode", "drop").detect
    assert resolve_detect(set_by_hand, plain, steadied=True).shadow == set_by_hand.shadow
    assert resolve_detect(auto, surveyed(contrast=8.0, restless=0.0)).background.weak_share == 0.5
    assert resolve_detect(auto, surveyed(contrast=8.0, restless=0.6)).background.weak_share == 0.7
    assert resolve_detect(auto, surveyed(contrast=30.0)).background.weak_share == 0.7
    assert [resolve_detect(auto, surveyed(grey=grey)).background.look_at for grey in (True, False)] == [
        "grey",
        "colour",
    ]
    said = with_value(with_value(Recipe(), "detect.shadow.mode", "keep"), "detect.background.weak_share", 0.9)
    said = with_value(said, "detect.background.look_at", "colour").detect
    made = resolve_detect(said, plain)
    assert (made.shadow, made.background.weak_share, made.background.look_at) == (said.shadow, 0.9, "colour")
    taken = resolve_detect(auto, None)
    assert resolve_detect(taken, plain) == taken, "once taken it is the same for ever"


def test_a_survey_says_in_words_what_follows():
    assert any("grey" in line for line in surveyed(grey=True).words)
    assert any("restless" in line for line in surveyed(restless=0.4).words)
    assert json.dumps(surveyed().facts)


def test_too_few_pictures_say_nothing(short_info):
    assert read_samples(short_info, 0, 4) is None
    samples = read_samples(short_info)
    assert samples is not None and 8 <= len(samples) <= 40
    assert (np.diff(samples.time) > 0).all()
    assert survey_clip(short_info).shadows.cast is False


# --- what travels and what flickers ---------------------------------------------------------------------------


def with_blobs(found: Detections) -> Detections:
    """The same boxes with an outline each: as found by motion."""
    n = len(found)
    columns = {name: getattr(found, name) for name in found.__dataclass_fields__}
    columns["runs"], columns["run_start"] = np.zeros((n, 3), np.int16), np.arange(n + 1, dtype=np.int64)
    return Detections(**columns)


def one_path(points: list[tuple[float, float]], confidence: float = 0.8) -> Detections:
    box = np.array([[x - 10, y - 10, x + 10, y + 10] for x, y in points], np.float32)
    n = len(box)
    return Detections.from_boxes(np.arange(n), box, np.full(n, confidence, np.float32), frame_count=n, size=(400, 300))


def test_one_that_stays_where_it_is_is_no_object_unless_it_is_asked_for():
    rng = np.random.default_rng(2)
    stays = one_path([(100 + a, 100 + b) for a, b in rng.normal(0, 1.5, (80, 2))])
    goes = one_path([(100 + k, 100) for k in range(80)])
    times = np.arange(80) / 25
    for found, kept in ((with_blobs(stays), 0), (with_blobs(goes), 1), (stays, 1)):
        tracks = link_detections(found, times, 25.0, Recipe().track)
        assert len(tracks.paths.identity) == kept, "boxes of another detector are objects, moved or not"
    asked = with_value(Recipe(), "track.after.least_travel", 0.0).track
    assert len(link_detections(with_blobs(stays), times, 25.0, asked).paths.identity) == 1
    far = travelled(link_detections(goes, times, 25.0, asked))
    assert far.tolist() == pytest.approx([79 / 20], rel=0.2)


def test_sparks_that_were_linked_are_told_from_a_walk():
    rng = np.random.default_rng(3)
    sparks = one_path([(100 + a, 100 + b) for a, b in rng.uniform(-9, 9, (60, 2))], confidence=0.48)
    walk = one_path([(50 + 2 * k, 100 + rng.normal(0, 0.5)) for k in range(150)], confidence=0.48)
    times = np.arange(150) / 25
    plain = with_value(with_value(Recipe(), "track.after.drop_flicker", False), "track.after.least_travel", 0.0).track
    for found, kept in ((sparks, False), (walk, True)):
        tracks = link_detections(found, times, 25.0, plain)
        assert len(tracks) > 0
        assert (len(drop_flicker(tracks, found, times)) > 0) is kept


def test_identities_stay_without_gaps_when_some_are_dropped():
    found, _ = simulate_boxes(12, 60, seed=3)
    tracks = link_detections(found, np.arange(60) / 25, 25.0, Recipe().track)
    far = travelled(tracks)
    kept = drop_unmoved(tracks, float(np.median(far)))
    assert sorted(set(kept.identity.tolist())) == list(range(1, int((far >= np.median(far)).sum()) + 1))
    assert (travelled(kept) >= np.median(far)).all()


@given(st.integers(0, 10_000), st.integers(0, 40))
def test_cells_hold_every_box_once_and_those_near_a_place_are_among_them(seed, count):
    rng = np.random.default_rng(seed)
    low = rng.uniform(0, 500, (count, 2))
    box = np.hstack([low, low + rng.uniform(2, 40, (count, 2))]).astype(np.float32)
    order, start, corner, side, columns, rows = into_cells(box)
    assert sorted(order.tolist()) == list(range(count))
    assert start[-1] == count and (np.diff(start) >= 0).all()
    x, y, reach = *rng.uniform(0, 500, 2), rng.uniform(1, 200)
    first, past = cells_between(x, reach, corner[0], side, columns)
    top, bottom = cells_between(y, reach, corner[1], side, rows)
    near = {
        int(order[k]) for r in range(top, bottom) for k in range(start[r * columns + first], start[r * columns + past])
    }
    middle = (box[:, :2].astype(float) + box[:, 2:]) / 2
    inside = (np.abs(middle[:, 0] - x) <= reach) & (np.abs(middle[:, 1] - y) <= reach)
    assert set(np.flatnonzero(inside).tolist()) <= near


# --- worlds ---------------------------------------------------------------------------------------------------


def test_every_world_can_be_drawn_and_its_truth_is_inside_the_picture():
    assert tuple(WORLDS) == WORLD_NAMES
    for name in WORLD_NAMES:
        world = build_world(name, Options(seed=3, seconds=4.0, width=320, rate=2.5))
        shapes, rows = set(), []
        for picture, more in draw_world(world):
            shapes.add(picture.shape)
            rows += more
        assert shapes == {(180, 320, 3)}
        assert bool(rows) == (not name.startswith("empty"))
        table = np.array(rows, float).reshape(-1, 8)
        assert (table[:, 2:6] >= 0).all() and (table[:, 4] <= 320).all() and (table[:, 5] <= 180).all()
    with pytest.raises(DroverError, match="choose one of: pond"):
        build_world("moor")


def test_a_small_dark_yard_is_worked_through_well_with_no_dial_touched(tmp_path):
    """A floor under the defaults, on a world drawn small: walkers are found, and keep who they are."""
    from drover.core.run import run_clip
    from drover.core.score.detection import score_detections

    write_world(build_world("dusty", Options(seed=7, seconds=8.0, width=480)), tmp_path)
    with ClipReader(tmp_path / "dusty.mp4") as reader:
        clip = reader.info
    truth = read_truth(tmp_path / "truth.csv", frame_count=clip.frame_count)
    assert read_crossings(tmp_path / "crossings.csv").line_names == ("Line",)
    run = run_clip(clip, Recipe(), truth=truth)
    score = score_detections(run.detect.detections, truth)
    assert score.f1 > 0.7
    assert run.score.identity.idf1 > 0.55
    assert run.detect.taken.shadow.mode in ("drop", "off")
    assert run.detect.said


def test_a_clip_looked_over_lately_is_not_looked_over_again():
    survey = survey_of(shots(0))
    size = sum(plane.nbytes for plane in (survey.empty.grey, survey.empty.noise, survey.empty.restless))
    size += sum(0 if plane is None else plane.nbytes for plane in (survey.empty.chroma, survey.empty.chroma_noise))
    kept, made = KeptSurveys(2 * size), []

    def make(name):
        made.append(name)
        return survey

    for name in ("a", "b", "a", "b", "c", "b", "a"):  # c takes the place of a, which was asked for longest ago
        assert kept.get(name, lambda name=name: make(name)) is survey
    assert made == ["a", "b", "c", "a"]
    small = KeptSurveys(size - 1)
    for _ in range(2):
        assert small.get("a", lambda: make("large")) is survey
        assert kept.get("none", lambda: None) is None
    assert made[4:] == ["large", "large"], "what is too large is made each time"
