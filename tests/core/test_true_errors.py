"""Where identities are truly wrong, told from small scenes in letters: each body's line says whose number it has when.

A dot is a frame in which nothing was linked to the body. Ten frames a second.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import box_at, tracks_of, truth_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.doubt.true_errors import TrueError, true_errors
from drover.core.types import Tracks, Truth

AWAY = 500.0  # px, where nobody is


def scene(*bodies: str, stray: dict[int, str] | None = None) -> tuple[Tracks, Truth, np.ndarray]:
    """Bodies side by side, and numbers that lie beside them all where their line has an x."""
    frames = len(bodies[0])
    truth, rows = [], []
    for k, line in enumerate(bodies):
        for frame, number in enumerate(line):
            box = box_at(20.0 + 40 * k, 50.0, 20.0)
            truth.append((frame, k + 1, box))
            if number != ".":
                rows.append((frame, int(number), box))
    for number, line in (stray or {}).items():
        rows += [(frame, number, box_at(AWAY, AWAY, 20.0)) for frame, here in enumerate(line) if here == "x"]
    return tracks_of(rows, frames, size=(600, 600)), truth_of(truth, frames), np.arange(frames) / 10.0


def told(*bodies: str, stray: dict[int, str] | None = None) -> list[tuple[str, tuple[int, ...], set[int]]]:
    return [(e.kind, e.frames, set(e.numbers)) for e in true_errors(*scene(*bodies, stray=stray))]


@pytest.mark.parametrize(
    ("bodies", "errors"),
    [
        (["1111", "2222"], []),
        (["1122", "2211"], [("change", (1, 2), {1, 2})]),  # two that swap are one error
        (["1122"], [("change", (1, 2), {1, 2})]),  # goes on under another number
        (["1111....", "....1111"], [("change", (3, 4), {1})]),  # a number goes on on another body
        (["11..22"], [("change", (1, 4), {1, 2})]),  # it shows where the one ends and the other begins
        (["1121111"], []),  # a blink
        (["1122111"], []),  # of a tenth of a second
        (["11222111"], [("change", (1, 2, 4, 5), {1, 2})]),  # two tenths are no blink
        (["11211322"], [("change", (4, 5, 6), {1, 2, 3})]),  # the blink is over when it truly changes
        (["1121211333"], [("change", (6, 7), {1, 3})]),  # two blinks
        (["1222", "3444"], [("change", (0, 1), {1, 2}), ("change", (0, 1), {3, 4})]),  # nothing in common
    ],
)
def test_changes_by_hand(bodies, errors):
    assert sorted(told(*bodies), key=str) == sorted(errors, key=str)


@pytest.mark.parametrize(("between", "count"), [(9, 1), (10, 1), (11, 1), (12, 2)])
def test_changes_of_one_body_within_a_second_are_one_error(between, count):
    """From the frame after the one change to the frame before the next: a second is ten frames."""
    assert len(told("1" * 5 + "2" * between + "3" * 5)) == count


def test_changes_that_hang_together_by_a_third_are_one_error():
    """A and C have nothing in common, but both have with B, which changes with either."""
    assert len(told("1122", "2233", "3344")) == 1
    assert len(told("1122", "5555", "3344")) == 2


@pytest.mark.parametrize(("on_it", "errors"), [(3, 0), (2, 1), (0, 1)])
def test_who_lies_on_a_body_for_less_than_three_tenths_of_its_rows_is_nobody(on_it, errors):
    line = "7" * on_it + "." * (12 - on_it)
    off = "." * on_it + "x" * (10 - on_it) + ".."
    found = told(line, stray={7: off})
    assert [one for one in found if one[0] == "nobody"] == [("nobody", (0, 9), {7})] * errors


def test_what_covers_a_body_that_need_not_be_found_is_nobody_s_error():
    tracks, truth, times = scene("1111", "2222")
    excused = replace(truth, consider=truth.identity == 1)
    assert true_errors(tracks, excused, times) == ()
    swapped, _, _ = scene("1111", "2233")
    assert true_errors(swapped, excused, times) == ()


def test_a_change_shows_in_its_frames_and_a_nobody_from_its_first_to_its_last():
    times = np.arange(40) / 10.0
    change = TrueError("change", (10, 20), frozenset({1}))
    assert change.within(0.5, 1.0, times) and change.within(2.0, 9.0, times)
    assert not change.within(1.1, 1.9, times) and not change.within(2.1, 3.0, times)
    nobody = TrueError("nobody", (10, 20), frozenset({1}))
    assert nobody.within(1.1, 1.9, times) and nobody.within(0.0, 1.0, times) and nobody.within(2.0, 3.0, times)
    assert not nobody.within(2.1, 3.0, times) and not nobody.within(0.0, 0.9, times)


numbers = st.lists(
    st.text("123.", min_size=24, max_size=24), min_size=3, max_size=3
).map(
    lambda lines: [  # one number lies on one body only
        "".join(c if c == "." or c not in [line[f] for line in lines[:k]] else "." for f, c in enumerate(line))
        for k, line in enumerate(lines)
    ]
)


@given(numbers, st.permutations([1, 2, 3]))
def test_errors_do_not_depend_on_what_numbers_are_called_and_each_names_a_true_change(lines, other):
    tracks, truth, times = scene(*lines)
    errors = true_errors(tracks, truth, times)
    names = np.array([0, *other], np.int32)
    again = true_errors(renamed(tracks, names), truth, times)
    assert sorted((e.kind, e.frames, sorted(names[list(e.numbers)].tolist())) for e in errors) == sorted(
        (e.kind, e.frames, sorted(e.numbers)) for e in again
    )
    # Ended here and begun there: in the frames of an error its numbers come and go on some body.
    for error in errors:
        assert error.kind == "change" and error.numbers
        for frame in error.frames:
            assert {line[frame] for line in lines} & {str(number) for number in error.numbers}
    steady = all(len(set(line) - {"."}) <= 1 for line in lines)
    alone = all(sum(str(number) in line for line in lines) <= 1 for number in (1, 2, 3))
    if steady and alone:
        assert not errors


def renamed(tracks: Tracks, names: np.ndarray) -> Tracks:
    order = np.lexsort((names[tracks.identity], tracks.frame))
    return replace(tracks, identity=names[tracks.identity][order], box=tracks.box[order])
