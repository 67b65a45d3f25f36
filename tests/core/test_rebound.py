"""Things that bounce keep their identity; what appears near another that was lost does not get it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import settings as examples
from hypothesis import strategies as st

from drover.core.recipe import MatchSettings, MotionSettings, Recipe, TrackSettings, with_value
from drover.core.track.pace import Pace, with_pace
from drover.core.track.rebound import find_again, find_rebounds
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections

RATE, FRAMES, SIZE = 25.0, 120, (400, 300)
TIMES = np.arange(FRAMES) / RATE
SIDE = 12.0
USUAL = TrackSettings()


def there_and_back(low: float, high: float, start: float, speed: float) -> np.ndarray:
    """Places of a ball between two walls, (frames,)."""
    way = (start - low + speed * np.arange(FRAMES)) % (2 * (high - low))
    return low + np.minimum(way, 2 * (high - low) - way)


def identities(*paths: np.ndarray, settings: TrackSettings = USUAL, classes=None) -> list[set[int]]:
    """The identities that each path of middles (frames, 2) is linked as; ``classes`` (frames,) of what is found."""
    rows = [(k, np.hstack([p[k] - SIDE / 2, p[k] + SIDE / 2])) for k in range(FRAMES) for p in paths]
    box = np.array([row[1] for row in rows], np.float32)
    frame = np.array([row[0] for row in rows])
    found = Detections.from_boxes(frame, box, np.ones(len(rows), np.float32), frame_count=FRAMES, size=SIZE)
    if classes is not None:
        found = replace(found, class_id=classes.astype(np.int16), class_names=("ball", "bird"))
    tracks = link_detections(found, TIMES, RATE, settings)
    who = np.zeros(len(rows), int)
    held = tracks.detection >= 0
    who[tracks.detection[held]] = tracks.identity[held]
    return [set(who[k :: len(paths)].tolist()) for k in range(len(paths))]


@examples(max_examples=24, deadline=None)
@given(
    st.floats(5.0, 9.0),
    st.floats(4.0, 8.0),
    st.floats(40.0, 200.0),
    st.sampled_from([(0.1, 1.5), (0.5, 3.0), (1.0, 3.0)]),
)
def test_a_ball_between_walls_is_one_from_end_to_end_however_much_the_filter_lags(across, down, start, noises):
    """Up to a picture's way of its own size; what goes farther needs its speed measured first."""
    ball = np.column_stack([there_and_back(20, 380, start, across), there_and_back(20, 280, start / 2 + 20, down)])
    assert identities(ball, settings=with_pace(USUAL, Pace(*noises))) == [{1}]


BALL = np.column_stack([there_and_back(20, 380, 60, 11.0), there_and_back(20, 280, 46, 7.0)])


def test_a_filter_that_turns_begins_anew_as_well():
    turning = TrackSettings(motion=MotionSettings(model="turning"))
    assert identities(BALL, settings=turning) == [{1}]


def test_where_only_the_own_class_may_go_on_no_bounce_changes_it():
    bounce = int(np.argmax(BALL[:, 0]))
    classes = np.arange(FRAMES) > bounce
    own = TrackSettings(match=MatchSettings(same_class=True))
    tracked = identities(BALL, settings=own, classes=classes)[0]
    assert len(tracked - {0}) >= 2
    assert identities(BALL, settings=own) == [{1}]


def test_two_balls_that_bounce_about_are_not_mixed_up():
    one = np.column_stack([there_and_back(20, 380, 60, 11.0), there_and_back(20, 280, 46, 7.0)])
    other = np.column_stack([there_and_back(20, 380, 300, 8.0), there_and_back(20, 280, 120, 12.0)])
    first, second = identities(one, other)
    assert not first & second and len(first | second) <= 3


def rebounds(*boxes, last=(100.0, 100.0, 10.0, 0.0), unseen: float = 1.0, match: int = -1) -> list[int]:
    found = np.array(boxes, np.float32).reshape(-1, 4)
    who, detection = find_rebounds(
        np.array([last]), np.full((1, 2), SIDE), np.array([unseen]), np.ones(1, np.bool_), found,
        np.array([match]), 1.0,
    )  # fmt: skip
    return detection.tolist() if len(who) else []


