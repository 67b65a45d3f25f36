"""A blob that several share is cut between those who were followed into it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import runs_of, tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.bodies.settle import GENEROUS
from drover.core.bodies.shared import cut_runs, split_shared
from drover.core.geometry import pair_overlap
from drover.core.track.whole_clip import link_detections
from drover.core.types import LOOK, Detections

RATE = 25.0
FRAMES = 100
TIMES = np.arange(FRAMES) / RATE
WIDE, TALL = 24, 50


def boxes(f: int) -> tuple[np.ndarray, np.ndarray]:
    """Two who walk past each other, one a little lower."""
    left = np.array([100 + 3 * f, 100, 100 + WIDE + 3 * f, 100 + TALL])
    right = np.array([400 - 3 * f, 112, 400 + WIDE - 3 * f, 112 + TALL])
    return left, right


def passing() -> tuple[Detections, list[int]]:
    """Detections of the two, one blob where they touch, and the pictures in which they do."""
    rows, runs, start, look, shared = [], [], [0], [], []
    for f in range(FRAMES):
        one, other = boxes(f)
        touch = one[0] < other[2] and other[0] < one[2]
        shared += [f] if touch else []
        for k, shapes in enumerate([(one, other)] if touch else [(one,), (other,)]):
            rows.append((f, *np.minimum.reduce(shapes)[:2], *np.maximum.reduce(shapes)[2:]))
            runs += runs_of(*shapes)
            start.append(len(runs))
            look.append(90 if touch else 40 + 100 * k)
    table = np.array(rows)
    found = Detections.from_boxes(
        table[:, 0].astype(np.int64), table[:, 1:].astype(np.float32), np.full(len(rows), 0.9, np.float32),
        frame_count=FRAMES, size=(640, 300),
    )  # fmt: skip
    looks = np.repeat(np.array(look, np.uint8)[:, None], LOOK, axis=1)
    area = np.diff(np.concatenate([[0], np.cumsum([b - a for _, a, b in runs])])[np.array(start)]).astype(np.float32)
    return (
        replace(
            found, runs=np.array(runs, np.int16), run_start=np.array(start, np.int64), look=looks, area=area
        ),
        shared,
    )  # fmt: skip


def test_two_who_pass_each_other_are_two_all_the_way():
    found, shared = passing()
    tracks = link_detections(found, TIMES, RATE, GENEROUS)
    out = split_shared(found, tracks, TIMES)
    apart = [f for f in shared if abs(boxes(f)[0][0] - boxes(f)[1][0]) >= 8]
    two = [f for f in shared if out.frame_start[f + 1] - out.frame_start[f] == 2]
    assert len(set(two) & set(apart)) >= 0.8 * len(apart) > 3
    for f in two:
        rows = np.arange(out.frame_start[f], out.frame_start[f + 1])
        truth = np.array(boxes(f), np.float32)
        shares = np.array([[pair_overlap(truth, k, out.box, int(r)) for r in rows] for k in range(2)])
        assert max(shares[0, 0] + shares[1, 1], shares[0, 1] + shares[1, 0]) > 1.2
        row = int(found.frame_start[f])
        assert out.area[rows].sum() == found.area[row], "every pixel goes to one of them"
        assert set(out.look[rows, 0].tolist()) == {40, 140}, "each looks as it did alone"
    others = [f for f in range(FRAMES) if f not in shared]
    for f in others[::7]:
        a, b = slice(*found.frame_start[f : f + 2]), slice(*out.frame_start[f : f + 2])
        np.testing.assert_array_equal(found.box[a], out.box[b])
    assert len(out.runs) == out.run_start[-1]


def test_a_blob_that_one_of_them_covers_is_left_to_him():
    """A small one that goes behind a large one shares its blob, and hides."""
    found, _ = passing()
    large = np.array([60, 40, 560, 220], np.float32)
    tracks = link_detections(found, TIMES, RATE, GENEROUS)
    box = tracks.box.copy()
    owned = np.bincount(tracks.detection[tracks.detection >= 0], minlength=len(found)) > 1
    in_shared = (tracks.detection >= 0) & owned[np.maximum(tracks.detection, 0)]
    first = in_shared & (tracks.identity == tracks.identity[in_shared][0])
    box[first] = large
    out = split_shared(found, replace(tracks, box=box), TIMES)
    np.testing.assert_array_equal(out.box, found.box)


@given(st.integers(0, 500))
def test_pixels_go_to_the_box_whose_middle_is_nearest_in_its_sizes(seed):
    rng = np.random.default_rng(seed)
    corner, side = rng.uniform(0, 30, (3, 2)), rng.uniform(3, 20, (3, 2))
    box = np.hstack([corner, corner + side]).astype(np.float32)
    runs = np.array([(y, x, x + rng.integers(1, 15)) for y in range(12) for x in (0, 22)], np.int16)
    parts, sizes, pixels = cut_runs(runs, box)
    got, first = {}, 0
    for p, many in enumerate(sizes.tolist()):
        for y, x0, x1 in parts[first : first + many].tolist():
            got |= {(y, x): p for x in range(x0, x1)}
        first += many
    want = {}
    for y, x0, x1 in runs.tolist():
        for x in range(x0, x1):
            middle = (box[:, :2] + box[:, 2:]).astype(np.float64) / 2
            away = np.abs(np.array([x + 0.5, y + 0.5]) - middle) / (box[:, 2:] - box[:, :2])
            want[y, x] = int(np.argmin(away.max(axis=1)))
    assert got == want
    assert np.bincount(list(want.values()), minlength=3).tolist() == pixels.tolist()


@pytest.mark.parametrize(("alone", "cut"), [(25, False), (75, True)])
def test_a_mark_that_somebody_walked_over_is_not_his_head(alone, cut):
    """One identity has a blob of its own, as small as a head, for so long, and is on another's blob until the end.

    After a second alone it is a mark that was taken along; had it been about by itself for most of the time, it would
    be somebody small who hides.
    """
    rows, runs, start, held = [], [], [0], []
    for f in range(FRAMES):
        body = (100, 100, 100 + WIDE, 100 + TALL)
        blobs = [body] + ([(40 + f, 140, 48 + f, 148)] if f < alone else [])
        first = len(rows)
        for box in blobs:
            rows.append((f, *box))
            runs += runs_of(box)
            start.append(len(runs))
        held.append((f, 1, (100, 112, 100 + WIDE, 100 + TALL), first))
        held.append((f, 2, blobs[1], first + 1) if f < alone else (f, 2, (108, 100, 116, 108), first))
    table = np.array(rows, float)
    found = Detections.from_boxes(
        table[:, 0].astype(np.int64), table[:, 1:].astype(np.float32), np.full(len(rows), 0.9, np.float32),
        frame_count=FRAMES, size=(640, 300),
    )  # fmt: skip
    found = replace(found, runs=np.array(runs, np.int16), run_start=np.array(start, np.int64))
    tracks = tracks_of([row[:3] for row in held], FRAMES, size=(640, 300))
    tracks = replace(tracks, detection=np.array([row[3] for row in held], np.int32))
    out = split_shared(found, tracks, TIMES)
    parts = np.diff(out.frame_start)[alone:]
    assert (parts == (2 if cut else 1)).all()
