"""Tracks carried on at their ends over detections that nobody took."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.track.carried_on import carry_on
from drover.core.types import Detections, Tracks, TrackState

FRAMES, SIZE = 40, (640, 360)
TIMES = np.arange(FRAMES) / 25.0


def walker(f: int, x: float = 100.0, speed: float = 4.0) -> tuple[float, ...]:
    return x + speed * f, 100, x + speed * f + 40, 200


def clip(*movers, times=TIMES) -> Detections:
    """Detections of movers given as (box of a frame, frames it is found in), frame by frame."""
    rows = sorted((f, k, *box(f)) for k, (box, seen) in enumerate(movers) for f in seen)
    table = np.array(rows, float)
    return Detections.from_boxes(
        table[:, 0].astype(np.int64), table[:, 2:].astype(np.float32), np.full(len(rows), 0.7, np.float32),
        frame_count=len(times), size=SIZE,
    ).frozen()  # fmt: skip


def linked(found: Detections, *paths) -> Tracks:
    """Tracks given as (box of a frame, frames in which it has the detection with just that box, frames coasting)."""
    rows, link, state = [], [], []
    for one, (box, seen, unseen) in enumerate(paths, 1):
        for f in sorted([*seen, *unseen]):
            here = found.rows_of(f)
            at = [d for d in range(here.start, here.stop) if found.box[d].tolist() == list(box(f))]
            rows.append((f, one, box(f)))
            link.append(at[0] if f in seen else -1)
            state.append(TrackState.CONFIRMED if f in seen else TrackState.COASTING)
    tracks = tracks_of(rows, found.frame_count, size=SIZE)
    order = np.lexsort(([row[1] for row in rows], [row[0] for row in rows]))
    return replace(tracks, detection=np.array(link, np.int32)[order], state=np.array(state, np.int8)[order])


def frames_of(tracks: Tracks, one: int = 1) -> list[int]:
    seen = (tracks.identity == one) & (tracks.state != TrackState.COASTING)
    return tracks.frame[seen].tolist()


ALL = range(FRAMES)


def test_it_goes_on_at_both_ends_and_over_a_gap_wherever_it_was_found():
    found = clip((walker, ALL))
    tracks = carry_on(linked(found, (walker, [*range(10, 18), *range(24, 30)], range(18, 24))), found, TIMES)
    assert frames_of(tracks) == list(ALL)
    np.testing.assert_array_equal(tracks.box, found.box[tracks.detection])
    assert len(tracks) == FRAMES and (tracks.confidence > 0).all()


@pytest.mark.parametrize(
    ("other", "first"),
    [
        (lambda f: walker(f, 112.0), 0),  # 28 of 52 parts, and only it
        (lambda f: walker(f, 125.0), 10),  # less than half
        (lambda f: (*walker(f)[:3], 250.0), 10),  # half as tall again
        (lambda f: (*walker(f)[:3], 239.0), 0),
    ],
)
def test_what_lies_there_and_is_of_its_size_is_it(other, first):
    found = clip((other, range(10)), (walker, range(10, 40)))
    tracks = carry_on(linked(found, (walker, range(10, 40), ())), found, TIMES)
    assert frames_of(tracks)[0] == first


def test_of_two_that_could_be_it_none_is_and_what_another_has_is_his():
    beside = lambda f: walker(f, 110.0)  # noqa: E731
    found = clip((walker, ALL), (beside, range(10)))
    assert frames_of(carry_on(linked(found, (walker, range(10, 40), ())), found, TIMES))[0] == 10
    both = linked(found, (walker, range(10, 40), ()), (beside, range(10), ()))
    assert frames_of(carry_on(both, found, TIMES)) == list(ALL)


def test_over_a_hole_in_the_footage_nothing_is_carried_on():
    times = TIMES + np.where(np.arange(FRAMES) >= 5, 1.0, 0.0)
    found = clip((walker, ALL), times=times)
    assert frames_of(carry_on(linked(found, (walker, range(10, 40), ())), found, times)) == list(range(5, 40))


@given(st.integers(0, 10_000))
def test_no_detection_is_taken_twice_and_nobody_is_in_two_places(seed):
    rng = np.random.default_rng(seed)
    movers = []
    for _ in range(6):
        x, speed = rng.uniform(50, 200), rng.uniform(-3, 6)
        seen = [f for f in ALL if rng.random() < 0.9]
        movers.append((lambda f, x=x, speed=speed: tuple(np.float32(v).item() for v in walker(f, x, speed)), seen))
    found = clip(*movers)
    paths = []
    for box, seen in movers[:4]:
        a, b, c = sorted(rng.choice(np.arange(1, len(seen)), 3, replace=False).tolist())
        held = [*seen[:a], *seen[b:c]]
        paths.append((box, held, [f for f in range(held[0], held[-1]) if f not in held] if rng.random() < 0.7 else []))
    before = linked(found, *paths)
    after = carry_on(before, found, TIMES)
    taken = after.detection[after.detection >= 0]
    assert len(np.unique(taken)) == len(taken)
    key = after.frame * 10 + after.identity
    assert len(np.unique(key)) == len(key) and set((before.frame * 10 + before.identity).tolist()) <= set(key.tolist())
    for f, one, d in zip(before.frame, before.identity, before.detection, strict=True):
        if d >= 0:
            assert after.detection[(after.frame == f) & (after.identity == one)].tolist() == [d]
