"""Orders by counting, and work in halves, against the plain ways."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.doubt.beside import row_in_frame
from drover.core.ordering import order_by, order_of
from drover.core.recipe import Recipe
from drover.core.simulate.boxes import flickering, simulate_boxes, together
from drover.core.track import tracker
from drover.core.track.whole_clip import fold_tracks


@pytest.mark.parametrize("span", [3, 70_000, 2**31 - 1, 2**40])
@given(seed=st.integers(0, 10_000), low=st.sampled_from([0, -50, 7]))
def test_whole_numbers_are_put_in_order_as_comparing_puts_them(span, seed, low):
    rng = np.random.default_rng(seed)
    n = int(rng.integers(0, 200))
    one, other = rng.integers(low, low + span, n), rng.integers(0, 3, n).astype(np.int32)
    np.testing.assert_array_equal(order_of(one), np.argsort(one, kind="stable"))
    np.testing.assert_array_equal(order_by(other, one), np.lexsort((one, other)))


@given(st.sets(st.integers(3, 30), min_size=1), st.integers(0, 35))
def test_a_path_s_row_in_a_frame_is_found_whatever_holes_it_has(frames, wanted):
    own = sorted(frames)
    frame_of = np.array([0, *own], np.int64)  # a row of another path stands before
    start, row = np.array([0, 1, len(frame_of)]), np.arange(len(frame_of))
    assert row_in_frame(wanted, 1, start, row, frame_of) == (own.index(wanted) + 1 if wanted in frames else -1)


def test_many_tracks_are_stepped_by_two_threads_as_by_one(monkeypatch):
    found = together(simulate_boxes(40, 60)[0], flickering(60, 150))
    times, made = np.arange(60) / 25, []
    for many in (1, 10**9):
        monkeypatch.setattr(tracker, "MANY", many)
        made.append(fold_tracks(found, times, 25.0, Recipe().track))
    for name in ("identity", "box", "state", "detection", "margin", "nis"):
        np.testing.assert_array_equal(getattr(made[0], name), getattr(made[1], name))
