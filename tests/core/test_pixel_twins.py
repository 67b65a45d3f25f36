"""Every pixel loop against a slow twin written from its formula: one pixel after the other, in plain Python."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import ndimage

from drover.core.detect.background import FrameDifference, Mixture, RunningAverage, RunningMedian
from drover.core.detect.background_kernels import mark_moving
from drover.core.detect.bitmask import close_mask, open_mask, unpack, words_for
from drover.core.detect.blobs import fill_holes, find_blobs, find_runs, join_runs
from drover.core.detect.colour import ColourModel, raise_difference
from drover.core.detect.light import _OCTAVES as OCTAVES
from drover.core.detect.light import LightFollower, block_ratios, even_out, median_of_even
from drover.core.detect.still import StillWatch, edge_strengths, grow_ages, stand_facts
from drover.core.recipe import BackgroundSettings, StillSettings

RATE = 25.0


def packed(mask: np.ndarray) -> np.ndarray:
    words = words_for(*mask.shape)
    mark_moving(np.where(mask, 255, 0).astype(np.uint8), 100.0, words)
    return words


def random_mask(seed: int, shape=(37, 131), share=0.3) -> np.ndarray:
    return np.random.default_rng(seed).random(shape) < share


def runs_of(mask: np.ndarray) -> np.ndarray:
    out = []
    for y, row in enumerate(mask):
        edge = np.flatnonzero(np.diff(np.concatenate([[0], row.astype(int), [0]])))
        out += [(y, a, b) for a, b in zip(edge[::2], edge[1::2], strict=True)]
    return np.array(out, np.int16).reshape(-1, 3)


# --- masks ----------------------------------------------------------------------------------------------------


@given(st.integers(0, 10_000), st.integers(1, 9), st.sampled_from([(37, 131), (9, 64), (5, 20)]))
def test_opening_and_closing_words_are_those_of_pixels(seed, size, shape):
    before, after = (size - 1) // 2, size // 2

    def slid(mask, first, last, grow):
        want = np.empty_like(mask)
        for y in range(mask.shape[0]):
            for x in range(mask.shape[1]):
                part = mask[max(0, y - first) : y + last + 1, max(0, x - first) : x + last + 1]
                want[y, x] = part.any() if grow else part.all()
        return want

    full, gappy = random_mask(seed, shape, 0.85), random_mask(seed, shape, 0.15)
    opened = slid(slid(full, before, after, False), after, before, True)
    np.testing.assert_array_equal(unpack(open_mask(packed(full), size, shape[1]), shape[1]).astype(bool), opened)
    inside = (slice(size, size + shape[0]), slice(size, size + shape[1]))  # of a picture that goes on clear
    closed = slid(slid(np.pad(gappy, size), before, after, True), after, before, False)[inside]
    np.testing.assert_array_equal(unpack(close_mask(packed(gappy), size, shape[1]), shape[1]).astype(bool), closed)


@given(st.integers(0, 10_000), st.integers(2, 6))
def test_opening_takes_away_and_closing_adds_and_twice_is_once(seed, size):
    mask = random_mask(seed, share=0.5)
    width = mask.shape[1]
    opened, closed = open_mask(packed(mask), size, width), close_mask(packed(mask), size, width)
    assert not (unpack(opened, width).astype(bool) & ~mask).any()
    assert not (mask & ~unpack(closed, width).astype(bool)).any()
    np.testing.assert_array_equal(open_mask(opened, size, width), opened)
    np.testing.assert_array_equal(close_mask(closed, size, width), closed)


@given(st.integers(0, 10_000), st.integers(0, 60))
def test_holes_are_filled_up_to_their_size_and_no_other_pixel_changes(seed, most):
    mask = random_mask(seed, share=0.6)
    got = unpack(fill_holes(packed(mask), mask.shape[1], most), mask.shape[1]).astype(bool)
    label, count = ndimage.label(~mask)  # by sides only
    want = mask.copy()
    for number in range(1, count + 1):
        hole = label == number
        y, x = np.nonzero(hole)
        open_at_edge = y.min() == 0 or x.min() == 0 or y.max() == mask.shape[0] - 1 or x.max() == mask.shape[1] - 1
        if not open_at_edge and hole.sum() <= most:
            want |= hole
    np.testing.assert_array_equal(got, want)


@given(st.integers(0, 10_000), st.sampled_from([1, 63, 64, 65, 127, 128, 200]), st.floats(0.0, 1.0))
def test_runs_are_those_of_the_rows_at_every_width(seed, width, share):
    mask = random_mask(seed, (9, width), share)
    np.testing.assert_array_equal(find_runs(packed(mask), width), runs_of(mask))


@given(st.integers(0, 10_000), st.booleans())
def test_labels_come_in_order_of_their_first_run_and_join_what_touches(seed, corners):
    mask = random_mask(seed, share=0.35)
    runs = runs_of(mask).astype(np.int32)
    label, count = join_runs(runs, corners)
    whole, n = ndimage.label(mask, np.ones((3, 3)) if corners else None)
    assert count == n
    assert [whole[y, x] for y, x, _ in runs] == [int(k) + 1 for k in relabelled(label, whole, runs)]
    first = [int(np.flatnonzero(label == k)[0]) for k in range(count)]
    assert first == sorted(first)


def relabelled(label: np.ndarray, whole: np.ndarray, runs: np.ndarray) -> list[int]:
    """The twin's number of each run's blob, by way of our label: wrong wherever two blobs share a label."""
    twin = {int(k): int(whole[y, x]) for k, (y, x, _) in zip(label, runs, strict=True)}
    return [twin[int(k)] - 1 for k in label]


@given(st.integers(0, 10_000), st.floats(0, 30))
def test_a_blob_knows_its_box_area_and_contrast(seed, least):
    rng = np.random.default_rng(seed)
    mask = random_mask(seed, share=0.3)
    difference = rng.integers(0, 256, mask.shape).astype(np.uint8)
    found = find_blobs(packed(mask), difference, least_area=least)
    whole, n = ndimage.label(mask, np.ones((3, 3)))
    want = []
    for number in range(1, n + 1):
        part = whole == number
        if part.sum() >= least:
            y, x = np.nonzero(part)
            want.append((x.min(), y.min(), x.max() + 1, y.max() + 1, part.sum(), difference[part].mean()))
    got = np.column_stack([found.box, found.area, found.contrast])
    table = np.array(want, np.float32).reshape(-1, 6)
    order, mine = np.lexsort(table.T), np.lexsort(got.T)
    np.testing.assert_allclose(got[mine], table[order], rtol=1e-5)
    assert found.run_count.sum() == len(found.runs)
    inside = np.zeros_like(mask)
    for y, a, b in found.runs:
        inside[y, a:b] = True
    assert inside.sum() == found.area.sum()


# --- background models ----------------------------------------------------------------------------------------


def pictures(seed: int, count: int, shape=(6, 9)) -> list[np.ndarray]:
    """A calm ground with noise, and a pixel block that jumps to another level half way."""
    rng = np.random.default_rng(seed)
    ground = rng.integers(60, 180, shape)
    out = []
    for k in range(count):
        picture = ground + rng.normal(0, 2, shape)
        if k >= count // 2:
            picture[2:4, 3:6] += 60
        out.append(np.clip(np.rint(picture), 0, 255).astype(np.uint8))
    return out


def background(**changes) -> BackgroundSettings:
    return BackgroundSettings(**{"warm_up": 0.4, "busy_share": 0.1, "noise_threshold": 6.0, **changes})


@pytest.mark.parametrize("measured", ["levels", "noise"])
def test_the_running_average_is_its_twin(measured):
    settings = background(model="running-average", threshold_in=measured)
    shots = pictures(1, 40)
    model = RunningAverage(settings, shots[0].shape)
    mean, cut = shots[0].astype(float), None
    for k, grey in enumerate(shots):
        was, noise = model.background().copy(), model.noise().copy()
        ready = model.step(grey, k / RATE)
        if not ready:
            continue
        delta = np.abs(grey - was.astype(float))
        shown = delta * 8 / noise if measured == "noise" else delta
        cut = settings.noise_threshold * 8 if measured == "noise" else settings.threshold
        np.testing.assert_allclose(model.difference, np.minimum(np.floor(shown + 0.5), 255), atol=1)
        rate = 1 - np.exp(-settings.rate / RATE)
        slow = 1 - np.exp(-settings.rate * settings.busy_share / RATE)
        calm, busy = shown < cut - 0.01, shown > cut + 0.01
        want = was + (grey - was) * rate
        np.testing.assert_allclose(model.background()[calm], want[calm], atol=2e-3)
        moved = np.abs(model.background() - was)[busy]
        assert (moved <= np.maximum(delta[busy] * max(rate, slow), 1e-3)).all()
    assert cut is not None
    assert mean.shape == model.background().shape


@pytest.mark.parametrize("sigma", [0.4, 1.2, 3.0])
def test_known_noise_is_cut_as_learnt_noise_is_with_the_same_floor(sigma):
    """A scene known before: the difference is in eighths of its noise, and of no less than the least that is learnt."""
    grey = np.full((4, 6), 112, np.uint8)
    model = RunningAverage(background(threshold_in="noise"), grey.shape)
    model.begin(np.full((4, 6), 100, np.float32), np.full((4, 6), sigma, np.float32))
    assert model.step(grey, 5.0), "nothing is left to learn"
    assert (np.abs(model.difference - 12 * 8 / max(sigma, np.sqrt(2.0))) <= 1).all()
    assert (np.abs(model.background() - 100) < 0.1).all(), "no time went by before the first picture"


def test_the_running_median_moves_by_no_more_than_its_pace_toward_the_picture():
    settings = background(model="running-median", threshold_in="levels")
    shots = pictures(2, 60)
    model = RunningMedian(settings, shots[0].shape)
    for k, grey in enumerate(shots):
        was = model.background().copy()
        if not model.step(grey, k / RATE):
            continue
        now = model.background()
        delta = grey - was
        np.testing.assert_allclose(model.difference, np.minimum(np.floor(np.abs(delta) + 0.5), 255), atol=1)
        assert (np.sign(now - was) * np.sign(delta) >= 0).all()
        assert (np.abs(now - was) <= np.abs(delta) + 1e-4).all()
        assert np.abs(now - was).max() < 3.0


def test_two_and_three_pictures_back_are_compared_by_the_smaller_difference():
    shots = pictures(3, 12)
    two = FrameDifference(background(model="frame-difference", threshold_in="levels", warm_up=0.0), shots[0].shape)
    three = FrameDifference(
        background(model="three-frame-difference", threshold_in="levels", warm_up=0.0), shots[0].shape
    )
    for k, grey in enumerate(shots):
        two.step(grey, k / RATE)
        three.step(grey, k / RATE)
        if k >= 2:
            one = np.abs(grey.astype(int) - shots[k - 1])
            other = np.abs(grey.astype(int) - shots[k - 2])
            np.testing.assert_array_equal(two.difference, one)
            np.testing.assert_array_equal(three.difference, np.minimum(one, other))


def test_the_mixture_is_its_twin_pixel_by_pixel():
    """Components by the update of Zivkovic 2004, one pixel in plain Python beside the kernel's whole picture."""
    settings = background(model="mixture", threshold_in="levels", components=3, rate=0.4, warm_up=0.2)
    rng = np.random.default_rng(8)
    # Two faces of one pixel, far apart, and now and then a third value.
    values = np.where(rng.random(300) < 0.6, 80, 130) + rng.normal(0, 1.5, 300)
    values[rng.random(300) < 0.02] = 220
    model = Mixture(settings, (1, 1), keep_still=2.0)
    seen = []
    for k, value in enumerate(np.clip(np.rint(values), 0, 255).astype(np.uint8)):
        model.step(np.array([[value]], np.uint8), k / RATE)
        seen.append(int(model.difference[0, 0]))
    weights = model._faces[0, 0, : model._count[0, 0], 0]
    assert weights.sum() == pytest.approx(1.0, abs=1e-4)
    assert (np.diff(weights) <= 1e-6).all()
    late = np.array(seen[150:])
    alien = np.abs(np.clip(np.rint(values), 0, 255)[150:] - 220) < 5
    assert (late[alien] > 60).all(), "what belongs to neither face stands out by its distance from the nearer one"
    assert (late[~alien] < 12).mean() > 0.97, "both faces are background"


