"""Bodies of which an end is lost against the ground for a while: put back where the other end goes on as before."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.bodies.completed import complete_bodies, quantiles_around
from drover.core.types import Detections

RATE, FRAMES, SIZE = 25.0, 60, (400, 200)
TIMES = np.arange(FRAMES) / RATE
WIDE, TALL = 16.0, 50.0


def true_box(frame: int, x: float = 60.0, speed: float = 3.0, foot: float = 130.0) -> np.ndarray:
    """A walker that goes to the right and comes nearer a little."""
    left, y2 = x + speed * frame, foot + 0.2 * frame
    return np.array([left, y2 - TALL, left + WIDE, y2])


def seen(frame: int, lost: str, share: float, **way: float) -> np.ndarray:
    """What is seen where a share of the height is lost at an end; legs are lost with the stride that they take."""
    box = true_box(frame, **way)
    if lost == "feet":
        return box - np.array([-3, 0, 3, share * TALL])
    return box + np.array([3, share * TALL, -3, 0])


def made_of(boxes: list[np.ndarray]) -> tuple[Detections, Detections]:
    """The detections of one body, one a frame, and what becomes of them."""
    rows = np.array(boxes, np.float32)
    found = Detections.from_boxes(
        np.arange(len(rows)), rows, np.ones(len(rows), np.float32), frame_count=FRAMES, size=SIZE
    )
    tracks = tracks_of([(k, 1, tuple(box)) for k, box in enumerate(boxes)], FRAMES, size=SIZE)
    return found, complete_bodies(found, tracks, TIMES)


@pytest.mark.parametrize("lost", ["feet", "head"])
def test_a_lost_end_is_put_back_and_nothing_else_is_touched(lost):
    parts = range(20, 34)
    found, made = made_of([seen(k, lost, 0.5) if k in parts else true_box(k) for k in range(FRAMES)])
    for k in range(FRAMES):
        if k in parts:
            assert np.abs(made.box[k] - true_box(k)).max() < 1.0
        else:
            assert np.array_equal(made.box[k], found.box[k])
    assert made.runs is found.runs and np.array_equal(made.frame_start, found.frame_start)


@given(st.sampled_from(["feet", "head"]), st.floats(0.0, 0.9), st.integers(1, 25), st.floats(-4, 4))
def test_a_box_only_grows_and_holds_what_was_seen(lost, share, many, speed):
    way = {"speed": speed, "x": 180.0}
    found, made = made_of(
        [seen(k, lost, share, **way) if 20 <= k < 20 + many else true_box(k, **way) for k in range(FRAMES)]
    )
    grown = (made.box - found.box) * np.array([-1, -1, 1, 1])
    assert grown.min() > -1e-3
    high = made.box[:, 3] - made.box[:, 1]
    assert high.max() < 1.05 * TALL


def test_who_crouches_or_goes_away_is_no_part_of_himself():
    # Both ends move: he crouches about his middle. Nor is one that shrinks for good made as large as he was.
    low = [true_box(k) + (np.array([0, 12, 0, -12]) if 20 <= k < 34 else 0) for k in range(FRAMES)]
    found, made = made_of(low)
    assert made is found
    going = [true_box(k) if k < 30 else seen(k, "feet", 0.5) for k in range(FRAMES)]
    found, made = made_of(going)
    assert made is found, "after it nobody saw him in full"


def test_at_the_rim_of_the_picture_what_is_not_seen_is_outside():
    way = {"foot": 195.0, "speed": 2.0}
    boxes = [true_box(k, **way) for k in range(FRAMES)]
    for k in range(20, 40):  # he walks along the lower edge, which cuts his legs off
        boxes[k] = boxes[k] + np.array([0, 25, 0, 25])
        boxes[k][3] = SIZE[1]
    found, made = made_of(boxes)
    assert made is found


def test_two_that_share_a_row_and_one_hardly_followed_are_left_as_they_are():
    boxes = [seen(k, "feet", 0.5) if 20 <= k < 34 else true_box(k) for k in range(FRAMES)]
    found, made = made_of(boxes)
    assert made is not found
    tracks = tracks_of([(k, i, tuple(boxes[k])) for k in range(FRAMES) for i in (1, 2)], FRAMES, size=SIZE)
    tracks = replace(tracks, detection=np.repeat(np.arange(FRAMES), 2).astype(np.int32))
    assert complete_bodies(found, tracks, TIMES) is found
    brief = tracks_of([(k, 1, tuple(boxes[k])) for k in range(18, 24)], FRAMES, size=SIZE)
    brief = replace(brief, detection=np.arange(18, 24, dtype=np.int32))
    assert complete_bodies(found, brief, TIMES) is found


# --- against a twin that looks at one picture after the other ------------------------------------------------------


@given(st.integers(0, 100_000))
def test_what_is_put_back_is_what_a_look_at_every_picture_says(seed):
    """Bodies of changing height that lose an end, both ends or none, at uneven times, some at the picture's edge."""
    rng, boxes = np.random.default_rng(seed), []
    times = np.cumsum(rng.choice([0.04, 0.08, 0.5], FRAMES, p=[0.7, 0.25, 0.05]))
    high, foot, wide = rng.uniform(30, 60), rng.uniform(60, 205), rng.uniform(10, 45)
    for frame in range(FRAMES):
        box = np.array([10.0 + 4 * frame, foot - high, 10.0 + 4 * frame + wide, foot])
        if rng.random() < 0.35:
            share = rng.uniform(0.05, 0.9)
            box += np.array([0, share * high, 0, 0]) if rng.random() < 0.5 else -np.array([0, 0, 0, share * high])
        foot, high = foot + rng.normal(0, 0.8), high * float(np.exp(rng.normal(0, 0.01)))
        boxes.append(box + rng.normal(0, 0.3, 4))
    rows = np.array(boxes, np.float32)
    found = Detections.from_boxes(np.arange(FRAMES), rows, np.ones(FRAMES, np.float32), frame_count=FRAMES, size=SIZE)
    tracks = tracks_of([(k, 1, tuple(box)) for k, box in enumerate(boxes)], FRAMES, size=SIZE)
    made = complete_bodies(found, tracks, times)
    np.testing.assert_allclose(made.box, looked_at_singly(rows.astype(float), times), atol=2e-3)


