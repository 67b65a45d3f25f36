"""What a clip's detections say in words: sizes, near and far, crowds and speeds."""

from __future__ import annotations

import numpy as np
import pytest

from drover.core.bodies.movers import words_of_movers
from drover.core.types import Detections

FRAMES = 60


def walkers(*, count: int, speed: float, side=lambda foot: 20.0, rate: float = 25.0) -> tuple[Detections, np.ndarray]:
    """``count`` of them side by side on their own levels, each going ``speed`` px a picture."""
    rows = []
    for f in range(FRAMES):
        for k in range(count):
            foot = 40.0 + 300.0 * k / max(1, count - 1)
            size = side(foot)
            x = 10 + (37 * k + speed * f) % 580
            rows.append((f, x, foot - size, x + size, foot))
    table = np.array(rows)
    found = Detections.from_boxes(
        table[:, 0].astype(np.int64), table[:, 1:].astype(np.float32), np.ones(len(rows), np.float32),
        frame_count=FRAMES, size=(640, 360),
    )  # fmt: skip
    return found, np.arange(FRAMES) / rate


def said(**kind) -> str:
    return " ".join(words_of_movers(*walkers(**kind)))


def test_sizes_are_told_and_near_and_far_where_they_differ():
    assert "20 to 20 px large." in said(count=6, speed=3.0)
    text = said(count=6, speed=1.0, side=lambda foot: 5 + foot / 5)
    assert "far away" in text and "near by" in text
    assert "rough" not in text


def test_things_of_few_pixels_are_warned_of():
    assert "under 8 px: counts will be rough" in said(count=6, speed=1.0, side=lambda foot: 5.0)


@pytest.mark.parametrize(("speed", "fast"), [(2.0, False), (50.0, True)])
def test_things_that_leap_by_more_than_their_size_are_warned_of(speed, fast):
    text = said(count=2, speed=speed, rate=5.0)  # far from each other: no line is found by chance
    assert ("their direction tells them apart" in text) == fast
    if fast:
        assert "up to 2.5 of their sizes" in text


def test_a_crowd_and_a_few_are_told_apart_and_of_almost_nothing_nothing_is_said():
    assert "It is crowded: 30 things at once, at times 30." in said(count=30, speed=1.0)
    assert "Up to 3 things move at once." in said(count=3, speed=1.0)
    few, times = walkers(count=1, speed=0.5)
    few = Detections.from_boxes(
        np.zeros(3, np.int64), few.box[:3].copy(), np.ones(3, np.float32), frame_count=60, size=(640, 360)
    )
    assert words_of_movers(few, times) == ()
