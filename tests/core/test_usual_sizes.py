"""How like the sure objects of a clip others are in size, and what that says of faint ones."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.track.travel import object_odds
from drover.core.track.usual_sizes import likeness
from drover.core.types import Detections

RATE, FRAMES = 25.0, 60
SURE, FAINT = 0.8, 0.5


def columns(*bodies):
    """Starts, rows, boxes and seen of paths of ten rows given as (width, height, foot)."""
    box = np.repeat(
        np.array([(50, foot - tall, 50 + wide, foot) for wide, tall, foot in bodies], np.float32), 10, axis=0
    )
    n = len(bodies)
    return 10 * np.arange(n + 1), np.arange(10 * n), box, np.ones(10 * n, np.bool_)


def far_and_near(foot: float) -> tuple[float, float, float]:
    """A body whose size grows by half for each 100 px that it stands lower."""
    grown = 1.5 ** (foot / 100)
    return 8 * grown, 20 * grown, foot


def test_the_like_of_a_place_are_those_of_the_size_usual_there():
    known = [far_and_near(foot) for foot in (100.0, 150.0, 200.0, 250.0, 300.0)]
    wide, tall, foot = far_and_near(180.0)
    others = [(wide, tall, foot), (1.3 * wide, tall, foot), (wide / 2, tall / 2, foot), (30.0, 6.0, 280.0)]
    sure = np.arange(9) < 5
    like = likeness(*columns(*known, *others), sure)
    assert like is not None
    assert like[:5] == pytest.approx(1.0, abs=0.02)
    assert like[5] == pytest.approx(1.0, abs=0.02)
    assert like[6] == pytest.approx(1 - np.log(1.3), abs=0.02)
    assert like[7:].tolist() == [0.0, 0.0], "of half the size; as of another shape"


def test_few_objects_and_objects_of_all_sizes_tell_nothing():
    known = [far_and_near(foot) for foot in (100.0, 200.0)]
    assert likeness(*columns(*known, known[0]), np.array([True, True, False])) is None
    mixed = [(10, 20, 150), (60, 30, 160), (14, 70, 170), (90, 90, 150), (25, 12, 165)]
    assert likeness(*columns(*mixed), np.ones(5, np.bool_)) is None


@given(st.floats(0.2, 5.0), st.integers(0, 1000))
def test_a_clip_drawn_larger_says_the_same(scale, seed):
    rng = np.random.default_rng(seed)
    bodies = [tuple(np.array(far_and_near(foot)) * (*rng.uniform(0.9, 1.1, 2), 1)) for foot in rng.uniform(100, 300, 8)]
    sure = np.arange(8) < 5
    small, large = columns(*bodies), columns(*bodies)
    large[2][:] = small[2] * scale + 20
    one, other = likeness(*small, sure), likeness(*large, sure)
    if min(min(b[:2]) for b in bodies) * min(scale, 1.0) > 1.0:  # under a pixel there is no smaller
        assert (one is None) == (other is None)
        if one is not None and other is not None:
            np.testing.assert_allclose(one, other, atol=0.03)


def odds_of(faint: tuple[float, float], *, with_others: bool = True) -> float:
    """The odds of one that is faint, soon over and of a size, (width, height), beside four that are not."""
    bodies = [(1 + k, 20.0, 50.0, SURE, FRAMES) for k in range(4 if with_others else 0)]
    bodies.append((9, *faint, FAINT, 30))
    rows, sure = [], []
    for f in range(FRAMES):
        for who, wide, tall, confidence, lasts in bodies:
            if f < lasts:
                x = 30.0 + 3 * f + 20 * who
                rows.append((f, who, (x, 150 - tall, x + wide, 150)))
                sure.append(confidence)
    tracks = replace(tracks_of(rows, FRAMES, size=(640, 360)), confidence=np.array(sure, np.float32))
    found = Detections.from_boxes(
        tracks.frame.astype(np.int64), tracks.box, np.array(sure, np.float32), frame_count=FRAMES, size=(640, 360)
    )
    return float(object_odds(tracks, found, np.arange(FRAMES) / RATE)[-1])


def test_who_is_faint_but_of_the_usual_size_is_an_object_and_who_is_not_is_less_of_one():
    alone = odds_of((20.0, 50.0), with_others=False)
    assert odds_of((20.0, 50.0)) - alone == pytest.approx(2.2, abs=0.05)
    assert odds_of((6.0, 9.0)) - alone == pytest.approx(-0.2, abs=0.05)
