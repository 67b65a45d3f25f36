"""Twins and rules of what tells shots apart, and of the ground that is put back behind those who stand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from drover.core.detect.cuts import BETWEEN_SHOTS, CutWatch, glance, likeness, one_shot, shot_times
from drover.core.recipe import TrackSettings
from drover.core.survey.empty_scene import find_empty_scene
from drover.core.survey.samples import Samples
from drover.core.survey.standing import put_ground_back
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections

SHAPE = (240, 320)


def place(seed: int, fine: float = 5.0) -> np.ndarray:
    rough = ndimage.gaussian_filter(np.random.default_rng(seed).normal(0, 1, SHAPE), fine)
    return 115 + 28 * rough / rough.std()


def seen(picture: np.ndarray, seed: int, noise: float = 1.5) -> np.ndarray:
    jitter = np.random.default_rng(1000 + seed).normal(0, noise, picture.shape)
    return np.clip(np.rint(picture + jitter), 0, 255).astype(np.uint8)


# --- glances ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("shape", [(240, 320), (144, 176), (250, 330), (37, 50)])
def test_a_glance_is_small_means_less_those_around_them(shape):
    grey = np.random.default_rng(4).integers(0, 256, shape).astype(np.uint8)
    rows, columns = shape[0] // 16, shape[1] // 16
    small = grey[: rows * 16 : 4, : columns * 16 : 4].astype(float)
    means = small.reshape(rows, 4, columns, 4).mean(axis=(1, 3))
    want = means - ndimage.uniform_filter(means, 5, mode="nearest")
    np.testing.assert_allclose(glance(grey), want, atol=1e-3)


@given(st.integers(0, 300), st.integers(0, 300), st.floats(0.2, 5.0))
def test_likeness_is_of_one_and_the_other_alike_and_blind_to_contrast(one, other, factor):
    rng = np.random.default_rng(one)
    a = rng.normal(0, 3, (15, 20)).astype(np.float32)
    b = np.random.default_rng(other).normal(0, 3, (15, 20)).astype(np.float32)
    assert likeness(a, b) == pytest.approx(likeness(b, a), abs=1e-6)
    assert -1.0 - 1e-6 <= likeness(a, b) <= 1.0 + 1e-6
    assert likeness(a, np.float32(factor) * a) == pytest.approx(1.0, abs=1e-5)
    assert likeness(a, -a) == pytest.approx(-1.0, abs=1e-5)


def test_one_bright_thing_in_both_does_not_make_two_places_alike():
    pictures = [place(1), place(2)]
    for picture in pictures:
        picture[60:150, 90:170] = 250
    assert likeness(*(glance(seen(picture, k)) for k, picture in enumerate(pictures))) < 0.4


def test_a_slow_pan_a_fade_and_a_crowd_are_no_cuts():
    wide = ndimage.zoom(place(3), 2.0, order=1)
    watch = CutWatch()
    assert not any(watch.is_cut(seen(wide[:240, 3 * k : 3 * k + 320], k)) for k in range(80))
    watch = CutWatch()
    assert not any(watch.is_cut(seen(place(3) * (1 - k / 40), k)) for k in range(39))
    watch = CutWatch()
    rng = np.random.default_rng(7)
    for k in range(30):
        picture = place(3)
        for _ in range(8):
            y, x = rng.integers(0, 200), rng.integers(0, 290)
            picture[y : y + 40, x : x + 25] = rng.uniform(20, 240)
        assert not watch.is_cut(seen(picture, k))


@given(st.lists(st.integers(8, 20), min_size=2, max_size=4))
@settings(max_examples=10)
def test_every_cut_of_a_film_is_found_and_shots_are_sorted_by_place(lengths):
    pictures, cuts = [], []
    for shot, count in enumerate(lengths):
        cuts.append(len(pictures))
        pictures += [seen(place(20 + shot % 2), len(pictures) + k) for k in range(count)]
    watch = CutWatch()
    assert [k for k, picture in enumerate(pictures) if watch.is_cut(picture)] == cuts[1:]
    same = [shot % 2 == 0 for shot, count in enumerate(lengths) for _ in range(count)]
    assert one_shot(pictures).tolist() == same


# --- times of shots -----------------------------------------------------------------------------------------------


@given(st.integers(1, 60), st.sets(st.integers(1, 80), max_size=4))
def test_between_shots_time_leaps_and_within_them_it_goes_on(count, cuts):
    times = np.arange(count) / 25.0
    out = shot_times(times, tuple(sorted(cuts)))
    steps = np.diff(out)
    for k, step in enumerate(steps, 1):
        assert step == pytest.approx(1 / 25.0 + (BETWEEN_SHOTS if k in cuts else 0.0))


def test_what_is_linked_over_such_times_ends_at_the_cut():
    frame = np.arange(80)
    x = 50.0 + 4 * frame
    box = np.column_stack([x, np.full(80, 100.0), x + 30, np.full(80, 150.0)]).astype(np.float32)
    found = Detections.from_boxes(frame, box, np.ones(80, np.float32), frame_count=80, size=(640, 360))
    times = frame / 25.0
    assert link_detections(found, times, 25.0, TrackSettings()).paths.identity.tolist() == [1]
    tracks = link_detections(found, shot_times(times, (40,)), 25.0, TrackSettings())
    assert tracks.paths.identity.tolist() == [1, 2]
    assert tracks.frame[tracks.path_of(1)].max() < 40 <= tracks.frame[tracks.path_of(2)].min()


# --- ground behind those who stand --------------------------------------------------------------------------------


def scene_of(*, stands: list[tuple[slice, slice, int, int]], colour: bool) -> Samples:
    """Thirty-two pictures in which each thing stands at its place from one picture to another."""
    ground = place(9, fine=3.0)
    greys, chromas = [], []
    rng = np.random.default_rng(11)
    for k in range(32):
        picture, tint = ground.copy(), np.full((2, 120, 160), 128.0)
        tint[0] += 10
        for rows, columns, first, past in stands:
            if first <= k < past:
                picture[rows, columns] = 205
                tint[1, rows.start // 2 : rows.stop // 2, columns.start // 2 : columns.stop // 2] = 160
        greys.append(seen(picture, 50 + k))
        chromas.append(np.clip(np.rint(tint + rng.normal(0, 0.7, tint.shape)), 0, 255).astype(np.uint8))
    return Samples(np.array(greys), np.array(chromas) if colour else None, np.arange(32) * 0.5)


LEFT, RIGHT = (slice(60, 130), slice(40, 70)), (slice(90, 170), slice(220, 256))


@pytest.mark.parametrize("colour", [True, False])
def test_one_who_leaves_and_one_who_comes_are_both_told_from_the_ground(colour):
    samples = scene_of(stands=[(*LEFT, 0, 21), (*RIGHT, 11, 32)], colour=colour)
    before = find_empty_scene(samples)
    scene, places = put_ground_back(samples, before)
    assert places == 2
    off = np.abs(scene.grey - place(9, fine=3.0))
    for rows, columns in (LEFT, RIGHT):
        assert np.abs(before.grey - place(9, fine=3.0))[rows, columns].mean() > 20
        assert off[rows, columns].mean() < 3
        if colour:
            small = slice(rows.start // 2, rows.stop // 2), slice(columns.start // 2, columns.stop // 2)
            assert np.abs(scene.chroma[1][small] - 128).mean() < 3
    assert np.abs(scene.grey - before.grey)[:, 100:200].max() == 0, "nothing else is touched"


def test_one_who_stands_all_the_time_is_ground_for_all_that_can_be_known():
    samples = scene_of(stands=[(*LEFT, 0, 32)], colour=True)
    before = find_empty_scene(samples)
    scene, places = put_ground_back(samples, before)
    assert places == 0 and scene is before
