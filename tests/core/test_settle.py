"""What a whole clip makes of its detections, from end to end: pieces, passers-by, sparks, and what stays as it is."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drover.core.bodies.settle import settle
from drover.core.geometry import pair_overlap
from drover.core.recipe import BodySettings
from drover.core.types import Detections

RATE = 25.0
FRAMES = 125
TIMES = np.arange(FRAMES) / RATE
SIZE = (640, 360)

Box = tuple[float, float, float, float]


def table(rows: list[tuple[int, Box]]) -> Detections:
    """Detections from (frame, box) rows, each with a filled outline."""
    rows = sorted(rows, key=lambda row: row[0])
    box = np.array([row[1] for row in rows], np.float32).round().reshape(-1, 4)
    runs, start = [], [0]
    for x1, y1, x2, y2 in box.astype(int).tolist():
        runs += [(y, x1, x2) for y in range(y1, y2)]
        start.append(len(runs))
    found = Detections.from_boxes(
        np.array([row[0] for row in rows], np.int64), box, np.full(len(rows), 0.9, np.float32),
        frame_count=FRAMES, size=SIZE,
    )  # fmt: skip
    area = ((box[:, 2] - box[:, 0]) * (box[:, 3] - box[:, 1])).astype(np.float32)
    return replace(found, runs=np.array(runs, np.int16).reshape(-1, 3), run_start=np.array(start, np.int64), area=area)


def walker(f: int, *, start: float = 40.0, speed: float = 4.0, foot: float = 300.0, tall: float = 60.0) -> Box:
    x = start + speed * f
    return x, foot - tall, x + 0.4 * tall, foot


def pieces(box: Box) -> list[Box]:
    """Head, and legs, of somebody whose coat has the colour of the ground."""
    x1, y1, x2, y2 = box
    tall, middle = y2 - y1, (x1 + x2) / 2
    return [(middle - 5, y1, middle + 5, y1 + 0.18 * tall), (x1, y1 + 0.55 * tall, x2, y2)]


def whole(found: Detections, **more) -> Detections:
    return settle(found, TIMES, RATE, BodySettings(**more))


def boxes_in(found: Detections, f: int) -> np.ndarray:
    return found.box[found.rows_of(f)]


def best(boxes: np.ndarray, box: Box) -> float:
    truth = np.array([box], np.float32)
    return max((float(pair_overlap(truth, 0, boxes, k)) for k in range(len(boxes))), default=0.0)


def others() -> list[tuple[int, Box]]:
    """Three who walk whole, each on a level of his own."""
    rows = []
    for k, foot in enumerate((110.0, 190.0, 255.0)):
        rows += [(f, walker(f, start=20 + 30 * k, foot=foot, speed=3.0 + k)) for f in range(FRAMES)]
    return rows


def test_head_and_legs_are_one_body_all_the_way():
    rows = others()
    for f in range(FRAMES):
        rows += [(f, piece) for piece in pieces(walker(f, foot=345.0))]
    out = whole(table(rows))
    good = [best(boxes_in(out, f), walker(f, foot=345.0)) > 0.9 and len(boxes_in(out, f)) == 4 for f in range(FRAMES)]
    assert np.mean(good) > 0.95


def test_pieces_stay_pieces_where_nobody_asks_for_bodies():
    rows = others()
    for f in range(FRAMES):
        rows += [(f, piece) for piece in pieces(walker(f, foot=345.0))]
    found = table(rows)
    out = whole(found, gather=False, drop_sparks=False)
    np.testing.assert_array_equal(out.box, found.box)


def test_a_body_that_falls_apart_for_a_picture_is_there_in_that_picture_too():
    apart = {40, 41, 77, 90}
    rows = others()
    for f in range(FRAMES):
        box = walker(f, foot=345.0)
        rows += [(f, piece) for piece in pieces(box)] if f in apart else [(f, box)]
    out = whole(table(rows))
    for f in apart:
        assert best(boxes_in(out, f), walker(f, foot=345.0)) > 0.3, "at least its larger piece"
        assert len(boxes_in(out, f)) == 4


@settings(max_examples=8)
@given(st.integers(0, 1000), st.floats(0.5, 4.0))
def test_sparks_go_and_those_who_walk_stay(seed, many):
    """Sparks anywhere, each for a picture: nothing follows them."""
    rng = np.random.default_rng(seed)
    rows, truth = others(), others()
    for f in range(FRAMES):
        for _ in range(rng.poisson(many)):
            x, y = rng.uniform((5, 270), (620, 345))
            rows.append((f, (x, y, x + rng.uniform(4, 14), y + rng.uniform(4, 14))))
    out = whole(table(rows))
    kept = [best(boxes_in(out, f), box) > 0.9 for f, box in truth]
    assert np.mean(kept) > 0.97
    assert len(out) - sum(kept) < 0.25 * (len(rows) - len(truth))


def test_two_who_pass_each_other_are_never_one_box_for_long():
    rows, truth = [], []
    for f in range(FRAMES):
        one, other = walker(f, start=40, speed=2.0, foot=300), walker(f, start=430, speed=-2.0, foot=312)
        truth.append((one, other))
        if one[0] < other[2] and other[0] < one[2]:
            rows.append(
                (f, (min(one[0], other[0]), min(one[1], other[1]), max(one[2], other[2]), max(one[3], other[3])))
            )
        else:
            rows += [(f, one), (f, other)]
    found = table(rows + others())
    out = whole(found)
    shared = [f for f in range(FRAMES) if len(boxes_in(found, f)) == 4]
    fits = {
        name: [min(best(boxes_in(table, f), box) for box in truth[f]) > 0.6 for f in shared]
        for name, table in (("before", found), ("after", out))
    }
    assert len(shared) >= 8 and np.mean(fits["before"]) < 0.4
    assert np.mean(fits["after"]) > 0.8


def test_what_is_settled_once_is_not_unsettled_by_settling_again():
    rows = others()
    for f in range(FRAMES):
        rows += [(f, piece) for piece in pieces(walker(f, foot=345.0))]
    once = whole(table(rows))
    again = whole(once)
    np.testing.assert_allclose(again.box, once.box, atol=1.0)


@pytest.mark.parametrize("count", [0, 1, 30])
def test_of_almost_nothing_all_is_left(count):
    found = table([(f, walker(f)) for f in range(count)])
    out = settle(found, TIMES[:FRAMES] if count else TIMES, RATE, BodySettings(drop_sparks=False))
    np.testing.assert_array_equal(out.box, found.box)


def test_rows_outlines_and_looks_belong_together_afterwards():
    rows = others()
    for f in range(FRAMES):
        rows += [(f, piece) for piece in pieces(walker(f, foot=345.0))]
    out = whole(table(rows))
    assert out.frame_start[-1] == len(out) == len(out.confidence) == len(out.area) == len(out.run_start) - 1
    for row in range(0, len(out), 17):
        runs = out.runs[out.run_start[row] : out.run_start[row + 1]].astype(int)
        x1, y1, x2, y2 = out.box[row]
        assert (runs[:, 2] > runs[:, 1]).all() and (np.diff(runs[:, 0]) >= 0).all()
        assert runs[:, 0].min() >= y1 - 1 and runs[:, 0].max() < y2 + 1
        assert runs[:, 1].min() >= x1 - 1 and runs[:, 2].max() <= x2 + 1
        assert (runs[:, 2] - runs[:, 1]).sum() == pytest.approx(out.area[row], rel=0.01)


def ball(born: int, f: int, *, side: float = 20.0, across: float = 13.0, pull: float = 2.2) -> Box:
    """One that is thrown across the picture and bounces off the floor: by a tenth of its size faster each picture."""
    height, rise = 200.0, 0.0
    for _ in range(f - born):
        rise -= pull
        height += rise
        if height < 0:
            height, rise = -height, -0.85 * rise
    x, y = 5.0 + across * (f - born), 320.0 - height
    return x, y, x + side, y + side


def test_what_falls_and_bounces_is_followed_and_stays():
    rows = [(f, ball(born, f)) for born in range(0, FRAMES, 15) for f in range(born, min(FRAMES, born + 46))]
    out = whole(table(rows))
    assert np.mean([best(boxes_in(out, f), box) > 0.8 for f, box in rows]) > 0.9
