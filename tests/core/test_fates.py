"""Pieces of a common fate, what is followed though nobody took it, and specks that never leave their place."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import fixed, tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.bodies import fate
from drover.core.bodies.fate import join_fates, stacked_pairs
from drover.core.bodies.followed import of_specks, owners_of
from drover.core.bodies.size_field import SizeField
from drover.core.types import TrackState

RATE = 25.0
TIMES = np.arange(200) / RATE
FRAMES = 60


def scene(*movers) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Frames, boxes and owners of movers given as (identity, box of a frame, frames it is seen in), frame by frame."""
    rows = [(f, one, *box(f)) for one, box, seen in movers for f in seen]
    rows.sort(key=lambda row: row[0])
    table = np.array(rows, float)
    return table[:, 0].astype(np.int64), table[:, 2:], table[:, 1].astype(np.int64)


def legs(f: int) -> tuple[float, ...]:
    swing = 4 * np.sin(f)
    return 40 + 3 * f - swing, 170, 62 + 3 * f + swing, 200


def head(f: int) -> tuple[float, ...]:
    return 46 + 3 * f, 140, 56 + 3 * f, 150


ALL = range(FRAMES)


@given(st.integers(0, 10_000))
def test_pairs_of_a_common_fate_are_those_that_a_look_at_every_pair_finds(seed):
    """Against a twin that holds every two who are ever seen together against each other."""
    rng = np.random.default_rng(seed)
    movers = []
    for one in range(1, 8):
        left, top = rng.uniform(0, 60, 2)
        wide, tall = rng.uniform(8, 30), rng.choice([6.0, 12.0, 30.0])
        speed, swing = rng.choice([0.0, 2.0, 3.0]), rng.choice([0.0, 0.5, 6.0])
        frames = [f for f in range(rng.integers(0, 20), rng.integers(25, 60)) if rng.random() < 0.9]

        def box(f, left=left, top=top, wide=wide, tall=tall, speed=speed, swing=swing, one=one):
            x = left + speed * f + swing * np.sin(f + one)
            return x, top, x + wide, top + tall

        movers.append((one, box, frames))
    frame, box, owner = scene(*movers)
    told = set()
    for a in range(1, 8):
        for b in range(1, 8):
            both = sorted(set(frame[owner == a].tolist()) & set(frame[owner == b].tolist())) if a != b else []
            if not both or TIMES[both[-1]] - TIMES[both[0]] < fate.LEAST_TIME:
                continue
            body, piece = (np.array([box[(frame == f) & (owner == k)][0] for f in both]) for k in (a, b))
            over = np.minimum(body[:, 2], piece[:, 2]) - np.maximum(body[:, 0], piece[:, 0])
            gap = np.maximum(body[:, 1] - piece[:, 3], piece[:, 1] - body[:, 3])
            near = (over >= fate.ABOVE * (piece[:, 2] - piece[:, 0])) & (gap <= fate.APART * (body[:, 3] - body[:, 1]))
            area = [np.median((one[:, 2:] - one[:, :2]).prod(axis=1)) for one in (piece, body)]
            small, share = area[0] / area[1], len(both) / (owner == b).sum()
            least = fate.LEAST_SHARE if small > fate.TINY else fate.LEAST_OF_TINY
            if near.mean() >= fate.OFTEN_NEAR and small <= fate.SMALLER and share >= least:
                told |= {(b, a)} if fate._goes_along(body, piece) else set()
    assert joined(*movers) == told


def joined(*movers) -> set[tuple[int, int]]:
    """Which identity goes into which."""
    frame, box, owner = scene(*movers)
    body, piece = stacked_pairs(frame, box, owner, TIMES)
    assert (frame[body] == frame[piece]).all()
    return set(zip(owner[piece].tolist(), owner[body].tolist(), strict=True))


# --- common fate --------------------------------------------------------------------------------------------------


def test_a_head_that_keeps_its_place_over_legs_goes_to_them():
    assert joined((1, legs, ALL), (2, head, ALL)) == {(2, 1)}


def test_legs_that_fall_apart_now_and_then_do_not_hide_the_common_fate():
    def one_leg(f: int) -> tuple[float, ...]:
        x1, y1, x2, y2 = legs(f)
        return (x1, y1, x1 + 8, y2) if f % 6 == 0 else (x1, y1, x2, y2)

    assert joined((1, one_leg, ALL), (2, head, ALL)) == {(2, 1)}


def test_under_a_coat_that_comes_and_goes_legs_are_held_by_their_feet():
    """Now more of the coat is told from the ground and now less: their middle leaps, their feet do not."""

    def some_coat(f: int) -> tuple[float, ...]:
        x1, _, x2, y2 = legs(f)
        return x1, 140 + 7 * f % 36, x2, y2

    def leaping(f: int) -> tuple[float, ...]:
        x1, y1, x2, y2 = some_coat(f)
        return x1, y1, x2, y2 + 7 * (f + 3) % 36

    assert joined((1, some_coat, ALL), (2, head, ALL)) == {(2, 1)}
    assert joined((1, leaping, ALL), (2, head, ALL)) == set()


