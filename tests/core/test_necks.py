"""Two that always go together as one blob: cut where it is thin, by hand-made outlines."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import runs_of, tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.bodies.necks import parts_of, split_necks
from drover.core.bodies.size_field import SizeField
from drover.core.kernel_parts import read_only
from drover.core.types import Detections

BODY = (10, 10, 50, 34)  # 40 px long and 24 high, as the field has them
LEGS = (14, 34, 18, 50), (42, 34, 46, 50)
HEAD = (50, 8, 60, 18)
LAMB = (56, 20, 80, 36)
FIELD = SizeField((40.0, 0.0), (42.0, 0.0), 0.05, 0.1)
RATE = 10


def moved(shape, across: int = 0, down: int = 0, times: int = 1):
    return [tuple(times * v + (down if k % 2 else across) for k, v in enumerate(box)) for box in shape]


def parts(*boxes) -> list[tuple[int, ...]]:
    found = parts_of(read_only(np.array(runs_of(*boxes), np.int16)))
    return sorted(tuple(box) for box in found.astype(int).tolist())


def test_a_thin_neck_parts_two_bodies_and_no_head_or_leg_is_one():
    assert parts(BODY) == [BODY]
    assert parts(BODY, *LEGS, HEAD) == [(10, 8, 60, 50)]
    # The lamb's head touches its mother; it is 16 px high, she 24; the neck is 4.
    (first, second) = parts(BODY, *LEGS, (50, 26, 56, 30), LAMB)
    assert first[:2] == (10, 10) and 50 <= first[2] <= 54 and first[3] == 50
    assert 50 <= second[0] <= 54 and second[1:] == (20, 80, 36)
    assert len(parts(BODY, (50, 16, 56, 32), LAMB)) == 1, "a neck as thick as the lamb is none"
    assert len(parts(BODY, (54, 12, 60, 18))) == 1, "a speck beside it is no body"
    assert parts_of(read_only(np.zeros((0, 3), np.int16))).shape == (0, 4)


def test_parts_that_were_joined_though_they_do_not_touch_are_two_bodies():
    assert parts(BODY, LAMB) == [BODY, LAMB]


@given(st.integers(-10, 200), st.integers(-10, 100), st.integers(1, 6))
def test_necks_go_with_the_blob_and_do_not_depend_on_its_size(across, down, times):
    shape = [BODY, *LEGS, (50, 26, 56, 30), LAMB]
    here, there = parts(*shape), parts(*moved(shape, across + 10, down + 10, times))
    assert len(there) == len(here) == 2
    for one, other in zip(here, there, strict=True):
        assert np.abs(np.array(other) - np.array(moved([one], across + 10, down + 10, times)[0])).max() <= 3 * times


def clip(shapes, frames: int) -> tuple[Detections, list[tuple]]:
    """Detections of a blob for each shape there is in each picture, and rows of tracks."""
    rows, runs, start, at = [], [], [0], []
    for f in range(frames):
        for who, shape in enumerate(shapes, start=1):
            if shape(f) is None:
                continue
            own = np.array(runs_of(*shape(f)), np.int16)
            box = own[:, 1].min(), own[:, 0].min(), own[:, 2].max(), own[:, 0].max() + 1
            rows.append((f, who, tuple(float(v) for v in box)))
            runs.append(own)
            start.append(start[-1] + len(own))
            at.append((f, *box))
    data = np.array(at, float)
    found = Detections.from_boxes(
        data[:, 0].astype(np.int64), data[:, 1:].astype(np.float32), np.full(len(data), 0.9, np.float32),
        frame_count=frames, size=(400, 300),
    )  # fmt: skip
    return replace(found, runs=np.concatenate(runs), run_start=np.array(start, np.int64)), rows


def alone(down: int):
    return lambda f: moved([BODY, *LEGS], 2 * f, down)


def together(f: int, *, until: int = 99):
    return moved([BODY, *LEGS, *([(50, 26, 56, 30), LAMB] if f < until else [])], 2 * f, 200)


def cut_of(shapes, field=FIELD, frames: int = 30) -> tuple[Detections, Detections]:
    found, rows = clip(shapes, frames)
    tracks = tracks_of(rows, frames, size=(400, 300))
    return found, split_necks(found, tracks, np.arange(frames) / RATE, field)


def test_those_who_go_together_are_cut_and_the_others_are_left_alone():
    found, cut = cut_of([alone(0), alone(60), together])
    assert len(cut) == len(found) + 30
    for f in range(30):
        rows = cut.rows_of(f)
        lamb = cut.box[rows][np.argmax(cut.box[rows][:, 0])]
        assert np.abs(lamb - np.array(moved([LAMB], 2 * f, 200)[0])).max() <= 6  # the neck is so long
        pixels = [
            np.diff(cut.runs[cut.run_start[k] : cut.run_start[k + 1]][:, 1:]).sum()
            for k in range(rows.start, rows.stop)
        ]
        assert sum(pixels) == 3 * (40 * 24 + 2 * 4 * 16) + 6 * 4 + 24 * 16, "no pixel is lost, none in two"


def test_who_meets_somebody_for_a_moment_is_left_whole():
    found, cut = cut_of([alone(0), alone(60), lambda f: together(f, until=6)])
    assert cut is found


def test_two_looks_at_a_pair_are_no_while():
    """Of a life with gaps the few pictures there are would all show a neck."""
    found, cut = cut_of([alone(0), alone(60), lambda f: together(f) if f % 7 < 2 else None], frames=70)
    assert cut is found


def test_where_nothing_is_followed_for_long_nothing_is_cut():
    found, cut = cut_of([alone(0), together], frames=8)
    assert cut is found


@pytest.mark.parametrize(
    "field",
    [None, replace(FIELD, spread=0.9), replace(FIELD, width_spread=0.6), replace(FIELD, width=(90.0, 0.0))],
)
def test_where_no_body_s_size_is_known_or_none_is_larger_nothing_is_cut(field):
    found, cut = cut_of([alone(0), alone(60), together], field)
    assert cut is found


def test_where_most_things_have_a_neck_that_is_how_they_are_made():
    found, cut = cut_of([alone(0), together, lambda f: moved(together(f), 0, -90)])
    assert cut is found
