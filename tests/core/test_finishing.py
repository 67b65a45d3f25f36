"""Gaps of finished tracks: drawn straight while short, left out when long, counted through in both cases."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from builders import tracks_of, walk_rows
from hypothesis import given
from hypothesis import strategies as st

from drover.core.count.lines import count_crossings
from drover.core.recipe import CountSettings, LineSettings
from drover.core.track.finishing import fill_gaps, leave_out_long_gaps
from drover.core.types import Tracks

TIMES = np.arange(140) / 25.0
COASTING = 2


def walker(gaps: list[tuple[int, int]]) -> Tracks:
    """One that walks to the right, a px a frame; in each gap, first frame to past, unseen and forecast astray."""
    rows = walk_rows(1, [(10.0 + f, 50.0) for f in range(120)])
    tracks = tracks_of(rows, 140, size=(200, 100))
    state, box, detection = tracks.state.copy(), tracks.box.copy(), tracks.detection.copy()
    for first, past in gaps:
        state[first:past], detection[first:past] = COASTING, -1
        box[first:past] += 30
    return replace(tracks, state=state, box=box, detection=detection)


@given(st.integers(5, 40), st.integers(1, 60), st.floats(0.0, 3.0))
def test_a_gap_is_drawn_straight_up_to_the_longest_and_left_out_beyond(first, lasts, longest):
    tracks = leave_out_long_gaps(fill_gaps(walker([(first, first + lasts)])), TIMES, longest)
    # From the last picture with it to the first one with it again.
    long = (lasts + 1) / 25 > longest + 1e-9
    frames = [f for f in range(120) if not (long and first <= f < first + lasts)]
    assert tracks.frame.tolist() == frames and set(tracks.identity.tolist()) == {1}
    np.testing.assert_allclose(tracks.box[:, 0], np.array(frames) + 5.0, atol=1e-3)


def test_only_the_long_ones_of_several_go_and_what_is_crossed_in_them_counts():
    tracks = walker([(20, 30), (50, 95)])
    out = leave_out_long_gaps(fill_gaps(tracks), TIMES, 1.0)
    assert len(out) == 120 - 45
    settings = CountSettings(line=(LineSettings(name="Gap", points=((0.4, 0.0), (0.4, 1.0))),))
    for finished in (fill_gaps(tracks), out):
        crossings = count_crossings(finished, TIMES, settings)
        assert crossings.identity.tolist() == [1]
