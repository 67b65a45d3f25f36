"""Loops that take many pixels or pairs at once, against slow twins that take them one by one."""

from __future__ import annotations

import threading

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from drover.core.both_cores import at_once, in_bands, in_halves
from drover.core.detect.background import Mixture, RunningAverage
from drover.core.detect.background_kernels import mark_both
from drover.core.detect.bitmask import unpack, words_for
from drover.core.detect.both_mixtures import step_mixtures
from drover.core.detect.colour import ColourModel
from drover.core.detect.known_scene import step_known
from drover.core.detect.light import smoothed
from drover.core.detect.look import _half_turns
from drover.core.kernel_parts import sort_stack
from drover.core.recipe import BackgroundSettings
from drover.core.survey.shortest_half import middle_of, shortest_halves
from drover.core.track.join_costs import Ends, _least_costs, _plain_rows, cost_of

SEEDS = st.integers(0, 10_000)


# --- columns put in order -----------------------------------------------------------------------------------------


@given(SEEDS, st.integers(1, 40), st.integers(1, 9))
def test_every_column_is_sorted_and_keeps_what_it_held(seed, rows, columns):
    stack = np.random.default_rng(seed).integers(0, 12, (rows, columns)).astype(np.float32)
    want = np.sort(stack, axis=0)
    sort_stack(stack)
    np.testing.assert_array_equal(stack, want)


@given(SEEDS, st.sampled_from([1, 3, 9]))
def test_the_middle_of_some_pictures_is_their_median(seed, count):
    shots = np.random.default_rng(seed).integers(0, 256, (count, 5, 7)).astype(np.uint8)
    np.testing.assert_array_equal(middle_of(shots), np.median(shots, axis=0))


# --- the shortest half --------------------------------------------------------------------------------------------


def half_by_hand(values: np.ndarray) -> tuple[float, float, float]:
    """Mean and width of the shortest half, and the 0.8 quantile of the distances from that mean, of one face."""
    values = np.sort(values)
    n = len(values)
    half = n // 2 + 1
    widths = [values[k + half - 1] - values[k] for k in range(n - half + 1)]
    k = int(np.argmin(widths))
    mean = values[k : k + half].mean()
    away = np.sort(np.abs(values - mean))
    return mean, 0.9 * 0.5 / 0.6745 * widths[k], away[int(0.8 * (n - 1) + 0.5)] / 1.28


@given(SEEDS, st.integers(8, 36))
def test_ground_noise_and_restlessness_are_those_of_every_pixel_by_itself(seed, count):
    rng = np.random.default_rng(seed)
    shots = np.clip(np.rint(rng.normal(120, 3, (count, 3, 300))), 0, 255).astype(np.uint8)
    out = [np.empty((3, 300), np.float32) for _ in range(3)]
    shortest_halves(shots, np.ones(count, np.float32), np.float32(0.0), 1.5, *out, 0, 3)
    for y, x in ((0, 0), (1, 255), (1, 256), (2, 299)):
        values = shots[:, y, x].astype(float)
        want = half_by_hand(values)
        reach = 4.0 * max(want[1], 1.5)
        if max((values < want[0] - reach).sum(), (values > want[0] + reach).sum()) >= max(4, int(0.15 * count)):
            continue  # by chance so many lie apart that they are taken for a second face
        assert [plane[y, x] for plane in out] == pytest.approx(want, abs=1e-3)


def test_one_that_stands_for_a_while_is_neither_ground_nor_restlessness():
    """Seen at 200 in one stretch of a third of the pictures, at 100 before and after."""
    shots = np.full((24, 1, 2), 100, np.uint8)
    shots[8:16, 0, 0] = 200
    out = [np.empty((1, 2), np.float32) for _ in range(3)]
    shortest_halves(shots, np.ones(24, np.float32), np.float32(0.0), 1.5, *out, 0, 1)
    assert out[0].tolist() == [[100.0, 100.0]]
    assert out[2].tolist() == [[0.0, 0.0]]


# --- the usual case of Detect -------------------------------------------------------------------------------------