@given(st.integers(0, 1000))
def test_every_model_forgets_nothing_by_a_save_beyond_half_a_level(seed):
    shots = pictures(seed, 30)
    for kind in (RunningAverage, RunningMedian, Mixture):
        model, again = (kind(background(threshold_in="levels"), shots[0].shape) for _ in range(2))
        for k, grey in enumerate(shots[:20]):
            model.step(grey, k / RATE)
        again.restore(model.state())
        assert np.abs(again.background() - model.background()).max() <= 0.5
        assert np.abs(again.noise() - model.noise()).max() <= 1 / 16
        assert again.seen == model.seen


# --- light ----------------------------------------------------------------------------------------------------


@given(st.integers(0, 500), st.floats(0.1, 1.0))
def test_the_light_of_a_place_is_the_median_of_the_even_ones_around_it_however_far_those_are(seed, share):
    rng = np.random.default_rng(seed)
    field, even = rng.random((9, 14)).astype(np.float32), rng.random((9, 14)) < share
    for r, c in np.ndindex(9, 14):
        for reach in (2, 4, 6):
            near = (slice(max(0, r - reach), r + reach + 1), slice(max(0, c - reach), c + reach + 1))
            if even[near].sum() >= 5:
                break
        want = float(np.median(field[near][even[near]])) if even[near].any() else field[r, c]
        assert median_of_even(field, even)[r, c] == pytest.approx(want, abs=1e-6)


