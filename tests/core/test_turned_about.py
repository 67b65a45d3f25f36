"""One track that is two objects: where a way turns about at once, and where it does not."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.recipe import TrackSettings
from drover.core.track.joining import join_broken
from drover.core.track.turned_about import find_turns

FRAMES, RATE, TURN = 50, 25.0, 25
TIMES = np.arange(FRAMES) / RATE
SIZE = (300, 200)
SIDE = 20.0


def way(x, *, unseen=(), rate=RATE):
    """A box of 20 by 20 whose middle is at ``x(time)``, and two looks, one before and one after the turn."""
    frames = [f for f in range(FRAMES) if f not in unseen]
    rows = [(f, 1, (x(f / rate) - SIDE / 2, 90, x(f / rate) + SIDE / 2, 90 + SIDE)) for f in frames]
    tracks = tracks_of(rows, FRAMES, size=SIZE)
    tracks = replace(tracks, detection=np.arange(len(rows), dtype=np.int32))
    look = np.zeros((len(rows), 32), np.uint8)
    first = np.array(frames) < TURN
    look[first, :16], look[~first, 16:] = 100, 100
    return tracks, look


def turned(tracks, look, times=TIMES) -> list[int]:
    return tracks.frame[find_turns(tracks, times, look)].tolist()


def there_and_back(speed: float):
    """So many sizes/s to the right, and from the turn on to the left."""
    at = TURN / RATE
    return lambda t: 150 + SIDE * speed * (min(t, at) - max(t - at, 0.0) - at)


def test_another_begins_where_a_way_turns_about_at_once():
    tracks, look = way(there_and_back(2.0))
    (frame,) = turned(tracks, look)
    assert abs(frame - TURN) <= 1


def test_what_was_cut_there_is_not_joined_again():
    tracks, look = way(there_and_back(2.0))
    joined = join_broken(tracks, TIMES, TrackSettings(), look)
    assert joined.paths.identity.tolist() == [1, 2]
    assert abs(int(joined.frame[joined.identity == 2].min()) - TURN) <= 1
    assert (joined.frame_start == tracks.frame_start).all() and (joined.box == tracks.box).all(), "no row is lost"
    alike = join_broken(tracks, TIMES, TrackSettings(), np.full_like(look, 9))
    assert alike.paths.identity.tolist() == [1]
    moving = np.tile(np.array([0, 0, *SIZE], np.float32), (FRAMES, 1))
    seen_along = join_broken(tracks, TIMES, TrackSettings(), look, moving)
    assert seen_along.paths.identity.tolist() == [1], "where the camera moves, its turns are everybody's"


@pytest.mark.parametrize("speed", [0.8, 4.0])
def test_a_turn_takes_a_look_that_changes(speed):
    tracks, look = way(there_and_back(speed))
    assert len(turned(tracks, look)) == 1
    assert turned(tracks, np.full_like(look, 9)) == []
    assert turned(tracks, np.zeros((0, 32), np.uint8)) == [], "nobody looked"


@pytest.mark.parametrize("speed", [0.3, 8.0])
def test_what_hardly_moves_and_what_darts_about_may_turn(speed):
    assert turned(*way(there_and_back(speed))) == []


def test_who_slows_down_before_he_turns_is_the_same():
    """A swing of 1.6 s each way: as fast at its middle as the one that turns about at once."""
    tracks, look = way(lambda t: 150 + 20 * np.sin(2 * np.pi * (t - 0.6) / 3.2))
    assert turned(tracks, look) == []


def test_what_was_unseen_for_long_may_have_turned_meanwhile():
    tracks, look = way(there_and_back(2.0), unseen=range(TURN - 5, TURN + 5))
    assert len(turned(tracks, look)) == 1
    tracks, look = way(there_and_back(2.0), unseen=range(TURN - 9, TURN + 9))
    assert turned(tracks, look) == []


def test_at_the_edge_the_side_in_sight_tells_the_way():
    """A long one leaves to the left and another comes in as it goes: only the right side of the box moves."""
    rows = [(f, 1, (0, 60, 100 - 3 * f if f < TURN else 25 + 3 * (f - TURN), 100)) for f in range(FRAMES)]
    tracks = replace(tracks_of(rows, FRAMES, size=SIZE), detection=np.arange(FRAMES, dtype=np.int32))
    look = np.zeros((FRAMES, 32), np.uint8)
    look[:TURN, :16], look[TURN:, 16:] = 100, 100
    assert len(turned(tracks, look)) == 1


@given(st.integers(0, 10_000), st.floats(-2.5, 2.5), st.floats(-2.5, 2.5))
def test_none_who_keeps_his_way_is_cut_and_a_mirror_changes_nothing(seed, across, down):
    rng = np.random.default_rng(seed)
    middle = 150 + SIDE * np.outer(TIMES - 1, (across, down)) + rng.normal(0, 0.4, (FRAMES, 2))
    box = np.hstack([middle - SIDE / 2, middle + SIDE / 2])
    look = rng.integers(0, 255, (FRAMES, 32)).astype(np.uint8)

    def rows(box):
        tracks = tracks_of([(f, 1, tuple(box[f])) for f in range(FRAMES)], FRAMES, size=(300, 300))
        return replace(tracks, detection=np.arange(FRAMES, dtype=np.int32))

    assert turned(rows(box), look) == []
    back = box.copy()
    back[TURN:] = box[TURN:] - 2 * SIDE * np.outer(TIMES[TURN:] - 1, (across, down))[:, [0, 1, 0, 1]]
    mirrored = 300 - back[:, [2, 3, 0, 1]]
    assert turned(rows(back), look) == turned(rows(mirrored), look)
