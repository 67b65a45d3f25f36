"""Where an identity was not seen between two sightings: twins by hand, and what lanes and evidence make of them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import box_at, tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.app.lanes.rows import make_lanes, sort_lanes
from drover.core.doubt.kinds import long_gaps, usual_sizes
from drover.core.track.evidence import gap_lengths, gaps_of
from drover.core.track.finishing import leave_out_long_gaps
from drover.core.track.gaps import bridges
from drover.core.types import Tracks, TrackState

FRAMES = 50
TIMES = np.arange(FRAMES) / 25.0
# Of each identity and picture: seen, coasting, or no row at all.
KINDS = st.lists(
    st.lists(st.sampled_from("ssssc."), min_size=FRAMES, max_size=FRAMES).map("".join), min_size=1, max_size=3
)


def lived(text: str) -> str:
    """Without what no tracker writes: an identity is seen in its first and last row."""
    first, last = text.find("s"), text.rfind("s")
    return "." * FRAMES if first < 0 else "." * first + text[first : last + 1] + "." * (FRAMES - last - 1)


def tracks_from(lines: list[str]) -> Tracks:
    rows, state = [], {}
    for who, line in enumerate(lines, 1):
        for f, kind in enumerate(line):
            if kind != ".":
                rows.append((f, who, box_at(10 + f, 30 * who)))
                state[f, who] = int(TrackState.COASTING if kind == "c" else TrackState.CONFIRMED)
    return tracks_of(rows, FRAMES, state=state)


def gaps_by_hand(lines: list[str]) -> list[list[int]]:
    out = []
    for who, line in enumerate(lines, 1):
        seen = [f for f, kind in enumerate(line) if kind == "s"]
        out += [[who, a + 1, b - a - 1] for a, b in zip(seen, seen[1:], strict=False) if b - a > 1]
    return out


@given(KINDS)
def test_gaps_are_what_lies_between_two_sightings_drawn_or_not(lines):
    lines = [line for line in map(lived, lines) if "s" in line]
    if not lines:
        return
    tracks = tracks_from(lines)
    want = gaps_by_hand(lines)
    assert gaps_of(tracks).tolist() == want
    assert gap_lengths(tracks, TIMES) == pytest.approx([(length + 1) / 25.0 for _, _, length in want])
    for which, before, after in bridges(tracks).tolist():
        paths = tracks.paths
        assert paths.start[which] <= before < after < paths.start[which + 1]
        assert (tracks.state[paths.row[[before, after]]] == TrackState.CONFIRMED).all()


@given(KINDS, st.floats(0.0, 1.0))
def test_leaving_long_gaps_out_changes_no_gap(lines, longest):
    lines = [line for line in map(lived, lines) if "s" in line]
    if not lines:
        return
    tracks = tracks_from(lines)
    out = leave_out_long_gaps(tracks, TIMES, longest)
    assert gaps_of(out).tolist() == gaps_of(tracks).tolist()
    seen = tracks.state == TrackState.CONFIRMED
    assert (out.state == TrackState.CONFIRMED).sum() == seen.sum(), "no sighting goes"
    for _, before, after in bridges(out).tolist():
        if after - before > 1:
            assert TIMES[out.paths.frame[after]] - TIMES[out.paths.frame[before]] <= longest + 1e-9


@given(KINDS)
def test_a_lane_is_seen_and_unseen_stretches_from_end_to_end(lines):
    lines = [line for line in map(lived, lines) if "s" in line]
    if not lines:
        return
    for lane, line in zip(make_lanes(tracks_from(lines), None), lines, strict=True):
        shown = np.zeros(FRAMES, np.int64)
        for first, past in (*lane.seen, *lane.coasted):
            shown[first:past] += 1
        assert (shown[lane.first : lane.last + 1] == 1).all() and shown.sum() == lane.last + 1 - lane.first
        assert lane.coasted_frames == sum(kind != "s" for kind in line[lane.first : lane.last + 1])


def test_lanes_in_trouble_come_first_and_others_as_asked():
    lines = ["s" * 20 + "." * 30, "s" * 5 + "c" * 3 + "s" * 12 + "." * 30, "." * 10 + "s" * 10 + "." * 20 + "s" * 10]
    lanes = make_lanes(tracks_from(lines), None)
    assert [lane.identity for lane in sort_lanes(lanes, "trouble")] == [3, 2, 1]
    assert [lane.identity for lane in sort_lanes(lanes, "birth")] == [1, 2, 3]
    assert [lane.identity for lane in sort_lanes(lanes, "length")] == [3, 1, 2]


def test_the_longer_and_farther_a_gap_the_more_doubtful_drawn_or_not():
    lines = ["s" * 8 + "c" * 10 + "s" * 8 + "." * 24, "s" * 8 + "c" * 30 + "s" * 12, "s" * 20 + "c" * 2 + "s" * 28]
    tracks = tracks_from([line[:FRAMES] for line in lines])
    told = long_gaps(tracks, TIMES, usual_sizes(tracks))
    score = dict(zip(told.identities[:, 0].tolist(), told.score.tolist(), strict=True))
    assert score[2] > score[1] and 3 not in score, "a gap of two pictures is none"
    undrawn = leave_out_long_gaps(tracks, TIMES, 0.2)
    again = long_gaps(undrawn, TIMES, usual_sizes(undrawn))
    np.testing.assert_array_equal(again.frames, told.frames)
    np.testing.assert_allclose(again.score, told.score, rtol=1e-6)


def test_an_identity_that_leapt_while_unseen_is_more_doubtful_than_one_that_stayed():
    tracks = tracks_from(["s" * 10 + "c" * 15 + "s" * 25, "s" * 10 + "c" * 15 + "s" * 25])
    box = tracks.box.copy()
    box[(tracks.identity == 2) & (tracks.frame > 20)] += 40
    told = long_gaps(replace(tracks, box=box), TIMES, usual_sizes(tracks))
    score = dict(zip(told.identities[:, 0].tolist(), told.score.tolist(), strict=True))
    assert score[2] > score[1]