def test_a_lamp_that_lights_a_part_of_the_picture_is_brought_back_there_and_nowhere_else():
    rng = np.random.default_rng(6)
    ground = rng.uniform(70, 110, (180, 320)).astype(np.float32)
    y, x = np.mgrid[:180, :320]
    lamp = 1 + 0.7 * np.exp(-(((y - 90) / 50) ** 2) - ((x - 220) / 60) ** 2)
    grey = np.clip(np.rint(ground * lamp), 0, 255).astype(np.uint8)
    evened, _ = LightFollower((320, 180), 0.08).even(grey, ground)
    off = np.abs(evened.astype(float) - ground)
    assert np.quantile(off, 0.99) <= 5 and off[:, :90].max() <= 2


def test_a_crowd_does_not_pass_for_a_change_of_light():
    """Dark bodies and the ground between them share blocks: such blocks say nothing of the light."""
    rng = np.random.default_rng(2)
    ground = rng.uniform(90, 130, (180, 320)).astype(np.float32)
    grey, beside = np.clip(np.rint(ground), 0, 255).astype(np.uint8), np.ones((180, 320), np.bool_)
    for x in range(100, 220, 20):
        grey[100:180, x : x + 14], beside[100:180, x : x + 14] = rng.integers(20, 80, (80, 14)), False
    evened, _ = LightFollower((320, 180), 0.08).even(grey, ground)
    assert np.abs(evened.astype(float) - ground)[beside].max() <= 4