def known_models(seed: int, shape: tuple[int, int]) -> tuple[RunningAverage, ColourModel]:
    rng = np.random.default_rng(seed)
    half = (2, -(-shape[0] // 2), -(-shape[1] // 2))
    settings = BackgroundSettings(look_at="colour", threshold_in="noise", noise_threshold=6.0)
    model, colour = RunningAverage(settings, shape), ColourModel(settings, 30.0)
    model.begin(rng.uniform(20, 230, shape).astype(np.float32), rng.uniform(1.5, 6, shape).astype(np.float32))
    colour.begin(rng.uniform(100, 156, half).astype(np.float32), rng.uniform(1.2, 3, half).astype(np.float32))
    return model, colour


@pytest.mark.parametrize("shape", [(24, 32), (25, 33), (23, 130)])
@pytest.mark.parametrize("gain", [1.0, 1.09])
def test_brightness_and_colour_together_differ_as_one_by_one_and_learn_where_both_are_quiet(shape, gain):
    one, one_colour = known_models(7, shape)
    both, both_colour = known_models(7, shape)
    planes = [both, both_colour.model]
    rng = np.random.default_rng(8)
    for k in range(5):
        grey = np.clip(both.background() + rng.normal(0, 9, shape), 0, 255).astype(np.uint8)
        chroma = rng.integers(96, 160, (2, -(-shape[0] // 2), -(-shape[1] // 2))).astype(np.uint8)
        for mine, its in zip((one, one_colour.model), planes, strict=True):
            mine.background()[:] = its.background()  # type: ignore[union-attr]
        before = [plane.background().copy() for plane in planes]  # type: ignore[union-attr]
        assert one.step(grey, k / 25)
        one_colour.step(chroma, gain, k / 25, one.difference)
        assert step_known(both, both_colour, grey, chroma, gain, k / 25)
        np.testing.assert_array_equal(both.difference, one.difference)
        assert both.seen == one.seen
        moves, sure = both.difference > 48, both.difference != 48  # six times the noise, in eighths, rounded
        quads, clear = (
            np.pad(mask, [(0, n % 2) for n in shape], mode="edge").reshape(*chroma.shape[1:2], 2, -1, 2)
            for mask in (moves, sure)
        )
        masks = (moves, sure), (np.tile(quads.any((1, 3)), (2, 1)), np.tile(clear.all((1, 3)), (2, 1)))
        light = one_colour.planes_of(chroma, gain)
        for ground, now, seen, (busy, told) in zip(planes, before, (grey, light), masks, strict=True):
            pace = np.where(busy, 0.02 * 0.8, 0.8) * (k > 0) / 25
            want = now + (1 - np.exp(-pace)) * (seen - now)
            np.testing.assert_allclose(ground.background()[told], want[told], atol=2e-3)  # type: ignore[union-attr]


def test_who_stood_for_long_with_every_plane_nearly_as_the_ground_leaves_no_ghost():
    """Four and a half times the noise in brightness and in both colours, under the threshold each, for ten seconds."""
    settings, shape = BackgroundSettings(look_at="colour", threshold_in="noise", noise_threshold=6.0), (16, 16)
    model, colour = RunningAverage(settings, shape), ColourModel(settings, 30.0)
    model.begin(np.full(shape, 100, np.float32), np.full(shape, 2, np.float32))
    colour.begin(np.full((2, 8, 8), 120, np.float32), np.full((2, 8, 8), 2, np.float32))
    empty = np.full(shape, 100, np.uint8), np.full((2, 8, 8), 120, np.uint8)
    there = tuple(plane.copy() for plane in empty)
    there[0][4:12, 4:12], there[1][:, 2:6, 2:6] = 109, 129
    body = there[0] == 109
    for k in range(250):
        assert step_known(model, colour, *there, 1.0, k / 25)
        assert (model.difference[body] > 48).all() and (model.difference[~body] == 0).all()
    step_known(model, colour, *empty, 1.0, 10.0)
    assert model.difference.max() < 24


def test_what_is_taken_for_ground_is_taken_in_colour_too():
    one, one_colour = known_models(7, (24, 32))
    both, both_colour = known_models(7, (24, 32))
    grey, chroma = np.full((24, 32), 90, np.uint8), np.full((2, 12, 16), 140, np.uint8)
    one.step(grey, 0.0)
    one_colour.step(chroma, 1.0, 0.0, one.difference)
    assert step_known(both, both_colour, grey, chroma, 1.0, 0.0)
    runs = np.array([[2, 3, 9], [4, 0, 5]], np.int16)
    for colour in (one_colour, both_colour):
        colour.absorb(runs)
    np.testing.assert_array_equal(both_colour.model.background(), one_colour.model.background())  # type: ignore[union-attr]


@pytest.mark.parametrize("shape", [(24, 32), (25, 33), (50, 130)])
@pytest.mark.parametrize("gain", [1.0, 1.09])
def test_two_mixtures_together_give_what_they_give_one_by_one(shape, gain):
    settings = BackgroundSettings(
        model="mixture", look_at="colour", threshold_in="noise", noise_threshold=6.0, warm_up=0.2
    )
    (one, one_colour), (both, both_colour) = ((Mixture(settings, shape), ColourModel(settings, 30.0)) for _ in range(2))
    rng, half = np.random.default_rng(3), (2, -(-shape[0] // 2), -(-shape[1] // 2))
    ground = rng.uniform(20, 230, shape)
    for k in range(30):
        sways = 25 * (rng.random(shape) < 0.2) * (np.arange(shape[1]) % 3 == 0)
        grey = np.clip(ground + sways + rng.normal(0, 3, shape), 0, 255).astype(np.uint8)
        chroma = np.clip(128 + rng.normal(0, 4, half), 0, 255).astype(np.uint8)
        ready = one.step(grey, k / 25)
        one_colour.step(chroma, gain, k / 25, one.difference)
        joined = step_mixtures(both, both_colour, grey, chroma, gain, k / 25)
        if k == 0:
            assert joined is None and both.seen == 0, "no colour is known yet"
            both.step(grey, 0.0)
            both_colour.step(chroma, gain, 0.0, both.difference)
        else:
            assert joined == ready
        np.testing.assert_array_equal(both.difference, one.difference)
    np.testing.assert_array_equal(both.background(), one.background())
    np.testing.assert_array_equal(both_colour.model.background(), one_colour.model.background())  # type: ignore[union-attr]
    assert step_mixtures(both, both_colour, grey, None, 1.0, 2.0) is None, "the footage has no colour"


@given(st.integers(-510, 510), st.integers(-510, 510))
def test_the_direction_of_an_edge_is_that_of_the_arc_tangent(gx, gy):
    assume(gx or gy)
    want, got = np.arctan2(gy, gx) / np.pi % 1.0, _half_turns(gx / 2, gy / 2)
    assert 0 <= got < 1 and min(abs(got - want), 1 - abs(got - want)) < 0.0013


def test_what_is_not_all_known_is_left_to_the_models_one_by_one():
    settings = BackgroundSettings(look_at="colour", threshold_in="noise", noise_threshold=6.0)
    grey, chroma = np.full((8, 8), 90, np.uint8), np.full((2, 4, 4), 128, np.uint8)
    learning = RunningAverage(settings, (8, 8))
    known, colour = known_models(1, (8, 8))
    assert not step_known(learning, colour, grey, chroma, 1.0, 0.0), "the scene is still learnt"
    assert not step_known(known, colour, grey, None, 1.0, 0.0), "the footage has no colour"
    assert not step_known(known, ColourModel(settings, 30.0), grey, chroma, 1.0, 0.0), "the colour is still learnt"
    assert learning.seen == 0 and (known.difference == 0).all()


@given(SEEDS, st.integers(0, 254), st.integers(0, 100), st.integers(1, 140))
def test_the_strong_are_those_of_the_weak_that_are_over_the_threshold(seed, low, more, width):
    difference = np.random.default_rng(seed).integers(0, 256, (5, width)).astype(np.uint8)
    high = min(low + more, 255)
    weak, strong = words_for(5, width), words_for(5, width)
    strong[:] = weak[:] = 77  # what was there before is gone
    mark_both(difference, np.uint8(low), np.uint8(high), weak, strong)
    np.testing.assert_array_equal(unpack(weak, width), difference > low)
    np.testing.assert_array_equal(unpack(strong, width), difference > high)


@given(SEEDS)
def test_a_field_is_smoothed_as_a_gaussian_smooths_it(seed):
    from scipy import ndimage

    field = np.random.default_rng(seed).uniform(0.5, 2, (6, 9)).astype(np.float32)
    want = ndimage.gaussian_filter(field.astype(float), 0.8, mode="nearest")
    np.testing.assert_allclose(smoothed(field), want, atol=1e-5)


# --- joins --------------------------------------------------------------------------------------------------------


def some_ends(rng: np.random.Generator, n: int) -> Ends:
    return Ends(
        rng.uniform(0, 9000, n), rng.uniform(0, 1000, (n, 2)), rng.normal(0, 80, (n, 2)), rng.uniform(4, 60, (n, 2)),
        np.zeros(n, np.bool_),
    )  # fmt: skip


@given(SEEDS)
def test_no_pair_costs_less_than_the_least_it_is_said_to_cost_and_none_in_reach_is_ruled_out(seed):
    rng = np.random.default_rng(seed)
    last, first = some_ends(rng, 1), some_ends(rng, 200)
    first.centre[:] = last.centre + rng.normal(0, 60, (200, 2))
    waits, least = rng.uniform(0.02, 4, 200), np.empty(200, np.float32)
    _least_costs(last, 0, 0.0, waits, _plain_rows(first, np.arange(200)), 0, 200, least)
    for k in range(200):
        cost = cost_of(last, 0, first, k, waits[k])
        if np.isfinite(cost):
            assert least[k] <= cost + 0.005


# --- both cores ---------------------------------------------------------------------------------------------------


def test_halves_and_bands_cover_everything_once_on_two_threads():
    seen: list[tuple[int, int]] = []
    threads = set()

    def note(first: int, past: int) -> str:
        threads.add(threading.current_thread().name)
        seen.append((first, past))
        return f"{first}-{past}"

    assert in_halves(note, 7) == ("0-3", "3-7")
    assert in_halves(note, 7, cut=5) == ("0-5", "5-7")
    seen.clear()
    in_bands(note, 37)
    covered = sorted(seen)
    assert covered[0][0] == 0 and covered[-1][1] == 37
    assert all(a[1] == b[0] for a, b in zip(covered, covered[1:], strict=False))
    assert len(threads) == 2


def test_what_goes_wrong_on_the_other_thread_is_heard_here():
    def fails() -> None:
        raise ValueError("on the other thread")

    with pytest.raises(ValueError, match="other thread"):
        at_once(lambda: 1, fails)