def ball(x: float, y: float, side: float = SIDE) -> tuple[float, ...]:
    return x - side / 2, y - side / 2, x + side / 2, y + side / 2


@pytest.mark.parametrize(
    ("boxes", "how", "expected"),
    [
        ([ball(95, 104)], {}, [0]),
        ([ball(114, 100)], {}, [0]),  # 1.4 times the way
        ([ball(116, 100)], {}, []),  # farther than it can have come
        ([ball(95, 104), ball(125, 100)], {}, []),  # another within reach twice as far
        ([ball(95, 104), ball(190, 100)], {}, [0]),
        ([ball(95, 104, 20)], {}, []),  # of another size
        ([ball(95, 104)], {"unseen": 2.0}, []),  # not seen just now
        ([ball(95, 104)], {"match": 0}, []),  # it is where it was expected
        ([ball(100, 111)], {"last": (100.0, 100.0, 2.0, 0.0)}, [0]),  # a size off, whatever its speed was
        ([ball(100, 113)], {"last": (100.0, 100.0, 2.0, 0.0)}, []),
        ([ball(100, 106)], {"last": (100.0, 100.0, 1.0, 0.0)}, []),  # slow things do not bounce
        ([], {}, []),
    ],
)
def test_the_only_one_of_its_size_no_farther_than_it_goes_is_it(boxes, how, expected):
    assert rebounds(*boxes, **how) == expected


def again(*boxes, forecast=((100, 100, 140, 200),), match=(-1,), farthest=1.2) -> list[tuple[int, int]]:
    """Which of the lost are found again, and where."""
    expected, there = np.array(forecast, np.float32), np.array(boxes, np.float32).reshape(-1, 4)
    who, detection = find_again(expected, np.array(match[: len(expected)]) < 0, there, np.array(match), farthest)
    return list(zip(who.tolist(), detection.tolist(), strict=True))


@pytest.mark.parametrize(
    ("boxes", "how", "expected"),
    [
        ([(110, 110, 150, 210)], {}, [(0, 0)]),
        ([(110, 110, 150, 210)], {"farthest": 0.2}, []),  # 14 of 63 px
        ([(115, 100, 155, 200)], {}, []),  # 25 of 55 parts are shared: less than half
        ([(100, 100, 159, 200)], {}, [(0, 0)]),  # nearly half as wide again
        ([(100, 100, 164, 200)], {}, []),
        ([(300, 100, 340, 200), (102, 100, 142, 200)], {}, [(0, 1)]),
        ([(102, 100, 142, 200)], {"match": (-1, 0)}, []),  # another has it, who is not lost
        ([(102, 100, 142, 200)], {"forecast": ((100, 100, 140, 200), (110, 100, 150, 200)), "match": (-1, -1)}, []),
        (
            [(102, 100, 142, 200)],
            {"forecast": ((100, 100, 140, 200), (300, 100, 340, 200)), "match": (-1, -1)},
            [(0, 0)],
        ),
        ([], {}, []),
    ],
)
def test_found_again_is_who_overlaps_its_forecast_by_half_and_nobody_else_can_be(boxes, how, expected):
    assert again(*boxes, **how) == expected


def test_who_is_beyond_its_gate_but_where_it_was_expected_by_half_is_found_again():
    """A van is found farther on than its filter can believe: what was seen of it until then was its rear part."""
    seen = list(range(80))
    left = np.array([20 + 2.0 * f + 45.0 * (f > 42) for f in seen])
    box = np.column_stack([left, np.full(len(seen), 100.0), left + 150, np.full(len(seen), 190.0)]).astype(np.float32)
    ones = np.ones(len(seen), np.float32)
    found = Detections.from_boxes(np.array(seen), box, ones, frame_count=80, size=SIZE)
    settings = with_pace(with_value(Recipe(), "track.after.join", False).track, Pace(0.06, 1.5))
    tracks = link_detections(found, TIMES[:80], RATE, settings)
    assert set(tracks.identity.tolist()) == {1} and (tracks.detection[43:60] >= 0).all()
