"""Settings left to the clip: clean-up from what moves, reach and patience from a first look; hand-worked."""

from __future__ import annotations

import re

import numpy as np
import pytest
from surveys import shots, surveyed

from drover.core.recipe import AUTO, Recipe, as_taken, is_auto, value_of, with_value
from drover.core.setting_info import numeric_info, settings_of, taken_words
from drover.core.survey.movers import NOTHING, sizes_of_blobs, what_moves
from drover.core.survey.resolve import resolve_detect
from drover.core.survey.survey import Survey, survey_of
from drover.core.track.measured_pace import measured_pace
from drover.core.track.pace import USUAL, left_to_the_clip, with_pace
from drover.core.track.reach import gate_of, hits_of
from drover.core.types import Detections

RATE, SIZE = 25.0, 50.0


def on_auto(recipe: Recipe) -> list[str]:
    """Every numeric setting of a recipe that is left to the clip."""
    return [
        path
        for path, model, name in settings_of()
        if (info := numeric_info(path, model, name)) is not None and info.auto and is_auto(value_of(recipe, path))
    ]


def walkers(off: np.ndarray, *, step: float = 4.0) -> Detections:
    """Eight walk evenly beside each other for eight seconds; ``off`` (frames, 8) px their boxes are put aside."""
    frames, count = off.shape
    box = np.empty((frames, count, 4), np.float32)
    left = 40 + step * np.arange(frames)[:, None] + off
    box[..., 0], box[..., 2] = left, left + SIZE
    box[..., 1] = 30 + 90 * np.arange(count)
    box[..., 3] = box[..., 1] + SIZE
    return Detections.from_boxes(
        np.repeat(np.arange(frames), count), box.reshape(-1, 4), np.ones(frames * count, np.float32),
        frame_count=frames, size=(1280, 800),
    )  # fmt: skip


# --- what was taken -------------------------------------------------------------------------------------------


def test_all_that_is_left_to_the_clip_is_taken_somehow_and_what_was_set_stays():
    recipe = Recipe()
    left = on_auto(recipe)
    assert {path.split(".")[0] for path in left} == {"detect", "track"}
    assert all(f"track.{part}" in left for part in ("match.gate", "life.longest_gap", "after.join_within"))
    for known in (None, surveyed(), surveyed(moving_size=12.0)):
        taken = resolve_detect(recipe.detect, known)
        assert not on_auto(Recipe(detect=taken, track=with_pace(recipe.track, USUAL)))
    for path in left:
        low = next(numeric_info(p, m, n) for p, m, n in settings_of() if p == path).low
        said = with_value(recipe, path, int(low + 1) if "hits" in path or "cleanup" in path else low + 0.5)
        made = Recipe(detect=resolve_detect(said.detect, surveyed()), track=with_pace(said.track, USUAL))
        assert value_of(made, path) == value_of(said, path), path
    assert left_to_the_clip(recipe.track) and not left_to_the_clip(with_pace(recipe.track, USUAL))


def test_as_taken_fills_in_only_what_is_on_auto():
    said = with_value(Recipe(), "track.match.gate", 3.0).track
    taken = with_pace(Recipe().track, USUAL)
    made = as_taken(said, taken)
    assert (made.match.gate, made.match.farthest, made.life.longest_gap) == (3.0, USUAL.farthest, USUAL.longest_gap)
    assert as_taken(made, with_pace(with_value(Recipe(), "track.match.farthest", 9.0).track, USUAL)) is made
    words = taken_words(said, made)
    assert "longest gap 3.5 s" in words and "gate" not in re.split(r"\W+", words)


# --- clean-up ------------------------------------------------------------------------------------------------


def test_half_of_what_moves_lies_in_blobs_of_that_size():
    """Three of 4 x 4 px and one of 16 x 16: of 304 px 256 are the large one's. Two px by themselves are noise."""
    mask = np.zeros((40, 60), bool)
    for k in range(3):
        mask[2:6, 10 * k + 2 : 10 * k + 6] = True
    mask[20:36, 20:36] = True
    mask[38, 50:52] = True
    sizes = sizes_of_blobs(mask)
    assert np.unique(sizes, return_counts=True)[1].tolist() == [48, 256] and np.median(sizes) == 16
    assert len(sizes_of_blobs(np.zeros((8, 8), bool))) == 0


