"""Lines drawn into pictures: truth from a plain distance to every piece, and from how pictures are stored."""

from __future__ import annotations

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.footage.colours import fill_planes
from drover.core.strokes import draw_stroke, draw_strokes

WHOLE = np.array([0, 0, 10**6, 10**6])
WHITE = np.array([255, 255, 255, 255])


def blank(height: int, width: int) -> np.ndarray:
    return np.full((height, width), 0xFF000000, np.uint32)


@given(st.integers(0, 10_000), st.floats(1.0, 6.0))
def test_a_pixel_is_covered_as_far_as_the_line_reaches_beyond_its_middle(seed, width):
    rng = np.random.default_rng(seed)
    points = rng.uniform(-5, 35, (rng.integers(2, 6), 2)).astype(np.float32)
    picture = blank(30, 30)
    draw_stroke(picture, WHOLE, points, width, WHITE, (0.0, 0.0))
    ys, xs = np.mgrid[:30, :30] + 0.5
    off = np.full((30, 30), np.inf)
    for a, b in zip(points[:-1].astype(float), points[1:].astype(float), strict=True):
        along = np.clip(((xs - a[0]) * (b - a)[0] + (ys - a[1]) * (b - a)[1]) / max(1e-12, ((b - a) ** 2).sum()), 0, 1)
        off = np.minimum(off, np.hypot(xs - a[0] - along * (b - a)[0], ys - a[1] - along * (b - a)[1]))
    cover = np.clip(width / 2 + 0.5 - off, 0, 1)
    assert np.abs((picture & 255).astype(float) - 255 * cover).max() <= 1.5
    assert ((picture >> 24) == 255).all(), "what cannot be seen through stays so"


def test_a_broken_line_is_drawn_in_its_measure_and_inside_the_window_alone():
    picture = blank(9, 60)
    line = np.array([[0, 4.5], [60, 4.5]], np.float32)
    draw_stroke(picture, np.array([0, 0, 40, 9]), line, 1.0, WHITE, (8.0, 4.0))
    middle = (picture[4] & 255) > 250
    # Ends are round, so a piece reaches half the width further.
    assert middle[:8].all() and not middle[9:11].any() and middle[12:20].all() and middle[36:40].all()
    assert not middle[40:].any()


@given(st.integers(0, 10_000))
def test_many_lines_at_once_are_those_lines_one_after_the_other(seed):
    rng = np.random.default_rng(seed)
    lengths = rng.integers(2, 5, rng.integers(1, 6))
    start = np.concatenate([[0], np.cumsum(lengths)])
    points = rng.uniform(-5, 35, (start[-1], 2)).astype(np.float32)
    width, tint = rng.uniform(1, 5, len(lengths)), rng.integers(0, 256, (len(lengths), 4))
    broken = np.where(rng.random((len(lengths), 1)) < 0.5, 0.0, rng.uniform(1, 6, (len(lengths), 2)))
    together, one_by_one = blank(30, 30), blank(30, 30)
    draw_strokes(together, WHOLE, points, start, width, tint, broken)
    for k in range(len(lengths)):
        line = points[start[k] : start[k + 1]]
        draw_stroke(one_by_one, WHOLE, line, width[k], tint[k], (broken[k, 0], broken[k, 1]))
    assert np.array_equal(together, one_by_one)


def test_a_see_through_line_over_nothing_keeps_its_own_colour_premultiplied():
    layer = np.zeros((3, 3), np.uint32)
    draw_stroke(layer, WHOLE, np.array([[0, 1.5], [3, 1.5]], np.float32), 2.0, np.array([128, 255, 0, 64]), (0.0, 0.0))
    assert [int(layer[1, 1] >> shift) & 255 for shift in (24, 16, 8, 0)] == [128, 128, 0, 32]


@pytest.mark.parametrize("colour", [(0, 0, 0), (255, 255, 255), (255, 0, 0), (20, 160, 90), (13, 77, 201)])
def test_a_colour_comes_back_from_the_planes_as_it_went_in(colour):
    words = np.zeros((7, 9), np.uint32)  # larger than the video by an odd edge
    red, green, blue = colour
    words[:6, :8] = 0xFF000000 | red << 16 | green << 8 | blue
    frame = av.VideoFrame(8, 6, "yuv420p")
    planes = [np.frombuffer(plane, np.uint8).reshape(plane.height, plane.line_size) for plane in frame.planes]
    fill_planes(words, 8, *planes)
    back = frame.to_ndarray(format="rgb24").astype(int)
    assert np.abs(back - colour).max() <= 3
