"""The filter bench's core: the same figures as the tracker's, what faults do, and what calmness costs."""

from __future__ import annotations

import numpy as np
import pytest

from drover.core.recipe import MotionSettings, Recipe, with_value
from drover.core.track.ride import FAULTS, HORIZON, forecast, measured_of, ride, trade, with_fault
from drover.core.track.whole_clip import fold_tracks
from drover.core.types import Detections

RATE, FRAMES = 25.0, 200
TIMES = np.arange(FRAMES) / RATE


def wanderer(noise: float = 1.0, gap: tuple[int, int] = (90, 105)) -> Detections:
    """One body on a curve, its boxes jittering, unseen for a while."""
    rng = np.random.default_rng(5)
    k = np.arange(FRAMES)
    middle = np.column_stack([60 + 2.5 * k, 240 + 60 * np.sin(k / 25)]) + rng.normal(0, noise, (FRAMES, 2))
    box = np.concatenate([middle - np.array([18, 14]), middle + np.array([18, 14])], axis=1) + rng.normal(
        0, 0.3, (FRAMES, 4)
    )
    seen = (k < gap[0]) | (k >= gap[1])
    sure = rng.uniform(0.5, 1.0, FRAMES)
    return Detections.from_boxes(
        k[seen], box[seen].astype(np.float32), sure[seen].astype(np.float32), frame_count=FRAMES, size=(640, 480)
    )


@pytest.mark.parametrize("model", ["steady", "pushed", "turning"])
def test_its_figures_are_those_of_the_tracker(model: str) -> None:
    found = wanderer()
    recipe = with_value(with_value(Recipe(), "track.motion.model", model), "track.motion.jumpiness", 0.4)
    recipe = with_value(recipe, "track.motion.box_noise", 1.5)
    recipe = with_value(recipe, "track.life.hits_to_confirm", 1)
    recipe = with_value(recipe, "track.motion.speeds_first", False)
    tracks = fold_tracks(found, TIMES, RATE, recipe.track)
    assert np.unique(tracks.identity).tolist() == [1]
    measured = measured_of(tracks, found, TIMES, 1)
    assert measured is not None
    made = ride(measured, recipe.track.motion)
    path = tracks.path_of(1)
    middle = (tracks.box[path][:, :2] + tracks.box[path][:, 2:]) / 2
    at = tracks.frame[path] - measured.frame[0]
    np.testing.assert_allclose(made.filtered[at], middle, atol=1e-3)
    known = np.isfinite(tracks.nis[path])
    np.testing.assert_allclose(made.nis[at][known], tracks.nis[path][known], rtol=1e-4)


def test_a_straight_walk_is_foretold_and_its_spread_is_right() -> None:
    """Steady speed and known noise: misses are as large as the filter says, and grow with the horizon."""
    rng = np.random.default_rng(2)
    k = np.arange(FRAMES)
    middle = np.column_stack([20 + 2.0 * k, 100 + 1.0 * k]) + rng.normal(0, 2.0, (FRAMES, 2))
    box = np.concatenate([middle - 25, middle + 25], axis=1).astype(np.float32)
    found = Detections.from_boxes(k, box, np.ones(FRAMES, np.float32), frame_count=FRAMES, size=(640, 480))
    motion = MotionSettings(jumpiness=0.02, box_noise=2.0, size_doubt=0.0)
    tracks = fold_tracks(found, TIMES, RATE, Recipe().track.model_copy(update={"motion": motion}))
    measured = measured_of(tracks, found, TIMES, 1)
    assert measured is not None
    made = ride(measured, motion)
    late = slice(60, None)
    assert np.nanmean(made.nis[late]) == pytest.approx(2.0, abs=0.5)
    assert np.nanstd(made.off[late] / made.off_spread[late]) == pytest.approx(1.0, abs=0.15)
    mean, most = made.errors_ahead()
    assert (most > mean).all()
    assert mean[0] == pytest.approx(2.0 * np.sqrt(np.pi / 2), rel=0.25)  # the noise of a place in the plane
    assert mean[-1] > mean[0]
    there = forecast(measured, made, motion, 0.02, int(measured.frame[100]), 10)
    truth = np.column_stack([20 + 2.0 * k, 100 + 1.0 * k])[measured.frame[101:111]]
    assert np.abs(there[:, :2] - truth).max() < 4.0
    assert (np.diff(there[:, 2]) > 0).all()


def test_faults_do_what_they_are_called() -> None:
    found = wanderer(gap=(500, 501))
    motion = MotionSettings(jumpiness=0.4, box_noise=1.5)
    tracks = fold_tracks(found, TIMES, RATE, Recipe().track.model_copy(update={"motion": motion}))
    measured = measured_of(tracks, found, TIMES, 1)
    assert measured is not None
    span = (2.0, 3.0)
    inside = (measured.time >= span[0]) & (measured.time <= span[1])
    plain = ride(measured, motion)
    made = {fault: ride(with_fault(measured, fault, span), motion) for fault in FAULTS}
    np.testing.assert_array_equal(made["none"].filtered, plain.filtered)
    for fault, ridden in made.items():
        np.testing.assert_array_equal(ridden.filtered[measured.time < span[0]], plain.filtered[measured.time < span[0]])
        assert (np.isnan(ridden.filtered[inside]).all()) == (fault == "blackout")
    off = {fault: np.nanmean(np.hypot(*made[fault].off[inside].T)) for fault in ("none", "light noise", "heavy noise")}
    assert off["none"] < off["light noise"] < off["heavy noise"]
    blind = made["no detections"]
    assert np.isnan(blind.off[inside]).all()
    assert (np.diff(blind.spread[inside, 0]) > 0).all()
    after = np.flatnonzero(measured.time > span[1])[0]
    # A blackout is one long step, no detections many short ones: at its end both expect the same but for the fading.
    calm = MotionSettings(jumpiness=0.4, box_noise=1.5, fade=0.0, size_doubt=0.0)
    both = [ride(with_fault(measured, fault, span), calm).expected[after] for fault in ("no detections", "blackout")]
    np.testing.assert_allclose(both[0], both[1], atol=1e-6)


def test_what_calmness_costs() -> None:
    found = wanderer(noise=3.0)
    motion = MotionSettings(jumpiness=0.4, box_noise=3.0)
    tracks = fold_tracks(found, TIMES, RATE, Recipe().track.model_copy(update={"motion": motion}))
    measured = measured_of(tracks, found, TIMES, 1)
    assert measured is not None
    k = measured.frame
    truth = np.column_stack([60 + 2.5 * k, 240 + 60 * np.sin(k / 25)])
    made = trade(measured, motion, truth)
    assert (np.diff(made.rough) > -1e-3).mean() > 0.9  # the jumpier the rougher
    assert 0 < made.best < len(made.jumpiness) - 1  # too calm lags, too jumpy follows the jitter
    assert made.error[made.best] < 0.7 * made.error[0]
    assert made.error[made.best] < 0.9 * made.error[-1]
    assert made.lag[0] > made.lag[-1]
    assert ride(measured, motion).ahead.shape == (len(measured), HORIZON)