@pytest.mark.parametrize("side", [8, 16, 24])
def test_the_size_of_what_moves_is_measured_back(side):
    def put(k, picture):
        picture[20 : 20 + side, 2 * k : 2 * k + side] += 70

    samples = shots(3, put=put)
    made = survey_of(samples)
    assert made.moving_size == pytest.approx(side, abs=2) and made.facts["moving_size"] == round(made.moving_size, 1)
    assert f"half of it is {made.moving_size:.0f} px" in " ".join(made.words)
    assert what_moves(shots(3), survey_of(shots(3)).empty) == NOTHING


def test_clean_up_follows_what_moves():
    """Opening, closing and holes in px; closing is odd."""

    def taken(size: float) -> tuple[int, int, int]:
        made = resolve_detect(Recipe().detect, surveyed(moving_size=size)).cleanup
        return made.opening, made.closing, made.fill_holes

    assert taken(0.0) == (2, 3, 400), "the usual where nobody knows"
    assert taken(9.0) == (2, 1, 4)
    assert taken(24.0) == (2, 3, 23)
    assert taken(40.0) == (2, 3, 64)
    assert taken(120.0) == (2, 5, 576)
    assert taken(400.0) == (5, 9, 6400)


@pytest.mark.parametrize(
    ("contrast", "threshold"), [(8.0, 6.0), (24.0, 6.0), (26.0, 6.5), (90.0, 7.0), (float("inf"), 6.0)]
)
def test_what_stands_out_much_is_cut_out_by_a_higher_threshold(contrast, threshold):
    assert resolve_detect(Recipe().detect, surveyed(contrast=contrast)).background.noise_threshold == threshold


def test_nothing_is_learnt_where_the_empty_scene_is_known():
    recipe = Recipe()
    assert resolve_detect(recipe.detect, surveyed()).background.warm_up == 0.0
    assert resolve_detect(recipe.detect, None).background.warm_up == 1.0
    learnt = with_value(recipe, "detect.background.known_start", False).detect
    assert resolve_detect(learnt, surveyed()).background.warm_up == 1.0
    assert isinstance(surveyed(), Survey) and recipe.detect.background.warm_up == AUTO


# --- reach and patience ---------------------------------------------------------------------------------------


def test_the_gate_is_where_a_detection_is_as_likely_another_s():
    """Seen in 9 of 10 pictures, one other in a million px, an area of 4 px²: e^(-d²/2) 0.9 / (2 pi 4) = 0.1 / 10^6."""
    gate = gate_of(0.9, 1e-6, 4.0)
    assert np.exp(-(gate**2) / 2) * 0.9 / (2 * np.pi * 4.0) == pytest.approx(0.1 * 1e-6)
    assert gate_of(0.99, 1e-6, 4.0) > gate > gate_of(0.9, 1e-4, 4.0) > gate_of(0.5, 1.0, 4.0) == 0.0


def test_a_track_is_believed_as_soon_as_hardly_any_short_life_would_be():
    """One in twenty of the things may be one that is none."""
    lives = np.array([1, 1, 2, 2, 3, 6, 6, 7])
    assert [hits_of(lives, things) for things in (1000, 60, 20, 10)] == [6, 6, 7, 8]
    assert hits_of(np.full(50, 30), 10) == 12 and hits_of(np.zeros(0, int), 0) == 8


def test_who_walks_evenly_is_sought_near_by_and_who_leaps_farther_off():
    frames = 200
    rng = np.random.default_rng(2)
    times = np.arange(frames) / RATE
    calm = measured_pace(walkers(rng.normal(0, 1.0, (frames, 8))), times, RATE)
    assert calm.farthest == 1.0 and calm.hits_to_confirm == 6
    assert (calm.longest_gap, calm.join_within) == (3.5, 4.0)
    pushed = np.cumsum(np.cumsum(rng.normal(0, 1.0, (frames, 8)), axis=0), axis=0)
    wild = measured_pace(walkers(pushed), times, RATE)
    assert wild.longest_gap == max(1.5, round(3.5 * (0.5 / wild.jumpiness) ** (2 / 3), 1)) < 2.5
    assert wild.join_within == wild.longest_gap + 0.5
    assert 5.5 <= calm.gate <= wild.gate <= 7.0


def test_by_how_much_a_walk_leaps_says_how_far_a_link_may_reach():
    """Boxes of 50 px put aside by a normal 5 px: the third of three misses the line by 5 times the root of 6."""
    frames = 250
    off = np.random.default_rng(4).normal(0, 5.0, (frames, 8))
    made = measured_pace(walkers(off), np.arange(frames) / RATE, RATE)
    one_in_a_hundred = 2.576 * 5.0 * np.sqrt(6.0) / SIZE
    assert made.farthest == pytest.approx(1.6 * one_in_a_hundred, rel=0.1)