def looked_at_singly(box: np.ndarray, when: np.ndarray) -> np.ndarray:
    out, tall, wide = box.copy(), box[:, 3] - box[:, 1], np.maximum(box[:, 2] - box[:, 0], 1.0)
    usual = [np.quantile(tall[np.abs(when - now) <= 1.5 + 1e-9], 0.75) for now in when]
    full = [k for k in range(len(box)) if 0.88 * usual[k] <= tall[k] <= 1.2 * usual[k]]
    slim = float(np.median([wide[k] / tall[k] for k in full])) if full else np.inf
    if len(full) < 4 or slim > 0.77:
        return out
    for k in range(len(box)):
        before, after = [j for j in full if j < k][-1:], [j for j in full if j > k][:1]
        if not before or not after or not 0.25 * usual[k] < tall[k] < 0.72 * usual[k]:
            continue
        a, b = before[0], after[0]
        ratio = tall[b] / tall[a]
        if box[k, 1] <= 1.0 or box[k, 3] >= SIZE[1] - 1.0 or not 1 / 1.2 <= ratio <= 1.2:
            continue
        if when[k] - when[a] > 2.5 or when[b] - when[k] > 2.5:
            continue
        share = (when[k] - when[a]) / (when[b] - when[a])
        top, foot = ((1 - share) * box[a, side] + share * box[b, side] for side in (1, 3))
        at_top, at_foot = (abs(box[k, side] - end) <= 0.14 * (foot - top) for side, end in ((1, top), (3, foot)))
        if at_top == at_foot:
            continue
        middle, half = (box[k, 0] + box[k, 2]) / 2, max(wide[k], slim * (foot - top)) / 2
        upper = box[k, 1] if at_top else box[k, 3] - (foot - top)
        whole = [middle - half, upper, middle + half, upper + foot - top]
        out[k] = np.clip(whole, 0.0, [*SIZE, *SIZE])
    return out


@given(st.integers(0, 10_000), st.floats(0.0, 1.0))
def test_quantiles_around_are_those_of_each_stretch(seed, share):
    rng = np.random.default_rng(seed)
    value = rng.normal(0, 1, 30)
    first = np.sort(rng.integers(0, 29, 12))
    past = np.minimum(first + rng.integers(1, 9, 12), 30)
    twin = [np.quantile(value[a:b], share) for a, b in zip(first, past, strict=True)]
    assert quantiles_around(value, first, past, share) == pytest.approx(twin)