@given(st.floats(0.3, 2.4), st.integers(0, 500))
def test_a_block_says_by_what_factor_its_light_changed(factor, seed):
    rng = np.random.default_rng(seed)
    ground = rng.uniform(30, 100, (48, 64)).astype(np.float32)
    grey = np.clip(np.rint(ground * factor), 0, 254).astype(np.uint8)
    ratios, alike = block_ratios(grey, ground, 16, OCTAVES)
    assert (alike > 0.9).all(), "every pixel of a block agrees"
    assert ratios.shape == (3, 4)
    np.testing.assert_allclose(ratios, factor, rtol=0.03)


def test_ground_too_dark_to_say_anything_is_taken_as_unchanged():
    ground = np.full((32, 32), 5.0, np.float32)
    assert (block_ratios(np.full((32, 32), 200, np.uint8), ground, 16, OCTAVES)[0] == 1.0).all()


def test_evening_out_divides_by_the_field_between_the_middles_of_its_blocks():
    field = np.array([[0.5, 1.0, 2.0], [0.5, 1.0, 2.0]], np.float32)
    grey = np.full((32, 48), 100, np.uint8)
    out = np.empty_like(grey)
    even_out(grey, field, 16, out)
    assert (np.abs(out[:, :8].astype(int) - 200) <= 1).all()  # before the first middle
    assert (np.abs(out[:, 24].astype(int) - 100) <= 1).all()  # the middle of the second block
    assert (np.abs(out[:, 40:].astype(int) - 50) <= 1).all()
    between = 1 / ((1 / 0.5 + 1 / 1.0) / 2)
    assert (np.abs(out[:, 16] - 100 / between) <= 2).all()


def test_a_flash_is_told_once_with_its_factor_and_a_slow_change_never():
    ground = np.full((90, 160), 100.0, np.float32)
    follower = LightFollower((160, 90), jump=0.08)
    told = []
    for k in range(60):
        gain = 1.0 + 0.004 * k if k < 40 else 1.5
        picture = np.clip(np.rint(ground * gain), 0, 255).astype(np.uint8)
        evened, jump = follower.even(picture, ground, k / RATE)
        assert np.abs(evened.astype(float) - 100).max() <= 4
        if jump is not None:
            told.append((k, jump))
    assert [k for k, _ in told] == [40]
    assert told[0][1] == pytest.approx(1.5 / 1.156, rel=0.03)


