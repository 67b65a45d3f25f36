"""The parts of linking, each against a slow twin or a case worked by hand."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from builders import fixed
from hypothesis import given
from hypothesis import strategies as st

from drover.core.assignment import assign_most, match_pairs
from drover.core.both_cores import in_halves_from
from drover.core.doubt.kinds import close_pairs, find_jumps, median_sides, peaks
from drover.core.doubt.moments import take_together
from drover.core.recipe import MatchSettings
from drover.core.track.candidates import find_candidates, keep_nearest, pair_terms, size_of, weights_of
from drover.core.track.filters import plane_distance, scale_of
from drover.core.track.groups import margins, match_rounds
from drover.core.track.join_costs import Ends, find_joins, join_cost
from drover.core.track.living import Living
from drover.core.track.lost import LostOnes
from drover.core.track.pieces import bridges, find_heads, find_pieces
from drover.core.track.sharing import fit_boxes, guests, pixel_table, sharers
from drover.core.track.upkeep import (
    begin_links,
    free_to_begin,
    hold_inside,
    missed_by,
    note_seen,
    outlived,
    own_distance,
    refuse_covered,
    waits,
)
from drover.core.types import LOOK, TrackState

COASTING, CONFIRMED = int(TrackState.COASTING), int(TrackState.CONFIRMED)
NO_LOOK = np.zeros((0, LOOK), np.float32)


def boxes(rng, count: int, spread: float = 300.0, size: float = 30.0) -> np.ndarray:
    at, side = rng.uniform(0, spread, (count, 2)), rng.uniform(0.5, 1.5, (count, 2)) * size
    return np.hstack([at - side / 2, at + side / 2]).astype(np.float32)


# --- candidates and their costs -------------------------------------------------------------------------------


def filters(rng, count: int):
    mean, cov, last = np.zeros((count, 8)), np.zeros((count, 15)), np.zeros((count, 4))
    mean[:, :2], mean[:, 2:4] = rng.uniform(0, 300, (count, 2)), rng.uniform(15, 45, (count, 2))
    mean[:, 4:6] = rng.normal(0, 2, (count, 2))
    cov[:, [0, 6]] = rng.uniform(4, 60, (count, 2))
    last[:, :2], last[:, 2:] = mean[:, :2] + rng.normal(0, 3, (count, 2)), mean[:, 4:6]
    forecast = np.hstack([mean[:, :2] - mean[:, 2:4] / 2, mean[:, :2] + mean[:, 2:4] / 2]).astype(np.float32)
    return mean, cov, last, forecast


@given(st.integers(0, 10_000), st.floats(1.0, 9.0), st.floats(0.3, 4.0), st.booleans())
def test_candidates_are_all_pairs_within_gate_and_reach(seed, gate, farthest, generalised):
    rng = np.random.default_rng(seed)
    tracks, found = int(rng.integers(1, 12)), int(rng.integers(0, 20))
    mean, cov, last, forecast = filters(rng, tracks)
    box = boxes(rng, found)
    unseen = rng.integers(1, 30, tracks).astype(float)
    wait = rng.random(tracks)
    kinds, kind = rng.integers(0, 2, tracks).astype(np.int16), rng.integers(0, 2, found).astype(np.int16)
    weights = weights_of(MatchSettings(), looks=False)
    parts = in_halves_from(
        6, find_candidates, tracks, mean, cov, last, forecast, fixed(box), kinds, fixed(kind), True, unseen, wait, 2.0,
        0.5, gate, farthest, generalised, np.zeros((tracks, LOOK), np.float32), NO_LOOK, weights,
    )  # fmt: skip
    track, detection, cost, distance, nearest = (np.concatenate(part) for part in zip(*parts, strict=True))
    want, terms = {}, np.zeros(5)
    for k, d in itertools.product(range(tracks), range(found)):
        noise = 2.0 * scale_of(mean[k, 2], mean[k, 3], 0.5)
        x, y = 0.5 * (box[d, 0] + box[d, 2]), 0.5 * (box[d, 1] + box[d, 3])
        apart = plane_distance(cov, k, x - mean[k, 0], y - mean[k, 1], noise)
        size = size_of(mean, k)
        speed = np.hypot(last[k, 2], last[k, 3])
        near = farthest * size * (1 + 0.1 * unseen[k])
        most = farthest * size + (2.0 * speed + 0.02 * size) * unseen[k]
        off, gone = np.hypot(x - mean[k, 0], y - mean[k, 1]), np.hypot(x - last[k, 0], y - last[k, 1])
        if kinds[k] != kind[d] or apart > gate or off > near or gone > most:
            continue
        pair_terms(mean, cov, last, k, forecast, box, d, unseen[k], noise, gate, generalised,
                   np.zeros((tracks, LOOK), np.float32), NO_LOOK, terms)  # fmt: skip
        assert ((terms >= -1e-9) & (terms <= 1 + 1e-9)).all()
        want[k, d] = 0.3 * wait[k] + float((weights * terms).sum() / weights.sum())
    got = dict(zip(zip(track.tolist(), detection.tolist(), strict=True), cost.tolist(), strict=True))
    assert got.keys() == want.keys()
    assert all(got[pair] == pytest.approx(want[pair], abs=1e-6) for pair in want)
    assert (distance <= gate).all()
    assert all(nearest[k] <= distance[track == k].min() + 1e-9 for k in set(track.tolist()))


@given(st.lists(st.sampled_from([0.5, 1.0, 1.5, 2.0, 3.0]), min_size=2, max_size=30), st.data())
def test_the_nearest_stay_and_ties_go_round(distances, data):
    wanted = data.draw(st.integers(1, len(distances)))
    turn = data.draw(st.integers(0, 100))
    row, apart = np.arange(len(distances)), np.array(distances)
    keep_nearest(row, apart, len(distances), wanted, turn)
    kept = row[:wanted].tolist()
    assert len(set(kept)) == wanted
    assert sorted(distances[k] for k in kept) == sorted(distances)[:wanted]
    np.testing.assert_array_equal(apart[:wanted], np.array(distances)[kept])


# --- assignment -----------------------------------------------------------------------------------------------


@given(st.integers(0, 10_000))
def test_the_largest_total_value_is_found(seed):
    rng = np.random.default_rng(seed)
    pairs = [(r, c) for r in range(4) for c in range(4) if rng.random() < 0.6]
    value = rng.uniform(0.1, 5, len(pairs))
    row, column = (np.array([pair[k] for pair in pairs], np.int64) for k in range(2))
    chosen = assign_most(row, column, value)
    assert len(set(row[chosen].tolist())) == len(chosen) == len(set(column[chosen].tolist()))
    best = 0.0
    for some in itertools.chain.from_iterable(itertools.combinations(range(len(pairs)), n) for n in range(5)):
        if len({pairs[k][0] for k in some}) == len(some) == len({pairs[k][1] for k in some}):
            best = max(best, float(value[list(some)].sum()))
    assert value[chosen].sum() == pytest.approx(best)


def test_believed_choose_before_tentative_and_sure_before_weak():
    """One detection, wanted by all: the believed track has it though the tentative one is nearer."""
    track, detection = np.array([0, 1]), np.array([0, 0])
    cost, confidence = np.array([0.1, 0.9]), fixed(np.array([1.0], np.float32))
    believed = np.array([False, True])
    assert match_rounds(track, detection, cost, believed, confidence, 0.5, False, 2, 1).tolist() == [-1, 0]
    weak = fixed(np.array([0.2, 0.9], np.float32))
    got = match_rounds(np.array([0, 0]), np.array([0, 1]), cost, np.array([True]), weak, 0.5, False, 1, 2)
    assert got.tolist() == [1], "a sure detection goes before a nearer weak one"
    got = match_rounds(np.array([0]), np.array([0]), np.array([0.1]), np.array([True]), weak, 0.5, False, 1, 1)
    assert got.tolist() == [0], "a weak one is better than none"


@given(st.integers(0, 10_000))
def test_a_margin_is_the_least_extra_cost_of_any_rival(seed):
    rng = np.random.default_rng(seed)
    pairs = [(t, d) for t in range(4) for d in range(4) if rng.random() < 0.7]
    track, detection = (np.array([pair[k] for pair in pairs], np.int64) for k in range(2))
    cost = rng.random(len(pairs))
    match = np.full(4, -1, np.int64)
    match_pairs(track, detection, cost, np.ones(len(cost), np.bool_), 4, 4, match)
    table = dict(zip(pairs, cost.tolist(), strict=True))
    got = margins(track, detection, cost, match, 4)
    for t in range(4):
        d = int(match[t])
        mine = table.get((t, d), np.inf)
        rivals = [c for (a, b), c in table.items() if (a == t) != (b == d) and d >= 0]
        assert got[t] == pytest.approx(min((c - mine for c in rivals), default=np.inf))


# --- upkeep ---------------------------------------------------------------------------------------------------


def test_a_track_is_noted_where_it_was_seen_and_believed_when_its_hits_are_full():
    mean = np.array([[50, 50, 20, 20, 1, 2, 0, 0], [300, 200, 20, 20, 0, 0, 0, 0]], float)
    seen, hidden_now = np.array([True, True]), np.array([False, True])
    hits, seen_at, last = np.array([2, 0], np.int32), np.zeros(2), np.zeros((2, 4))
    hidden, at_edge, believed = np.zeros(2, np.bool_), np.zeros(2, np.bool_), np.zeros(2, np.bool_)
    newly = note_seen(
        mean, seen, hidden_now, 4.0, 3, 0.0, 0.0, 640.0, 360.0, hits, seen_at, last, hidden, at_edge, believed
    )
    assert newly.tolist() == [0]
    assert hits.tolist() == [3, 1]
    assert seen_at.tolist() == [4.0, 4.0]
    assert last[0].tolist() == [50, 50, 1, 2]
    assert believed.tolist() == [True, False]
    assert hidden.tolist() == [False, True]
    assert at_edge.tolist() == [False, False]
    note_seen(
        np.array([[20.0, 50, 20, 20, 0, 0, 0, 0]]), seen[:1], hidden_now[:1], 5.0, 3, 0.0, 0.0, 640.0, 360.0, hits[:1],
        seen_at[:1], last[:1], hidden[:1], at_edge[:1], believed[:1],
    )  # fmt: skip
    assert at_edge[0], "nearer to the edge than one and a half widths"


@pytest.mark.parametrize(
    ("seen", "believed", "inside", "hidden", "in_exit", "waited", "kept"),
    [
        (True, False, True, False, False, 0.0, True),
        (False, False, True, False, False, 0.1, False),  # tentative ones may not miss
        (False, True, True, False, False, 0.9, True),
        (False, True, True, False, False, 1.1, False),
        (False, True, True, True, False, 1.9, True),  # in a blob it may stay twice as long
        (False, True, False, False, False, 0.1, False),  # out of the picture
        (False, True, True, False, True, 0.4, True),
        (False, True, True, False, True, 0.6, False),  # last seen in a doorway: it is gone
    ],
)
def test_who_is_kept(seen, believed, inside, hidden, in_exit, waited, kept):
    one = [np.array([value]) for value in (seen, believed, inside, hidden, in_exit)]
    assert outlived(*one, np.array([5.0 - waited]), 5.0, 1.0, 2.0, 0.5).tolist() == [kept]


def test_one_seen_well_inside_is_held_in_the_picture_and_one_at_the_edge_is_let_go():
    mean = np.array([[-5.0, 50, 20, 20, -3, 1, 0, 0], [-5.0, 50, 20, 20, -3, 1, 0, 0]])
    out = hold_inside(mean, 2, np.array([True, False]), 0.0, 0.0, 640.0, 360.0)
    assert out.tolist() == [False, True]
    assert mean[1, [0, 4]].tolist() == [1.0, 0.0]
    assert mean[1, 5] == 1.0, "only the way that led out is stopped"


@given(st.integers(0, 10_000), st.floats(0.1, 1.0))
def test_a_box_that_covers_somebody_bears_nobody(seed, share):
    rng = np.random.default_rng(seed)
    box, forecast = boxes(rng, 12, 120.0), boxes(rng, 5, 120.0)
    free = rng.random(12) < 0.8
    want = free.copy()
    for d in range(12):
        for k in range(5):
            w = min(box[d, 2], forecast[k, 2]) - max(box[d, 0], forecast[k, 0])
            h = min(box[d, 3], forecast[k, 3]) - max(box[d, 1], forecast[k, 1])
            area = (forecast[k, 2] - forecast[k, 0]) * (forecast[k, 3] - forecast[k, 1])
            want[d] &= not (w > 0 and h > 0 and w * h >= share * area)
    refuse_covered(fixed(box), forecast, share, free)
    np.testing.assert_array_equal(free, want)


def test_only_the_matched_pair_gives_a_track_its_distance():
    out = np.full(3, np.nan)
    own_distance(np.array([0, 0, 1]), np.array([0, 1, 1]), np.array([0.5, 0.7, 0.9]), np.array([1, -1, 2]), out)
    assert out[0] == 0.7
    assert np.isnan(out[1:]).all()


def living_with(rng, count: int) -> Living:
    made = Living()
    made.add(
        number=np.arange(count, dtype=np.int32), mean=rng.normal(size=(count, 8)), cov=rng.random((count, 15)),
        hits=np.full(count, 5, np.int32), believed=np.ones(count, np.bool_), seen_at=np.zeros(count),
        class_id=np.zeros(count, np.int16), usual=np.full((count, 2), 20.0), seen=np.zeros((count, 4)),
        hidden=np.zeros(count, np.bool_), at_edge=np.zeros(count, np.bool_), in_exit=np.zeros(count, np.bool_),
        born_at=np.zeros(count), look=np.zeros((count, 0), np.float32), mode=np.zeros((count, 0)),
    )  # fmt: skip
    return made


@given(st.integers(0, 10_000), st.lists(st.integers(1, 90), min_size=1, max_size=4))
def test_the_living_keep_their_order_whatever_is_added_and_let_go(seed, batches):
    rng = np.random.default_rng(seed)
    made, numbers, means, born = Living(), [], [], 0
    for more in batches:
        extra = living_with(rng, more)
        columns = {name: getattr(extra, name)[:more] for name in vars(extra) if name != "count"}
        columns["number"] = np.arange(born, born + more, dtype=np.int32)
        made.add(**columns)
        numbers += range(born, born + more)
        means += columns["mean"].tolist()
        born += more
        keep = rng.random(made.count) < 0.7
        made.keep(keep)
        numbers = [n for n, k in zip(numbers, keep, strict=True) if k]
        means = [m for m, k in zip(means, keep, strict=True) if k]
        assert made.number[: made.count].tolist() == numbers
        np.testing.assert_array_equal(made.mean[: made.count], np.array(means).reshape(-1, 8))


def test_the_lost_are_remembered_for_their_time_and_no_longer():
    rng = np.random.default_rng(3)
    living = living_with(rng, 1)
    living.seen[0], living.usual[0], living.seen_at[0] = (100, 100, 2.0, 0.0), (30, 30), 1.0
    for back_at, back_x, comes_back in ((3.0, 200.0, True), (20.0, 1050.0, False), (3.0, 700.0, False)):
        lost = LostOnes(10.0, 0.0)
        lost.lose(living, np.array([True]))
        here = living_with(rng, 1)
        here.mean[0] = (back_x, 100, 30, 30, 2, 0, 0, 0)
        here.usual[0], here.born_at[0] = (30, 30), back_at
        assert (lost.returned(here, 0, back_at) == 0) is comes_back, (back_at, back_x)


# --- several in one blob --------------------------------------------------------------------------------------


@given(st.integers(0, 10_000))
def test_the_table_counts_the_pixels_of_every_rectangle(seed):
    rng = np.random.default_rng(seed)
    mask = rng.random((12, 17)) < 0.5
    runs = []
    for y, row in enumerate(mask):
        edge = np.flatnonzero(np.diff(np.concatenate([[0], row.astype(int), [0]])))
        runs += [(y + 30, a + 40, b + 40) for a, b in zip(edge[::2], edge[1::2], strict=True)]
    table, x0, y0 = pixel_table(
        fixed(np.array(runs, np.int16).reshape(-1, 3)), fixed(np.array([40, 30, 57, 42], np.float32))
    )
    assert (x0, y0) == (40, 30)
    a, b = sorted(rng.integers(0, 18, 2))
    c, d = sorted(rng.integers(0, 13, 2))
    assert table[d, b] - table[c, b] - table[d, a] + table[c, a] == mask[c:d, a:b].sum()


@pytest.mark.parametrize("way", [(26.0, 0.0), (0.0, 24.0), (20.0, 14.0)])
def test_two_boxes_are_put_back_where_the_two_bodies_are(way):
    """Two filled bodies of 30 x 30 make one blob; both are expected five pixels beside their place."""
    one, other = np.array([30.0, 30.0]), np.array([30.0, 30.0]) + way
    mask = np.zeros((90, 90), np.bool_)
    for x, y in (one, other):
        mask[int(y - 15) : int(y + 15), int(x - 15) : int(x + 15)] = True
    table = np.zeros((91, 91), np.int32)
    table[1:, 1:] = mask.cumsum(0).cumsum(1)
    expected = np.array([one + np.array([3, -4]), other + np.array([-4, 3])])
    at, firm = fit_boxes(table, expected, np.full((2, 2), 30.0), np.full((2, 2), 8.0))
    np.testing.assert_allclose(at, [one, other], atol=1.6)
    assert ((firm >= 0) & (firm <= 1)).all()
    assert firm.max() > 0.3


def test_one_without_a_partner_is_looked_for_in_the_box_that_covers_most_of_it():
    forecast = np.array([[10, 10, 30, 30], [100, 100, 120, 120], [10, 10, 30, 30]], np.float32)
    box = np.array([[0, 0, 25, 40], [5, 5, 40, 40], [95, 95, 108, 130]], np.float32)
    got = sharers(forecast, fixed(box), np.array([True, True, True]), np.array([-1, -1, 2]), 0.5)
    assert got.tolist() == [1, -1, -1]


# --- after the pass -------------------------------------------------------------------------------------------


@given(st.integers(0, 10_000))
def test_joins_are_all_pairs_that_may_be_one_with_their_costs(seed):
    rng = np.random.default_rng(seed)
    n = int(rng.integers(2, 14))
    time_end, time_start = rng.uniform(0, 8, n), rng.uniform(0, 8, n)
    centre_end, centre_start = rng.uniform(0, 250, (n, 2)), rng.uniform(0, 250, (n, 2))
    speed_end, speed_start = rng.normal(0, 40, (n, 2)), rng.normal(0, 40, (n, 2))
    size_end, size_start = rng.uniform(20, 40, (n, 2)), rng.uniform(20, 40, (n, 2))
    edge_end, edge_start = rng.random(n) < 0.2, rng.random(n) < 0.2
    goes_on = np.where(rng.random(n) < 0.2, rng.permutation(n), -1).astype(np.int64)
    last = Ends(time_end, centre_end, speed_end, size_end, edge_end)
    got = find_joins(last, Ends(time_start, centre_start, speed_start, size_start, edge_start), goes_on, 3.0, 0, n)
    want = {}
    for a, b in itertools.product(range(n), range(n)):
        wait, later = time_start[b] - time_end[a], time_start[b] > time_start[a] and time_end[b] > time_end[a]
        ends = centre_end[a], speed_end[a], size_end[a], centre_start[b], speed_start[b], size_start[b]
        if goes_on[a] == b:
            want[a, b] = min(join_cost(wait, *ends) - 0.15, 1.6)
        elif not edge_end[a] and not edge_start[b] and later and -0.2 < wait <= 3.0:
            cost = join_cost(max(wait, 0.0), *ends)
            want |= {(a, b): cost} if np.isfinite(cost) else {}
    assert {(int(a), int(b)): pytest.approx(c) for a, b, c in zip(*got, strict=True)} == want


@given(st.lists(st.lists(st.sampled_from([CONFIRMED, COASTING]), min_size=1, max_size=25), min_size=1, max_size=5))
def test_a_path_is_cut_at_every_long_gap_and_where_another_begins_and_only_there(paths):
    start = np.concatenate([[0], np.cumsum([len(p) for p in paths])]).astype(np.int64)
    state = np.concatenate([np.array(p) for p in paths])
    when = np.concatenate([np.arange(len(p)) / 25.0 for p in paths])
    others = np.arange(len(state)) % 7 == 3
    piece, goes_on, parted = find_pieces(start, np.arange(len(state)), when, state == COASTING, others, 0.15)
    number, want, follows, apart = 0, np.full(len(state), -9), {}, {}
    for p, path in enumerate(paths):
        last = None
        for k, one in enumerate(path):
            want[start[p] + k] = number
            if one == CONFIRMED:
                if last is not None and ((k - last) / 25.0 > 0.15 or others[start[p] + k]):
                    want[start[p] + last + 1 : start[p] + k] = -1
                    if others[start[p] + k]:
                        apart[number + 1] = number
                    else:
                        follows[number] = number + 1
                    number += 1
                    want[start[p] + k] = number
                last = k
        number += 1
    np.testing.assert_array_equal(piece, want)
    assert {k: int(v) for k, v in enumerate(goes_on) if v >= 0} == follows
    assert {k: int(v) for k, v in enumerate(parted) if v >= 0} == apart


@given(st.permutations(range(9)), st.lists(st.booleans(), min_size=8, max_size=8))
def test_every_piece_knows_the_head_of_its_chain(order, linked):
    follows, want = np.full(9, -1, np.int64), {}
    for a, b, link in zip(order[:-1], order[1:], linked, strict=True):
        if link:
            follows[a] = b
    for k, piece in enumerate(order):
        want[piece] = want[order[k - 1]] if k > 0 and linked[k - 1] else piece
    assert {k: int(h) for k, h in enumerate(find_heads(follows))} == want


def test_a_bridge_is_straight_from_the_last_box_to_the_next():
    start, row = np.array([0, 1, 2]), np.array([0, 1])
    frame, box = np.array([4, 8]), np.array([[0, 0, 10, 10], [40, 20, 60, 30]], np.float32)
    at, made, whose = bridges(start, row, frame, box, np.array([1, -1]))
    assert at.tolist() == [5, 6, 7]
    assert whose.tolist() == [0, 0, 0]
    np.testing.assert_allclose(made[1], [20, 10, 35, 20])


# --- moments --------------------------------------------------------------------------------------------------


@given(st.integers(0, 10_000))
def test_pairs_of_one_frame_that_overlap_are_all_found(seed):
    rng = np.random.default_rng(seed)
    counts = rng.integers(0, 9, 4)
    box = boxes(rng, int(counts.sum()), 80.0)
    detection = rng.integers(-1, 6, len(box)).astype(np.int32)
    start = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    frame, one, other, overlap = close_pairs(start, box, detection, 0.1)
    want = {}
    for f in range(4):
        for a, b in itertools.combinations(range(start[f], start[f + 1]), 2):
            if detection[a] >= 0 and detection[a] == detection[b]:
                continue
            w = min(box[a, 2], box[b, 2]) - max(box[a, 0], box[b, 0])
            h = min(box[a, 3], box[b, 3]) - max(box[a, 1], box[b, 1])
            if w > 0 and h > 0:
                sides = [(float(x[2]) - float(x[0])) * (float(x[3]) - float(x[1])) for x in (box[a], box[b])]
                share = float(w) * float(h) / (sum(sides) - float(w) * float(h))
                if abs(share - 0.1) > 1e-4 and share >= 0.1:
                    want[f, a, b] = share
    got = {
        (int(f), int(a), int(b)): float(s)
        for f, a, b, s in zip(frame, one, other, overlap, strict=True)
        if abs(s - 0.1) > 1e-4
    }
    assert got == {pair: pytest.approx(share, abs=1e-3) for pair, share in want.items()}


@given(st.lists(st.floats(0, 1), min_size=1, max_size=40), st.floats(0.2, 0.9))
def test_each_stretch_over_the_limit_has_one_peak(values, limit):
    got = peaks(np.array([0, len(values)]), np.array(values), limit).tolist()
    over = [k for k, v in enumerate(values) if v > limit]
    groups = [
        [k for _, k in group] for _, group in itertools.groupby(enumerate(over), key=lambda pair: pair[1] - pair[0])
    ]
    assert got == [max(group, key=lambda k: (values[k], -k)) for group in groups]


def test_a_sudden_turn_back_is_one_jump_of_speed_where_it_turns():
    x = np.concatenate([np.arange(40) * 4.0, 156 - np.arange(40) * 4.0])
    box = np.column_stack([x, np.full(80, 50.0), x + 20, np.full(80, 70.0)]).astype(np.float32)
    start, row = np.array([0, 80]), np.arange(80)
    size = median_sides(start, row, box)
    np.testing.assert_allclose(size, [[20, 20]])
    place, by, kind = find_jumps(start, row, np.arange(80) / 25.0, np.zeros(80, np.bool_), box, size)
    assert kind.tolist() == [1]
    assert abs(int(place[0, 1]) - 39) <= 2
    assert by[0] == pytest.approx(2 * 4.0 * 25 / 20, rel=0.15)


@given(st.integers(0, 10_000))
def test_what_is_odd_of_an_identity_at_one_time_is_one_moment(seed):
    rng = np.random.default_rng(seed)
    n = int(rng.integers(1, 40))
    who = np.column_stack([rng.integers(0, 5, n), rng.integers(0, 5, n)])
    real = np.column_stack([np.ones(n, np.bool_), rng.random(n) < 0.5])
    who[~real] = 5
    begin = rng.uniform(0, 6, n)
    end, score = begin + rng.uniform(0, 1, n), rng.random(n)
    order = np.argsort(who.ravel(), kind="stable")
    start = np.searchsorted(who.ravel()[order], np.arange(7)).astype(np.int64)
    owner = take_together(np.argsort(-score, kind="stable"), begin, end, who, real, start, order // 2)

    def near(a: int, b: int) -> bool:
        mine, theirs = ({int(w) for w, is_one in zip(who[k], real[k], strict=True) if is_one} for k in (a, b))
        return bool(mine & theirs) and begin[a] <= end[b] + 0.6 and end[a] >= begin[b] - 0.6

    kept = [k for k in range(n) if owner[k] == k]
    assert not any(near(a, b) for a, b in itertools.combinations(kept, 2))
    for k in set(range(n)) - set(kept):
        assert owner[owner[k]] == owner[k]
        assert near(k, int(owner[k])) and score[owner[k]] >= score[k]


def test_waits_are_frames_since_seen_and_speeds_die_where_the_last_picture_missed():
    seen_at, hidden = np.array([2.0, 1.0, 1.0, 9.0, 7.0]), np.array([False, False, True, False, False])
    unseen, fading = waits(seen_at, hidden, 4, 3.0, 2.0, 25.0)
    assert unseen.tolist() == [25.0, 50.0, 50.0, 0.0]
    assert fading.tolist() == [False, True, False, False]


def test_what_begins_is_sure_free_and_covers_no_believed_track():
    mean = np.zeros((3, 8))
    mean[:, :4] = [[10, 10, 10, 10], [100, 10, 10, 10], [200, 10, 10, 10]]
    box = np.array([[5, 5, 15, 15], [95, 5, 105, 15], [300, 5, 310, 15], [400, 5, 410, 15], [500, 5, 510, 15]])
    confidence = np.array([0.9, 0.9, 0.9, 0.1, 0.9], np.float32)
    given = fixed(confidence), 0.5, np.array([-1, -1, 4]), fixed(box.astype(np.float32)), mean
    # 0 lies over a believed track, 1 over a tentative one, 3 is weak, 4 is taken.
    assert free_to_begin(*given, np.array([True, False, True]), 3, 0.5).tolist() == [1, 2]
    assert free_to_begin(*given, np.array([True, False, True]), 0, 0.5).tolist() == [0, 1, 2]
    none = np.zeros(5, np.float32)
    assert free_to_begin(fixed(none), *given[1:], np.array([True, True, True]), 3, 0.5).tolist() == []


def test_guests_are_believed_unseen_and_either_hidden_or_seen_lately():
    forecast = np.array([[0, 0, 10, 10]] * 5, np.float32)
    box = fixed(np.array([[0, 0, 20, 20]], np.float32))
    believed, seen = np.array([True, False, True, True, True]), np.array([False, False, True, False, False])
    hidden, unseen = np.array([False, False, False, True, False]), np.array([3.0, 3.0, 3.0, 99.0, 99.0])
    match = np.array([-1, -1, 0, -1, -1])
    guest, some = guests(forecast, box, believed, seen, hidden, unseen, 12.0, match, 0.5)
    assert guest.tolist() == [0, -1, -1, 0, -1] and some
    guest, some = guests(forecast, box, believed, np.ones(5, np.bool_), hidden, unseen, 12.0, match, 0.5)
    assert guest.tolist() == [-1] * 5 and not some


def test_links_begin_as_the_match_says_and_the_missed_are_told_by_their_nearest():
    track, detection, distance = np.array([0, 0, 2]), np.array([0, 1, 1]), np.array([0.5, 0.7, 0.9])
    link, seen, hidden, apart, nis, alone = begin_links(track, detection, distance, np.array([1, -1, -1]))
    assert link.tolist() == [1, -1, -1] and seen.tolist() == [True, False, False]
    assert apart[0] == 0.7 and np.isnan(apart[1:]).all() and np.isnan(nis).all()
    assert alone.all() and not hidden.any()
    believed = np.array([True, True, False])
    assert missed_by(believed, seen, np.array([1.0, 2.5, 3.0])).tolist() == [2.5]
    assert missed_by(believed, seen, np.array([1.0, np.inf, 3.0])).tolist() == []
