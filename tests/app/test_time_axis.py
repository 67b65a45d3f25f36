"""Where frames lie along the lanes, however they are zoomed and moved, and what is left of a curve that is thinned."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.app.filter_bench.plots import thinned
from drover.app.lanes.axis import TimeAxis
from drover.app.view_state import MOST_TEXT, numbers_of, numbers_text

STEPS = st.lists(st.tuples(st.sampled_from(["zoom", "move", "show"]), st.floats(0.1, 8.0), st.floats(0, 1)), max_size=8)


@given(st.integers(1, 200_000), st.integers(50, 2000), STEPS)
def test_the_part_shown_lies_inside_the_clip_and_places_come_back(frames: int, width: int, steps: list) -> None:
    axis = TimeAxis.whole(112, width, frames)
    for kind, factor, share in steps:
        x = axis.left + share * axis.width
        under = axis.first + share * (axis.last - axis.first)
        if kind == "zoom":
            before, axis = axis, axis.zoomed_by(factor, x)
            if axis.first > 0 and axis.last < frames - 1 and before.zoomed:
                assert axis.x_of(under) == pytest.approx(x, abs=0.5)  # what is under the mouse stays
        elif kind == "move":
            axis = axis.moved_to(share * frames)
        else:
            frame = int(share * (frames - 1))
            axis = axis.showing(frame)
            assert axis.first <= frame <= axis.last
        assert 0 <= axis.first <= axis.last <= max(1, frames - 1)
        middle = round((axis.first + axis.last) / 2)
        assert abs(axis.frame_at(axis.x_of(middle)) - min(middle, frames - 1)) <= 1
    assert not TimeAxis.whole(112, width, frames).zoomed


def test_a_thinned_curve_keeps_its_peaks_and_its_gaps() -> None:
    time, values = np.arange(50_000) / 25.0, np.zeros(50_000)
    values[31_234], values[10_000:12_000] = 9.0, np.nan
    at, shown = thinned(time, values)
    assert len(at) == len(shown) <= 2100
    assert np.nanmax(shown) == 9.0
    assert abs(at[np.nanargmax(shown)] - time[31_234]) < 5.0
    inside = (at > time[10_100]) & (at < time[11_900])
    assert inside.any() and np.isnan(shown[inside]).all()
    assert len(thinned(time[:100], values[:100])[0]) == 100


@given(st.sets(st.integers(1, 3000), max_size=900))
def test_who_is_hidden_comes_back_from_its_text_as_far_as_there_is_room(numbers: set[int]) -> None:
    text = numbers_text(numbers)
    back = numbers_of(text)
    assert len(text) <= MOST_TEXT
    assert back == numbers if len(text) < MOST_TEXT - 10 else back <= numbers
    assert numbers_of("3-5 x 7 9- -2 1-2-3 99999999999") == {3, 4, 5, 7}