# --- colour ---------------------------------------------------------------------------------------------------


@given(st.integers(0, 1000), st.floats(0.5, 6.0))
def test_the_stronger_of_brightness_and_weighted_colour_counts(seed, weight):
    rng = np.random.default_rng(seed)
    colour = rng.integers(0, 90, (2 * 5, 7)).astype(np.uint8)
    difference = rng.integers(0, 255, (10, 14)).astype(np.uint8)
    want = difference.copy()
    for y in range(10):
        for x in range(14):
            apart = np.float32(max(colour[y // 2, x // 2], colour[5 + y // 2, x // 2])) * np.float32(weight)
            want[y, x] = max(difference[y, x], int(min(apart, 255.0)))
    raise_difference(colour, np.float32(weight), difference)
    np.testing.assert_array_equal(difference, want)


def test_a_stronger_light_is_no_stronger_colour():
    """The same ground under twice the light has twice the colour; told the gain, the model sees no difference."""
    settings = background(look_at="colour", threshold_in="levels")
    calm = np.full((2, 20, 30), 128, np.uint8)
    calm[0] += 20
    bright = np.full((2, 20, 30), 128, np.uint8)
    bright[0] += 40
    for gain, seen in ((2.0, 0), (1.0, 20)):
        model = ColourModel(settings, keep_still=30.0)
        for k in range(30):
            model.step(calm, 1.0, k / RATE, np.zeros((40, 60), np.uint8))
        difference = np.zeros((40, 60), np.uint8)
        model.step(bright, gain, 30 / RATE, difference)
        assert abs(float(difference.mean()) - seen * settings.colour_weight) <= settings.colour_weight


# --- what stands ----------------------------------------------------------------------------------------------


@given(st.integers(0, 1000))
def test_a_pixel_is_as_old_as_its_unbroken_moving(seed):
    rng = np.random.default_rng(seed)
    age, young = np.zeros((7, 70), np.uint16), np.ones((7, 2), np.bool_)
    want = np.zeros((7, 70), int)
    for _ in range(12):
        mask = rng.random((7, 70)) < 0.6
        mask[:, 64:] &= rng.random() < 0.5  # words that are all clear are passed over
        grow_ages(packed(mask), age, young)
        want = (want + 1) * mask
        np.testing.assert_array_equal(age, want)


def test_facts_of_a_stand_are_the_mean_age_and_the_mean_change():
    age = np.arange(60, dtype=np.uint16).reshape(6, 10)
    grey, before = np.full((6, 10), 90, np.uint8), np.full((6, 10), 90, np.uint8)
    before[2, 3:6] = 80
    runs = np.array([(2, 3, 7), (3, 3, 7), (0, 0, 2)], np.int16)
    facts = stand_facts(runs, np.array([0, 2, 3]), age, grey, before, 5.0)
    assert facts[0].tolist() == [np.mean([23, 24, 25, 26, 33, 34, 35, 36]), 30 / 8]
    assert facts[1, 0] == 0.5
    assert facts[1, 1] == np.inf, "too young to be asked whether it stands"


def test_edges_are_measured_across_the_rim_in_picture_and_background():
    grey, ground = np.full((10, 40), 50, np.uint8), np.full((10, 40), 50.0, np.float32)
    ground[:, 10:30] = 120.0
    runs = np.array([(y, 10, 30) for y in range(10)], np.int16)
    assert edge_strengths(runs, grey, ground) == (0.0, 70.0)
    assert edge_strengths(np.array([(0, 0, 40)], np.int16), grey, ground) == (0.0, 0.0), "no rim inside the picture"


@pytest.mark.parametrize(("keep_for", "when"), [(2.0, 2.0), (5.0, 5.0)])
def test_what_stands_joins_the_ground_after_its_time(keep_for, when):
    watch = StillWatch(StillSettings(keep_for=keep_for, drop_ghosts=False), (60, 40))
    mask = np.zeros((40, 60), np.bool_)
    mask[10:20, 20:40] = True
    grey = np.where(mask, 200, 80).astype(np.uint8)
    ground = np.full((40, 60), 80.0, np.float32)
    runs, count = runs_of(mask), np.array([10])
    settled_at = None
    for k in range(int(7 * RATE)):
        watch.look(packed(mask), grey, k / RATE)
        if settled_at is None and watch.settled(runs, count, grey, ground, 1 / RATE)[0]:
            settled_at = (k + 1) / RATE
    assert settled_at == pytest.approx(when, abs=2 / RATE)
