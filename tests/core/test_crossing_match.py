"""Counted crossings against true ones: a slow twin that tries every pairing, and the limits by hand."""

from __future__ import annotations

from dataclasses import replace
from itertools import permutations

import numpy as np
import pytest
from builders import crossings_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.score.crossing_match import AGAIN, FAR, WITHIN, errors_by_class, match_crossings
from drover.core.types import Crossings

rows = st.lists(
    st.tuples(st.integers(1, 3), st.sampled_from([1, -1]), st.integers(0, 40), st.integers(0, 90)), max_size=5
)


def crossed(*given, lines=("Gap",), on=None) -> Crossings:
    """Crossings from (identity, direction, time in tenths of a second, x)."""
    made = crossings_of([row[:2] for row in given])
    line = np.zeros(len(given), np.int16) if on is None else np.array(on, np.int16)
    time, x = (np.array([row[k] for row in given], kind) for k, kind in ((2, np.float64), (3, np.float32)))
    return replace(made, time=time / 10, x=x, line=line, line_names=lines)


def kinds(counted: Crossings, true: Crossings) -> list[str]:
    return [one.kind for one in match_crossings(counted, true).errors]


def most_for_least(counted: Crossings, true: Crossings) -> tuple[int, float]:
    """How many pairs of one direction there can be, and at what least distance, by trying all."""
    a, b = (counted, true) if len(counted) <= len(true) else (true, counted)
    best = (0, 0.0)
    for chosen in permutations(range(len(b)), len(a)):
        pairs = [
            abs(a.time[k] - b.time[other]) + FAR * abs(float(a.x[k]) - float(b.x[other]))
            for k, other in enumerate(chosen)
            if abs(a.time[k] - b.time[other]) <= WITHIN and a.direction[k] == b.direction[other]
        ]
        best = max(best, (len(pairs), -sum(pairs)))
    return best[0], -best[1]


@given(rows, rows)
def test_as_many_are_right_as_any_pairing_allows_and_every_crossing_is_accounted_for(counted, true):
    counted, true = crossed(*counted), crossed(*true)
    match = match_crossings(counted, true)
    assert match.right == most_for_least(counted, true)[0]
    told = {kind: len(match.of(kind)) for kind in ("extra", "missed", "double", "wrong way")}
    assert match.right + told["extra"] + told["double"] + told["wrong way"] == len(counted)
    assert match.right + told["missed"] + told["wrong way"] == len(true)
    times = [one.time for one in match.errors]
    assert times == sorted(times)
    assert sum(row.sum() for row in errors_by_class(match).values()) == len(match.errors)


@given(rows)
def test_whatever_was_counted_is_right_against_itself_and_turned_about_all_wrong(counted):
    same = crossed(*counted)
    assert match_crossings(same, same).errors == ()
    other = replace(same, direction=-same.direction)
    alone = [row for row in counted if not any(abs(row[2] - o[2]) <= 15 and o[1] == -row[1] for o in counted)]
    if len(alone) == len(counted):  # else one may be right by another's crossing back
        assert kinds(same, other) == ["wrong way"] * len(counted)


def test_of_two_that_fit_in_time_the_nearer_in_place_is_the_one():
    """The left-over one is told by its own identity: place is worth a hundredth of a second a px."""
    counted = crossed((7, 1, 10, 80), (8, 1, 10, 20))
    match = match_crossings(counted, crossed((1, 1, 10, 22)))
    assert [(one.kind, one.identity) for one in match.errors] == [("extra", 7)]
    down = replace(counted, x=np.zeros(2, np.float32), y=counted.x)
    below = replace(crossed((1, 1, 10, 0)), y=np.array([76], np.float32))
    assert [one.identity for one in match_crossings(down, below).errors] == [8]


@pytest.mark.parametrize(("apart", "errors"), [(15, []), (16, ["missed", "extra"])])
def test_a_second_and_a_half_is_near_enough(apart, errors):
    assert kinds(crossed((1, 1, 20 + apart, 0)), crossed((1, 1, 20, 0))) == errors


@pytest.mark.parametrize(
    ("again", "kind"),
    [
        ((4, 1, 120, 0), "double"),  # the same one, ten seconds later
        ((4, 1, 121, 0), "extra"),  # later than that
        ((5, 1, 40, 0), "extra"),  # somebody else
        ((4, -1, 40, 0), "extra"),  # back, where nobody truly went
    ],
)
def test_a_double_is_the_same_one_the_same_way_within_ten_seconds(again, kind):
    assert kinds(crossed((4, 1, 20, 0), again), crossed((1, 1, 20, 0))) == [kind]
    assert AGAIN == 10.0


def test_a_true_one_near_by_the_other_way_makes_it_the_wrong_way_and_neither_missed_nor_extra():
    match = match_crossings(crossed((3, -1, 25, 0)), crossed((1, 1, 20, 0)))
    (error,) = match.errors
    assert (error.kind, error.direction, error.identity, match.right) == ("wrong way", -1, 3, 0)


def test_errors_are_told_by_line_direction_and_class():
    counted = crossed((1, 1, 10, 0), (2, 1, 11, 0), (3, -1, 60, 0), lines=("Gap", "Ford"), on=[0, 0, 1])
    counted = replace(counted, class_id=np.array([0, 1, 1], np.int16), class_names=("ewe", "dog"))
    true = crossed((1, 1, 10, 0), (9, 1, 90, 0), lines=("Ford", "Gap"), on=[1, 1])
    table = errors_by_class(match_crossings(counted, true))
    assert {key: row.tolist() for key, row in table.items()} == {
        ("Gap", 1, "dog"): [1, 0, 0, 0],  # extra
        ("Ford", -1, "dog"): [1, 0, 0, 0],
        ("Gap", 1, "object"): [0, 1, 0, 0],  # missed
    }
