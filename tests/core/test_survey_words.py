"""The sentences and figures of a survey: each warning stands exactly where it holds."""

from __future__ import annotations

import json
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import ndimage

from drover.core.survey.camera import CameraLook
from drover.core.survey.empty_scene import EmptyScene
from drover.core.survey.samples import Samples
from drover.core.survey.shadows import ShadowEvidence
from drover.core.survey.survey import Survey, survey_of

SHAPE = (120, 160)
NO_SHADOWS = ShadowEvidence(0.0, 0.0, 0.0, 0.0, 0.3, 0.95, 0)


def scene(level: float = 110.0, noise: float = 2.0) -> EmptyScene:
    plane, jitter = np.full(SHAPE, level, np.float32), np.full(SHAPE, noise, np.float32)
    return EmptyScene(plane, jitter, None, None, np.zeros(SHAPE, np.float32))


def plain(**more) -> Survey:
    """A survey of footage that asks for no warning, with something else about it."""
    return replace(Survey(scene(), False, NO_SHADOWS, 0.0, 15.0), **more)


WARNINGS = {
    "The camera moves": {"camera": CameraLook(5.0, 0.4, 0.9, True)},
    "It is dark": {"empty": scene(level=20.0)},
    "The light changes by 30 %": {"light": 0.3},
    "The footage is grey": {"grey": True},
    "12 % of the ground is restless": {"restless": 0.12},
    "In one place something stands": {"stood": 1},
    "In 3 places something stands": {"stood": 3},
    "Bodies cast short shadows": {"shadows": ShadowEvidence(0.9, 0.5, 9.0, 1.5, 0.3, 0.9, 40, 40, 0.1)},
    "Bodies cast shadows, all to one side": {"shadows": ShadowEvidence(0.9, 0.0, 9.0, 0.2, 0.3, 0.9, 40, 40, 0.1)},
}


@given(st.sets(st.sampled_from(sorted(WARNINGS)), max_size=6))
def test_each_warning_is_said_exactly_where_it_holds(chosen):
    asked: dict[str, object] = {}
    holds = set()
    for words in sorted(chosen):
        if set(WARNINGS[words]) & set(asked):
            continue  # it says something else of the same
        asked |= WARNINGS[words]
        holds.add(words)
    text = " ".join(plain(**asked).words)
    for words in WARNINGS:
        assert (words in text) == (words in holds), words


def test_a_moving_camera_is_the_first_thing_that_is_said_and_noise_is_always_said():
    words = plain(**WARNINGS["The camera moves"], stood=2).words
    assert words[0].startswith("The camera moves, by about 5 px within 0.4 s")
    assert any("jitter by 2.0 levels" in sentence for sentence in plain().words)
    still = plain(view=SimpleNamespace(noise=np.array([[100.0, 0.04]])))
    assert "Quiet places do not jitter; with what stirs, thresholds are multiples of 2.0 levels." in still.words
    assert not any("What moves differs" in sentence for sentence in plain(contrast=float("inf")).words)


@pytest.mark.parametrize("more", [*WARNINGS.values(), {"contrast": float("inf")}])
def test_figures_are_plain_numbers_that_a_file_can_hold(more):
    facts = json.loads(json.dumps(plain(**more).facts))
    assert {"noise", "grey", "restless", "camera_moves", "light_changes", "stood"} <= set(facts)
    assert all(isinstance(value, int | float | bool) for value in facts.values())


# --- measured from pictures ---------------------------------------------------------------------------------------


def ground(seed: int = 3) -> np.ndarray:
    rough = ndimage.gaussian_filter(np.random.default_rng(seed).normal(0, 1, SHAPE), 2.0, mode="wrap")
    return 100 + 25 * rough / rough.std()


def taken(change) -> Samples:
    """Sixteen pictures of one place, each as ``change(k, ground)`` makes it, with noise of two levels."""
    rng = np.random.default_rng(8)
    pictures = [np.clip(np.rint(change(k, ground()) + rng.normal(0, 2, SHAPE)), 0, 255) for k in range(16)]
    return Samples(np.array(pictures, np.uint8), None, np.arange(16) * 0.4)


def test_light_that_changes_is_measured_and_noise_stays_what_it_was():
    steady = survey_of(taken(lambda k, place: place))
    changing = survey_of(taken(lambda k, place: place * (0.8 + 0.025 * k)))
    assert steady.light < 0.03
    assert changing.light == pytest.approx((0.8 + 0.025 * 15) / 0.8 - 1, abs=0.05)
    assert float(np.median(changing.empty.noise)) < 1.6 * float(np.median(steady.empty.noise))
    assert any("The light changes" in sentence for sentence in changing.words)
    assert not any("The light changes" in sentence for sentence in steady.words)


def test_where_the_camera_sways_nothing_is_said_to_stand_there():
    rng = np.random.default_rng(5)
    ways = rng.choice([-4, 4], (16, 2))
    swaying = survey_of(taken(lambda k, place: np.roll(place, tuple(ways[k]), axis=(0, 1))))
    assert swaying.camera.moves and swaying.stood == 0
    assert not survey_of(taken(lambda k, place: place)).camera.moves


def test_footage_without_colour_is_grey_and_has_no_shadows():
    found = survey_of(taken(lambda k, place: place))
    assert found.grey and not found.shadows.cast
