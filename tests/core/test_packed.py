"""Blobs of several who are mostly alone: as many bodies as it takes, where they are of one size."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import runs_of, tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.bodies.packed import packed_parts, place_bodies
from drover.core.bodies.size_field import SizeField
from drover.core.kernel_parts import read_only
from drover.core.types import Detections

WIDE, TALL = 20, 50
HEIGHT, WIDTH = np.array([float(TALL), 0.0]), np.array([float(WIDE), 0.0])
FIELD = SizeField((TALL, 0.0), (WIDE, 0.0), 0.05, 0.2)
NONE = np.zeros(0, np.int64)


def blob_of(*boxes) -> np.ndarray:
    """Runs of a blob that is the union of boxes, as the kernel takes them."""
    return read_only(np.array(runs_of(*boxes), np.int16))


def body(x: int, foot: int) -> tuple[int, int, int, int]:
    return x, foot - TALL, x + WIDE, foot


def overlap(a, b) -> float:
    wide, tall = min(a[2], b[2]) - max(a[0], b[0]), min(a[3], b[3]) - max(a[1], b[1])
    both = max(wide, 0) * max(tall, 0)
    return both / ((a[2] - a[0]) * (a[3] - a[1]) + (b[2] - b[0]) * (b[3] - b[1]) - both)


@pytest.mark.parametrize(
    "bodies",
    [
        (body(100, 120), body(124, 118)),  # side by side
        (body(100, 120), body(106, 75)),  # one behind the other, seen from above
        (body(100, 120), body(112, 100)),  # half hidden
        (body(100, 120), body(121, 118), body(110, 74)),
    ],
)
def test_each_is_found_where_he_is(bodies):
    found = place_bodies(blob_of(*bodies), HEIGHT, WIDTH, 1.0)
    assert len(found) == len(bodies)
    for one in bodies:
        assert max(overlap(one, other) for other in found) > 0.55


def test_one_body_and_one_that_is_nearly_hidden_are_one():
    assert len(place_bodies(blob_of(body(100, 120)), HEIGHT, WIDTH, 1.0)) == 0
    assert len(place_bodies(blob_of(body(100, 120), body(104, 116)), HEIGHT, WIDTH, 1.0)) == 0


def test_a_wall_of_blob_is_no_four_bodies():
    assert len(place_bodies(blob_of((0, 0, 250, 190)), HEIGHT, WIDTH, 1.0)) == 0


@given(st.integers(0, 5000), st.integers(-60, 60), st.integers(-40, 40))
def test_what_is_placed_lies_in_the_blob_and_goes_with_it(seed, across, down):
    rng = np.random.default_rng(seed)
    bodies = [body(int(100 + x), int(110 + y)) for x, y in rng.integers(-30, 30, (rng.integers(1, 5), 2))]
    runs = blob_of(*bodies)
    here = place_bodies(runs, HEIGHT, WIDTH, 1.0)
    low, high = np.min(bodies, axis=0)[:2], np.max(bodies, axis=0)[2:]
    assert len(here) != 1 and len(here) <= 4
    assert (here[:, :2] >= low - 1e-9).all() and (here[:, 2:] <= high + 1e-9).all()
    moved = place_bodies(read_only((runs + np.array([down, across, across])).astype(np.int16)), HEIGHT, WIDTH, 1.0)
    np.testing.assert_allclose(moved, here + np.array([across, down, across, down]))


def table(frames: int, shapes) -> tuple[Detections, list[tuple]]:
    """Detections of one blob a picture, ``shapes(f)`` its boxes, and rows of a track that follows it."""
    rows, runs, start, area = [], [], [0], []
    for f in range(frames):
        each = blob_of(*shapes(f))
        rows.append((f, each[:, 1].min(), each[:, 0].min(), each[:, 2].max(), each[:, 0].max() + 1))
        runs.append(each)
        start.append(start[-1] + len(each))
        area.append(float((each[:, 2] - each[:, 1]).sum()))
    data = np.array(rows, float)
    found = Detections.from_boxes(
        data[:, 0].astype(np.int64), data[:, 1:].astype(np.float32), np.full(frames, 0.9, np.float32),
        frame_count=frames, size=(300, 200),
    )  # fmt: skip
    found = replace(
        found, runs=np.concatenate(runs), run_start=np.array(start, np.int64), area=np.array(area, np.float32)
    )
    return found, [(f, 1, tuple(data[f, 1:])) for f in range(frames)]


def meeting(f: int):
    """Alone, but in eight pictures of thirty."""
    return (body(100, 120), body(122, 118)) if 10 <= f < 18 else (body(100, 120),)


def test_who_is_mostly_alone_is_cut_from_the_other_and_a_cart_is_left_whole():
    found, rows = table(30, meeting)
    tracks = tracks_of(rows, 30, size=(300, 200))
    blob, box = packed_parts(found, tracks, FIELD, NONE)
    assert sorted(set(blob.tolist())) == list(range(10, 18)) and (np.bincount(blob)[10:18] == 2).all()
    for k, b in enumerate(blob.tolist()):
        assert max(overlap(one, box[k]) for one in meeting(b)) > 0.6
    blob, _ = packed_parts(found, tracks, FIELD, np.array([12, 13]))
    assert sorted(set(blob.tolist())) == [10, 11, 14, 15, 16, 17]
    cart, rows = table(30, lambda f: (body(100, 120), body(118, 120)) if f < 25 else (body(100, 120),))
    assert len(packed_parts(cart, tracks_of(rows, 30, size=(300, 200)), FIELD, NONE)[0]) == 0


def stout(f: int):
    """One of the usual width; after him one who is stout, now and then more so, and met by another in five pictures."""
    if f < 40:
        return [body(100, 120)]
    return [(100, 70, 129 if f % 6 == 0 else 126, 120), *([body(130, 118)] if 50 <= f < 55 else [])]


def test_who_is_stout_is_no_two_bodies_for_that():
    """Nearly half more than one body is hardly more than he mostly is."""
    found, rows = table(70, stout)
    rows = [(f, 1 + (f >= 40), box) for f, _, box in rows]
    blob, _ = packed_parts(found, tracks_of(rows, 70, size=(300, 200)), FIELD, NONE)
    assert set(blob.tolist()) == {50, 51, 52, 53, 54}


def test_where_a_field_has_another_shape_than_usual_it_tells_nothing():
    """Vans below made the widths of walkers above shrink: slices of one are no bodies."""
    slim = replace(FIELD, width=(WIDE - 2.0 * 100, 2.0))  # 20 px wide at level 100, 8 px at 94
    found, rows = table(30, lambda f: [(100, 44, 120, 94)] if 10 <= f < 18 else [(100, 50, 120, 100)])
    assert len(packed_parts(found, tracks_of(rows, 30, size=(300, 200)), slim, NONE)[0]) == 0


LONG = replace(FIELD, height=(WIDE, 0.0), width=(TALL, 0.0))


@pytest.mark.parametrize("field", [None, replace(FIELD, spread=0.5), replace(FIELD, width_spread=0.8), LONG])
def test_where_bodies_are_of_many_sizes_or_longer_than_tall_nothing_is_placed(field):
    found, rows = table(30, meeting)
    assert len(packed_parts(found, tracks_of(rows, 30, size=(300, 200)), field, NONE)[0]) == 0
