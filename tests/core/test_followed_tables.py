"""Rows of things that were followed: what is kept of them, what becomes an identity, and what is written."""

from __future__ import annotations

import csv

import numpy as np
import pytest
from builders import box_at, tracks_of, walk_rows

from drover.core.follow.steps import FollowState, FollowStep
from drover.core.follow.table import FollowedThing, ThingRows, with_things, write_followed
from drover.core.types import TrackState

SIZE = (100, 80)


def outline_of(x1: float, y1: float, x2: float, y2: float) -> np.ndarray:
    return np.array([[x1, y1], [x2, y1], [x2, y2], [x1, y2]], float)


def step(state: FollowState, sure: float = 0.0, reason: str = "", outline: np.ndarray | None = None) -> FollowStep:
    none = np.zeros((0, 2))
    return FollowStep(outline, state, sure, reason, none, np.zeros(0, np.bool_), np.zeros(0))


def thing(name: str, *boxes: tuple[float, ...] | None, state: FollowState = FollowState.SEEN) -> FollowedThing:
    """One that is at a box in each frame, or at none."""
    rows = ThingRows(name, len(boxes))
    for frame, box in enumerate(boxes):
        if box is not None:
            rows.add(frame, step(state, 0.5, outline=outline_of(*box)))
    return rows.table()


def test_rows_tell_why_it_went_out_of_sight_once_and_again_when_it_does_so_anew():
    rows, seen = ThingRows("Cart", 7), step(FollowState.SEEN, 0.8, outline=outline_of(1, 1, 9, 9))
    behind = step(FollowState.HIDDEN, reason="something is before it", outline=outline_of(2, 1, 10, 9))
    gone = step(FollowState.LOST, reason="it left the picture")
    for frame, one in enumerate((seen, behind, behind, gone, gone, seen, behind)):
        rows.add(frame, one)
    made = rows.table()
    assert made.reason == {1: "something is before it", 3: "it left the picture", 6: "something is before it"}
    assert made.seen.tolist() == [True, False, False, False, False, True, False]
    assert np.isnan(made.outline[3]).all() and made.outline[1, 2].tolist() == [10, 9]
    assert made.facts == {"name": "Cart", "refused": "", "seen_frames": 2, "sure": 0.8, "went_out_of_sight": 3}
    assert ThingRows("Never", 3).table().facts["sure"] == 0.0


def test_boxes_go_round_an_outline_inside_the_picture_and_slivers_are_none():
    tilted = np.array([[20, 10], [40, 15], [35, 40], [15, 35]], float)
    rows = ThingRows("Cart", 5)
    rows.add(0, step(FollowState.SEEN, outline=tilted))
    rows.add(1, step(FollowState.SEEN, outline=outline_of(-10, -10, 30, 20)))
    rows.add(2, step(FollowState.SEEN, outline=outline_of(98.5, 10, 130, 30)))  # a sliver is left of it
    rows.add(4, step(FollowState.SEEN, outline=outline_of(98, 78, 130, 130)))
    frames, box = rows.table().boxes(SIZE)
    assert frames.tolist() == [0, 1, 4]
    assert box.tolist() == [[15, 10, 40, 40], [0, 0, 30, 20], [98, 78, 100, 80]]


def test_things_become_identities_with_classes_of_their_own_and_go_by_new_numbers():
    tracks = tracks_of(walk_rows(3, [(10.0 + k, 60) for k in range(4)]), 4, size=SIZE)
    box = (60.0, 10.0, 80.0, 30.0)
    both = (thing("Cart", box, None, box, box), thing("Gate", *[(60, 50, 70, 60)] * 6, state=FollowState.HIDDEN))
    made = with_things(tracks, both)
    assert np.unique(made.identity).tolist() == [3, 4, 5]
    assert made.class_names == ("object", "Cart", "Gate")
    cart, gate = made.path_of(4), made.path_of(5)
    assert made.frame[cart].tolist() == [0, 2, 3] and made.class_id[cart].tolist() == [1, 1, 1]
    assert made.frame[gate].tolist() == [0, 1, 2, 3], "frames after the clip's end are left out"
    assert (made.state[cart] == TrackState.CONFIRMED).all() and (made.state[gate] == TrackState.COASTING).all()
    assert made.confidence[cart].tolist() == [0.5] * 3 and made.confidence[gate].tolist() == [0.0] * 4
    assert (made.detection[cart] == -1).all()
    again = with_things(made, (thing("Cart", *[(5, 5, 15, 15)] * 4),))
    assert again.class_names == ("object", "Cart", "Gate") and np.unique(again.identity).tolist() == [3, 4, 5, 6]


@pytest.mark.parametrize(("on_it", "there", "doubled"), [(5, 10, True), (4, 10, False), (2, 4, True), (1, 4, False)])
def test_who_lies_on_the_thing_for_half_of_its_time_is_the_thing(on_it, there, doubled):
    here, aside = box_at(30, 40, 20), box_at(80, 40, 20)
    rows = [(frame, 2, here if frame < on_it else aside) for frame in range(there)]
    made = with_things(tracks_of(rows, 10, size=SIZE), (thing("Cart", *[tuple(here)] * 10),))
    assert (2 in made.identity) != doubled


@pytest.mark.parametrize(("shift", "same"), [(6.6, True), (6.7, False)])
def test_half_of_what_both_cover_is_shared_by_one_and_the_same(shift, same):
    """Two squares of 20 px, a third of one apart, share two thirds of a side: 13.33 of 26.67 rows are half."""
    rows = [(frame, 2, box_at(30 + shift, 40, 20)) for frame in range(10)]
    made = with_things(tracks_of(rows, 10, size=SIZE), (thing("Cart", *[tuple(box_at(30, 40, 20))] * 10),))
    assert (2 not in made.identity) == same


def test_what_was_refused_or_never_seen_changes_nothing():
    tracks = tracks_of(walk_rows(1, [(10.0, 60)] * 3), 3, size=SIZE)
    refused = FollowedThing("No", np.zeros((3, 4, 2)), np.zeros(3, np.int8), np.zeros(3, np.float32), {}, "too plain")
    assert with_things(tracks, (refused, thing("Never", None, None, None))) is tracks


def test_what_is_written_are_the_corners_frame_by_frame_and_no_name_breaks_the_table(tmp_path):
    name = 'A "cart"\n,x'
    write_followed(tmp_path / "followed.csv", (thing(name, (1, 2, 3.456, 4), None, (5, 6, 7, 8)),))
    with (tmp_path / "followed.csv").open(newline="", encoding="utf-8") as file:
        head, *rows = list(csv.reader(file))
    assert head[:4] == ["thing", "frame", "x1", "y1"] and len(head) == 12
    assert rows == [
        ['A "cart" ,x', "1", "1.00", "2.00", "3.46", "2.00", "3.46", "4.00", "1.00", "4.00", "seen", "0.50"],
        ['A "cart" ,x', "3", "5.00", "6.00", "7.00", "6.00", "7.00", "8.00", "5.00", "8.00", "seen", "0.50"],
    ]