def test_a_head_that_the_tracker_took_from_one_to_the_next_goes_to_each_while_it_is_his():
    """A mistake of the first look at a clip: two heads under one number."""

    def second(f: int) -> tuple[float, ...]:
        x1, y1, x2, y2 = legs(f)
        return x1 + 200, y1, x2 + 200, y2

    def heads(f: int) -> tuple[float, ...]:
        x1, y1, x2, y2 = head(f)
        return (x1, y1, x2, y2) if f < 20 else (x1 + 200, y1, x2 + 200, y2)

    assert joined((1, legs, range(20)), (2, heads, ALL), (3, second, range(20, FRAMES))) == {(2, 1), (2, 3)}


def test_one_beside_another_is_no_piece_however_well_they_keep_step():
    def beside(f: int) -> tuple[float, ...]:
        return 80 + 3 * f, 180, 92 + 3 * f, 200

    assert joined((1, legs, ALL), (2, beside, ALL)) == set()


def test_one_as_large_over_another_is_a_second_body():
    def behind(f: int) -> tuple[float, ...]:
        return 41 + 3 * f, 130, 61 + 3 * f, 160

    assert joined((1, legs, ALL), (2, behind, ALL)) == set()


def test_one_that_only_passes_over_it_is_no_piece():
    def across(f: int) -> tuple[float, ...]:
        return 220 - 3 * f, 140, 230 - 3 * f, 150

    assert joined((1, legs, ALL), (2, across, ALL)) == set()


def test_two_that_stand_may_be_anything_and_stay_two():
    def still(box):
        return lambda f: box(0)

    assert joined((1, still(legs), ALL), (2, still(head), ALL)) == set()


def test_a_short_while_together_says_nothing():
    assert joined((1, legs, ALL), (2, head, range(10))) == set()


def test_what_goes_its_own_way_for_most_of_its_life_is_no_piece():
    def leaves(f: int) -> tuple[float, ...]:
        return head(f) if f < 20 else (300 + f, 20, 310 + f, 30)

    assert joined((1, legs, ALL), (2, leaves, ALL)) == set()


@pytest.mark.parametrize(
    ("frames", "together"), [(12, False), (13, False), (14, True)]
)  # thirteen pictures last from the first to the thirteenth: twelve steps of a twenty-fifth
def test_half_a_second_together_is_asked_for(frames, together):
    assert (joined((1, fast(legs), range(frames)), (2, fast(head), range(frames))) == {(2, 1)}) == together


def fast(box):
    """The same, ten times as fast: it goes its own size in any half a second."""
    return lambda f: tuple(v + (27 * f if k % 2 == 0 else 0) for k, v in enumerate(box(f)))


@pytest.mark.parametrize(("side", "piece"), [(16.0, True), (17.0, True), (19.0, False), (24.0, False)])
def test_a_piece_has_less_than_half_of_the_body_s_area(side, piece):
    """Legs of about 30 by 22 px; a piece of side by side px: 0.45 of 660 px are 17.2 px squared."""

    def plain(f: int) -> tuple[float, ...]:
        return 40 + 3 * f, 170, 62 + 3 * f, 200

    def part(f: int) -> tuple[float, ...]:
        return 51 + 3 * f - side / 2, 160 - side, 51 + 3 * f + side / 2, 160

    assert (joined((1, plain, ALL), (2, part, ALL)) == {(2, 1)}) == piece


@pytest.mark.parametrize(("own", "piece"), [(0, True), (35, True), (45, False)])
def test_six_tenths_of_its_life_a_piece_is_with_its_body_unless_it_is_as_small_as_a_head(own, piece):
    """What is followed for ``own`` pictures more without the body; a head is followed on with the next one."""
    life = range(FRAMES + own)

    def large(f: int) -> tuple[float, ...]:
        return 44 + 3 * f, 145, 58 + 3 * f, 160

    assert (joined((1, legs, ALL), (2, large, life)) == {(2, 1)}) == piece
    assert joined((1, legs, ALL), (2, head, life)) == {(2, 1)}


@pytest.mark.parametrize(("up", "piece"), [(30, True), (35, True), (37, False), (60, False)])
def test_a_piece_is_no_farther_from_its_body_than_a_little_more_than_its_height(up, piece):
    def above(f: int) -> tuple[float, ...]:
        return 46 + 3 * f, 160 - up, 56 + 3 * f, 170 - up

    assert (joined((1, legs, ALL), (2, above, ALL)) == {(2, 1)}) == piece


@given(st.floats(0.3, 3.0), st.floats(-200, 200), st.floats(-100, 100))
def test_what_is_joined_does_not_depend_on_size_or_place(scale, dx, dy):
    def at(box):
        return lambda f: tuple(scale * v + (dx, dy)[k % 2] for k, v in enumerate(box(f)))

    assert joined((1, at(legs), ALL), (2, at(head), ALL)) == {(2, 1)}


