"""Whether the camera stands still, and where a film is cut: shifts known by construction, shots made up."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from drover.core.detect.cuts import CutWatch, glance, likeness, one_shot
from drover.core.detect.detector import Detector
from drover.core.footage_types import Frame
from drover.core.recipe import Recipe
from drover.core.survey.camera import look_at_camera, pair_shift, tile_shift
from drover.core.survey.empty_scene import EmptyScene
from drover.core.survey.samples import Samples

SHAPE = (240, 320)


def texture(seed: int, shape=SHAPE, fine: float = 2.0) -> np.ndarray:
    """Ground of blurred noise, levels about 110."""
    rough = ndimage.gaussian_filter(np.random.default_rng(seed).normal(0, 1, shape), fine, mode="wrap")
    return 110 + 30 * rough / rough.std()


def shown(picture: np.ndarray, seed: int = 0, noise: float = 1.5) -> np.ndarray:
    jitter = np.random.default_rng(seed).normal(0, noise, picture.shape)
    return np.clip(np.rint(picture + jitter), 0, 255).astype(np.uint8)


def moved(picture: np.ndarray, right: float, down: float) -> np.ndarray:
    return ndimage.shift(picture, (down, right), order=3, mode="wrap")


def of_time(pictures: list[np.ndarray]) -> Samples:
    return Samples(np.array(pictures), None, np.arange(len(pictures)) * 0.4)


# --- the camera ---------------------------------------------------------------------------------------------------


@settings(max_examples=20)
@given(st.integers(0, 500), st.floats(-9, 9), st.floats(-9, 9))
def test_a_shift_is_measured_to_a_fraction_of_a_pixel(seed, right, down):
    ground = texture(seed, (64, 64))
    found = tile_shift(shown(ground, seed).astype(float), shown(moved(ground, right, down), seed + 1).astype(float))
    assert found is not None
    assert found == pytest.approx((right, down), abs=0.3)


def test_noise_alone_has_no_shift():
    one, other = (shown(np.full((64, 64), 100.0), seed, 8.0).astype(float) for seed in (1, 2))
    assert tile_shift(one, other) is None


def test_a_camera_that_sways_is_told_with_how_far_and_one_that_stands_is_not():
    ground = texture(1)
    rng = np.random.default_rng(2)
    sways = [shown(moved(ground, *(3.0 * rng.choice([-1, 1], 2))), k) for k in range(16)]
    look = look_at_camera(of_time(sways))
    assert look.moves and 4.0 < look.shift < 9.0 and "px within 0.4 s" in look.words
    still = look_at_camera(of_time([shown(ground, k) for k in range(16)]))
    assert still.known and not still.moves and still.words == ""


def test_a_large_thing_that_goes_by_and_water_beside_a_bank_are_no_camera():
    ground, water = texture(3), texture(4)
    passes, flows = [], []
    for k in range(16):
        picture = ground.copy()
        picture[60:200, 12 * k : 12 * k + 140] = texture(9)[60:200, :140]
        passes.append(shown(picture, k))
        pond = moved(water, 5.0 * k, 3.0 * k)
        pond[:90] = ground[:90]
        flows.append(shown(pond, k))
    for pictures in (passes, flows):
        assert not look_at_camera(of_time(pictures)).moves


def test_of_a_picture_too_small_to_tell_nothing_is_said():
    assert pair_shift(np.zeros((40, 40), np.uint8), np.zeros((40, 40), np.uint8)) is None
    assert not look_at_camera(of_time([np.zeros((40, 40), np.uint8)] * 8)).known


# --- cuts ---------------------------------------------------------------------------------------------------------


def film(*shots: tuple[int, int]) -> list[np.ndarray]:
    """Pictures of shots given as (seed of the place, how many), with something large moving in each."""
    out = []
    for seed, count in shots:
        ground = texture(seed, fine=6.0)
        for k in range(count):
            picture = ground.copy()
            picture[80:150, 4 * k % 250 : 4 * k % 250 + 40] = 220
            out.append(shown(picture, len(out)))
    return out


def cuts_of(pictures: list[np.ndarray]) -> list[int]:
    watch = CutWatch()
    return [k for k, picture in enumerate(pictures) if watch.is_cut(picture)]


def test_a_cut_is_found_at_its_picture_and_nowhere_else():
    assert cuts_of(film((1, 20), (2, 9), (1, 12))) == [20, 29]


def test_light_blackouts_and_noise_are_no_cuts():
    pictures = film((1, 30))
    pictures[8] = np.zeros(SHAPE, np.uint8)
    pictures[15:] = [np.clip(picture * 0.5, 0, 255).astype(np.uint8) for picture in pictures[15:]]
    assert cuts_of(pictures) == []
    assert cuts_of([shown(np.full(SHAPE, 90.0), k, 6.0) for k in range(20)]) == []


def test_a_glance_is_blind_to_the_light_and_to_slow_changes_over_the_picture():
    ground = texture(5, fine=6.0)
    slope = np.linspace(-20, 20, SHAPE[1])[None]
    one, other = glance(shown(ground, 1)), glance(shown(0.7 * ground + 30 + slope, 2))
    assert likeness(one, other) > 0.9
    assert abs(likeness(one, glance(shown(texture(6, fine=6.0), 3)))) < 0.4
    assert likeness(np.zeros_like(one), one) == 0.0


def test_pictures_of_another_shot_and_of_nothing_are_no_samples_of_this_one():
    pictures = [*film((1, 5), (2, 4), (1, 3)), np.zeros(SHAPE, np.uint8)]
    assert one_shot(pictures).tolist() == [True] * 5 + [False] * 4 + [True] * 3 + [False]


@pytest.mark.parametrize("known", [True, False])
def test_behind_a_cut_the_ground_is_another_and_nothing_floods(known):
    """What stands in the new shot is not taken for moving; where it is known, things are found at once."""
    detector = Detector(Recipe().detect, (SHAPE[1], SHAPE[0]))
    noise = np.full(SHAPE, 1.5, np.float32)
    asked: list[int] = []

    def scene(index: int) -> EmptyScene | None:
        asked.append(index)
        return EmptyScene(texture(2, fine=6.0).astype(np.float32), noise, None, None, 0 * noise) if known else None

    detector.renew = scene
    found = []
    for k, picture in enumerate(film((1, 80), (2, 80))):
        frame = Frame(
            k, k / 25, lambda picture=picture: picture, lambda: None, lambda: np.full((2, 120, 160), 128, np.uint8)
        )
        found.append(detector.step(frame))
    assert asked == [80] and [f.index for f in found if f.cut] == [80]
    later = found[80:] if known else found[140:]
    for frame in later:
        assert frame.area.sum() < 0.1 * SHAPE[0] * SHAPE[1], "no more moves than what does"
    assert np.mean([len(frame.box) >= 1 for frame in later]) > 0.9
