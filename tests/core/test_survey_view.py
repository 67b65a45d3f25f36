"""What is kept of a survey to be shown, and whether coding shows as blocks."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.detect.detection_rows import DetectionRows
from drover.core.detect.result import DetectResult
from drover.core.kept_detections import load_detections, save_detections
from drover.core.result_store import ResultStore
from drover.core.survey.blocks import block_strength
from drover.core.survey.empty_scene import find_empty_scene
from drover.core.survey.samples import Samples
from drover.core.survey.survey import survey_of
from drover.core.survey.view import RESTLESS_STEPS, noise_by_level, small_mean, view_of

SHAPE = (120, 160)


def pictures(noise_of, n: int = 32, seed: int = 1, restless: bool = False) -> Samples:
    """A ramp of brightness from left to right under noise that depends on it."""
    rng = np.random.default_rng(seed)
    ground = np.broadcast_to(np.linspace(30, 220, SHAPE[1]), SHAPE)
    shots = ground + rng.normal(0, 1, (n, *SHAPE)) * noise_of(ground)
    if restless:
        shots[:, :40, :80] += 60.0 * (rng.random((n, 40, 80)) < 0.25) * rng.random((n, 40, 80))
    return Samples(np.clip(np.rint(shots), 0, 255).astype(np.uint8), None, np.arange(n) * 0.5)


@pytest.mark.parametrize(("dark", "light"), [(2.0, 2.0), (2.0, 5.0), (1.5, 4.0)])
def test_noise_is_told_by_brightness(dark, light):
    samples = pictures(lambda g: dark + (light - dark) * (g - 30) / 190)
    curve = noise_by_level(samples, find_empty_scene(samples))
    assert len(curve) >= 10 and (np.diff(curve[:, 0]) > 0).all()
    want = dark + (light - dark) * (curve[:, 0] - 30) / 190
    np.testing.assert_allclose(curve[1:-1, 1], want[1:-1], rtol=0.12)


def test_noise_that_grows_with_the_light_is_said_and_even_noise_is_not():
    growing, even = survey_of(pictures(lambda g: 1.5 + 4 * (g - 30) / 190)), survey_of(pictures(lambda g: 2.0 + 0 * g))
    assert any(line.startswith("Noise differs with brightness") for line in growing.words)
    assert not any(line.startswith("Noise differs") for line in even.words)
    quiet = next(line for line in even.words if line.startswith("Quiet places jitter by"))
    assert float(quiet.split()[4]) == pytest.approx(2.0, abs=0.15), "the figure of the curve, not of the threshold"


def test_the_map_shows_what_stirs_and_where():
    samples = pictures(lambda g: 1.5 + 0 * g, restless=True)
    view = view_of(samples, find_empty_scene(samples), np.ones(len(samples)))
    stirs, still = view.restless[4:36, 4:76], view.restless[60:]
    assert view.restless.shape == view.empty.shape == SHAPE, "it is small enough as it is"
    assert np.median(stirs) / RESTLESS_STEPS > 1 and np.median(still) / RESTLESS_STEPS < 0.5
    np.testing.assert_allclose(view.light, np.column_stack([samples.time, np.ones(len(samples))]))


@given(st.integers(1, 40), st.integers(1, 900))
def test_a_small_picture_has_the_means_of_its_cells(rows, columns):
    plane = np.random.default_rng(rows * columns).random((rows, columns)).astype(np.float32)
    small = small_mean(plane)
    assert small.shape[1] <= 240
    side = -(-columns // 240)
    part = plane[: min(side, rows), :side]
    assert small[0, 0] == pytest.approx(part.mean(), rel=1e-4)
    assert plane.min() - 1e-6 <= small.min() and small.max() <= plane.max() + 1e-6


@pytest.mark.parametrize("strength", [0.0, 3.0, 8.0])
def test_blocks_of_the_coding_are_told_from_a_smooth_picture_and_from_a_fence(strength):
    rng = np.random.default_rng(5)
    fine = rng.normal(120, 2.0, (3, *SHAPE))
    blocks = np.kron(rng.normal(0, strength, (3, SHAPE[0] // 8, SHAPE[1] // 8)), np.ones((8, 8)))
    shown = block_strength(np.clip(fine + blocks, 0, 255).astype(np.uint8))
    assert shown > 0.3 if strength else shown < 0.06
    fence = fine.copy()
    fence[:, :, 4::8] += 10  # stripes one way only
    assert block_strength(np.clip(fence, 0, 255).astype(np.uint8)) < 0.06
    assert block_strength(np.full((2, 20, 20), 7, np.uint8)) == 0.0


def test_what_is_shown_of_a_survey_is_kept_with_the_pass(tmp_path):
    samples = pictures(lambda g: 2.0 + 0 * g)
    view, store = survey_of(samples).view, ResultStore(tmp_path)
    found = DetectionRows((160, 120)).snapshot()
    made = DetectResult(found, np.zeros(256, np.int64), (), 1.0, 10, said=("It is quiet.",), view=view)
    save_detections(store, "with", made)
    save_detections(store, "without", DetectResult(found, np.zeros(256, np.int64), (), 1.0, 10))
    kept, bare = load_detections(store, "with"), load_detections(store, "without")
    assert kept is not None and kept.view is not None and bare is not None and bare.view is None
    for name in ("empty", "restless", "noise", "light"):
        np.testing.assert_array_equal(getattr(kept.view, name), getattr(view, name))