def test_boxes_then_hold_all_their_pieces_and_chains_end_at_one_body():
    box = np.array([[0, 10, 10, 30], [2, 0, 8, 5], [3, 5, 7, 9], [50, 50, 60, 60]], np.float32)
    into, whole = join_fates(np.arange(4), box, np.array([0, 1]), np.array([1, 2]))
    assert into.tolist() == [0, 0, 0, 3]
    assert whole[0].tolist() == [0, 0, 10, 30]
    assert whole[3].tolist() == box[3].tolist()


@given(st.integers(0, 1000))
def test_whatever_is_joined_every_row_ends_at_one_that_stays(seed):
    rng = np.random.default_rng(seed)
    n = 12
    low = rng.uniform(0, 50, (n, 2))
    box = np.hstack([low, low + rng.uniform(1, 20, (n, 2))]).astype(np.float32)
    pairs = rng.integers(0, n, (8, 2))
    into, whole = join_fates(np.arange(n), box, pairs[:, 0], pairs[:, 1])
    np.testing.assert_array_equal(into[into], into)
    for row in range(n):
        assert (whole[into[row], :2] <= box[row, :2]).all() and (whole[into[row], 2:] >= box[row, 2:]).all()


# --- what is followed ---------------------------------------------------------------------------------------------


def coasting(at: int):
    """One walker, 20 x 40 px, linked to its detection in every frame but ``at``, where it coasts; and its boxes."""
    boxes = np.array([[10 + 2 * f, 50, 30 + 2 * f, 90] for f in range(30)], np.float32)
    tracks = tracks_of([(f, 1, tuple(box.tolist())) for f, box in enumerate(boxes)], 30, size=(200, 120))
    state, detection = tracks.state.copy(), np.arange(30, dtype=np.int32)
    state[at], detection[at] = TrackState.COASTING, -1
    return replace(tracks, state=state, detection=detection), boxes


def test_a_detection_where_a_followed_one_must_be_is_that_one():
    tracks, boxes = coasting(12)
    owner = owners_of(tracks, 30, fixed(boxes), np.arange(31))
    assert owner.tolist() == [1] * 30


@pytest.mark.parametrize("moved", [15.0, 60.0])
def test_one_that_lies_elsewhere_is_not(moved):
    tracks, boxes = coasting(12)
    boxes[12, [0, 2]] += moved
    assert owners_of(tracks, 30, fixed(boxes), np.arange(31))[12] == 0


def test_of_two_the_nearer_is_it_and_only_one():
    tracks, boxes = coasting(12)
    double = np.insert(boxes, 12, boxes[12] + 4, axis=0)
    link = np.concatenate([np.arange(12), [-1], np.arange(14, 31)]).astype(np.int32)
    start = np.concatenate([np.arange(13), np.arange(14, 32)])
    owner = owners_of(replace(tracks, detection=link), 31, fixed(double), start)
    assert owner[12:14].tolist() == [0, 1]


def going_about() -> tuple[list[tuple], np.ndarray, np.ndarray]:
    """Rows of tracks, boxes, owners: a speck, one as small that goes about, a body that stands, one thin as a speck."""
    rows = []
    for f in range(50):
        rows.append((f, 1, (100, 100, 105, 108)))
        rows.append((f, 2, (10 + 2 * f, 20, 15 + 2 * f, 28)))
        rows.append((f, 3, (150, 60, 170, 100)))
        rows.append((f, 4, (100, 20, 104, 52)))
    return rows, np.array([row[2] for row in rows], np.float32), np.array([row[1] for row in rows])


def dropped(field: SizeField | None, left_out=()) -> set[int]:
    rows, box, owner = going_about()
    tracks = tracks_of([row for row in rows if row[1] not in left_out], 50, size=(300, 200))
    return set(owner[of_specks(owner, box, tracks, field)].tolist())


def test_specks_are_small_for_their_place_and_never_leave_it():
    assert dropped(SizeField((40.0, 0.0), (20.0, 0.0), 0.1)) == {1}


def test_where_things_are_of_all_sizes_specks_are_far_smaller_than_all_that_go_about():
    for field in (None, SizeField((40.0, 0.0), (20.0, 0.0), 0.6)):
        assert dropped(field) == set()  # 2 is as small, and goes about
        rows, box, owner = going_about()
        rows = [
            (f, one, (x1, y1, x1 + 12, y1 + 18) if one == 2 else (x1, y1, x2, y2)) for f, one, (x1, y1, x2, y2) in rows
        ]
        tracks = tracks_of(rows, 50, size=(300, 200))
        assert set(owner[of_specks(owner, box, tracks, field)].tolist()) == {1}
    assert dropped(None, left_out=(2,)) == set()  # nothing goes about: nobody knows


def test_who_is_taken_for_a_speck_while_passing_by_is_none():
    rows, box, owner = going_about()
    box[(owner == 1) & (np.arange(len(owner)) // 4 == 20)] = (92, 80, 112, 120)
    taken = of_specks(owner, box, tracks_of(rows, 50, size=(300, 200)), SizeField((40.0, 0.0), (20.0, 0.0), 0.1))
    assert taken[owner == 1].sum() == 49 and not taken[80]
