"""What a whole clip says of single pictures: speeds before linking, sizes by place, pieces made one, sparks gone."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
from builders import box_at, fixed, tracks_of, walk_rows
from hypothesis import given
from hypothesis import strategies as st

from drover.core.bodies import settle as settling
from drover.core.bodies.crowns import find_crowns
from drover.core.bodies.gather import fitting_pairs, lives_together, owned_together, unite_pairs
from drover.core.bodies.settle import settle
from drover.core.bodies.size_field import fit_size_field
from drover.core.geometry import overlap_matrix
from drover.core.recipe import BodySettings, Recipe, ScoreSettings, TrackSettings, with_value
from drover.core.score.spans import score_result
from drover.core.track.filters import new_filters, set_speeds
from drover.core.track.join_costs import Ends, expected_by_chance
from drover.core.track.rows import boxes_seen
from drover.core.track.speeds import measure_speeds
from drover.core.track.travel import object_odds
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections, Truth

RATE = 25.0


def table(rows: list[tuple], frames: int, size=(640, 360)) -> Detections:
    """Detections from (frame, x1, y1, x2, y2) rows, each with a filled outline."""
    rows = sorted(rows, key=lambda row: row[0])
    frame = np.array([row[0] for row in rows], np.int64)
    box = np.array([row[1:5] for row in rows], np.float32).reshape(-1, 4)
    plain = Detections.from_boxes(frame, box, np.full(len(rows), 0.8, np.float32), frame_count=frames, size=size)
    runs, start = [], [0]
    for x1, y1, x2, y2 in box.round().astype(int).tolist():
        runs += [(y, x1, x2) for y in range(y1, y2)]
        start.append(len(runs))
    return replace(plain, runs=np.array(runs, np.int16).reshape(-1, 3), run_start=np.array(start, np.int64))


# --- speeds ---------------------------------------------------------------------------------------------------


def fast_crowd(seed: int, *, sizes: float, frames: int = 40, count: int = 9) -> tuple[Detections, Truth, np.ndarray]:
    """Things of 20 px that go straight, ``sizes`` of them between two pictures, each in its own way."""
    rng = np.random.default_rng(seed)
    rows, speed = [], {}
    for one in range(count):
        way = rng.uniform(0, 2 * np.pi)
        step = 20 * sizes * np.array([np.cos(way), np.sin(way)])
        middle = rng.uniform((100, 100), (540, 260))
        at = rng.integers(3, frames - 3)
        speed[one + 1] = step
        for frame in range(frames):
            x, y = middle + step * (frame - at) + rng.normal(0, 1.0, 2)
            if 10 < x < 630 and 10 < y < 350:
                rows.append((frame, one + 1, (x - 10, y - 10, x + 10, y + 10)))
    rows.sort()
    frame = np.array([row[0] for row in rows], np.int64)
    box, who = np.array([row[2] for row in rows], np.float32), np.array([row[1] for row in rows], np.int32)
    found = Detections.from_boxes(frame, box, np.ones(len(rows), np.float32), frame_count=frames, size=(640, 360))
    ones = np.ones(len(rows), np.float32)
    truth = Truth(found.frame_start, who, box, ones > 0, np.zeros(len(rows), np.int16), ones)
    return found, truth, np.array([speed[k] for k in who.tolist()])


def test_fast_things_are_measured_before_they_are_linked_and_then_linked():
    found, truth, true = fast_crowd(4, sizes=3.0)
    times = np.arange(40) / 5.0
    speeds = measure_speeds(found.frozen(), times)
    assert speeds.fast
    assert speeds.reach == pytest.approx(3.0, rel=0.25)
    known = np.isfinite(speeds.velocity[:, 0])
    off = np.hypot(*(speeds.velocity[known] * 5.0 - true[known]).T) / 20  # sizes between two pictures, 5 of 1/25 s
    assert known.mean() > 0.8
    assert (off < 0.5).mean() > 0.9
    scored = [
        score_result(link_detections(found, times, 5.0, settings), truth, ScoreSettings()).identity.idf1
        for settings in (TrackSettings(), with_value(Recipe(), "track.motion.speeds_first", False).track)
    ]
    assert scored[0] > 0.8
    assert scored[0] > scored[1] + 0.1


def test_where_nearness_is_enough_nothing_is_given_a_speed():
    found, _, _ = fast_crowd(5, sizes=0.2)
    speeds = measure_speeds(found.frozen(), np.arange(40) / RATE)
    assert not speeds.fast
    assert speeds.reach < 0.5
    assert np.isnan(speeds.velocity).all()


def test_chance_alone_gives_no_speeds():
    rng = np.random.default_rng(6)
    middle = rng.uniform((0, 0), (640, 360), (40 * 12, 2))
    box = np.hstack([middle - 10, middle + 10]).astype(np.float32)
    frame = np.repeat(np.arange(40), 12)
    found = Detections.from_boxes(frame, box, np.ones(len(box), np.float32), frame_count=40, size=(640, 360))
    known = np.isfinite(measure_speeds(found.frozen(), np.arange(40) / 5.0).velocity[:, 0])
    assert known.mean() < 0.15


def test_a_known_speed_is_that_of_the_newborn_and_nobody_else():
    mean, cov = new_filters(np.array([[0.0, 0.0, 16.0, 25.0], [5.0, 5.0, 10.0, 10.0]]), 1.0)
    was = cov.copy()
    set_speeds(mean, cov, np.array([[3.0, -2.0], [np.nan, np.nan]]), 0.1)
    assert mean[:, 4:6].tolist() == [[3.0, -2.0], [0.0, 0.0]]
    assert cov[0, [2, 8]] == pytest.approx((0.1 * 20.0) ** 2)
    np.testing.assert_array_equal(cov[1], was[1])


# --- sizes by place, and pieces -------------------------------------------------------------------------------


def test_the_size_field_is_that_of_whole_bodies_though_parts_are_among_them():
    rng = np.random.default_rng(1)
    rows = []
    for frame in range(200):
        foot = rng.uniform(100, 340)
        tall = (0.3 * foot - 10) * (0.5 if rng.random() < 0.2 else 1.0)
        rows.append((frame, 1, (300 - tall / 4, foot - tall, 300 + tall / 4, foot)))
    field = fit_size_field(tracks_of(rows, 200, size=(640, 360)))
    assert field is not None and field.says_something
    for foot in (120.0, 330.0):
        assert field.height[0] + field.height[1] * foot == pytest.approx(0.3 * foot - 10, rel=0.1)
        assert field.width[0] + field.width[1] * foot == pytest.approx((0.3 * foot - 10) / 2, rel=0.1)
    assert fit_size_field(tracks_of(rows[:10], 200, size=(640, 360))) is None


def walkers(frames: int = 100) -> list[tuple]:
    """Two that walk apart; the head of the first is loose in every third picture. 20 x 60 px each."""
    rows = []
    for k in range(frames):
        x, y = 40 + 3 * k, 200
        rows.append((k, x, y - 60, x + 20, y) if k % 3 else (k, x, y - 46, x + 20, y))
        if k % 3 == 0:
            rows.append((k, x + 5, y - 60, x + 15, y - 50))
        rows.append((k, 500 - 3 * k, 260, 520 - 3 * k, 320))
    return rows


def test_a_loose_head_goes_to_its_body_with_its_outline_and_two_bodies_stay_two():
    found = table(walkers(), 100)
    times = np.arange(100) / RATE
    settled = settle(found, times, RATE, BodySettings())
    assert np.diff(settled.frame_start).tolist() == [2] * 100
    for frame in (0, 33, 99):
        row = settled.rows_of(frame).start
        x = 40 + 3 * frame
        assert settled.box[row].tolist() == [x, 140, x + 20, 200]
        runs = settled.runs_of(row)
        assert runs[:, 0].tolist() == sorted(runs[:, 0].tolist())
        if frame % 3 == 0:
            assert (runs[:, 2] - runs[:, 1]).sum() == 20 * 46 + 10 * 10
            assert settled.area[row] == 20 * 46 + 10 * 10
    left = settle(found, times, RATE, BodySettings(gather=False, drop_sparks=False))
    assert left is found


def coat_of_the_ground(frames: int = 120) -> list[tuple]:
    """A head over legs whose coat is not told from the ground, a hen that drifts along by the feet; four walkers."""
    rows = []
    for f in range(frames):
        x, swing = 20 + 2 * f, (0, 2, 4, 2)[f % 4]
        rows += [(f, x + 7, 140, x + 13, 147), (f, x + 4 - swing, 172, x + 16 + swing, 200)]
        rows.append((f, x + 6 - f // 4, 208, x + 18 - f // 4, 218))
        rows += [(f, x + apart, foot - 60, x + 20 + apart, foot) for apart in (120, 180) for foot in (200, 320)]
    return rows


def test_head_and_legs_of_one_fate_are_one_before_what_merely_fits_is_taken_for_a_piece():
    """Hen and legs are together no larger than a body, and near each other for long; the head's place is another."""
    found = table(coat_of_the_ground(), 120)
    settled = settle(found, np.arange(120) / RATE, RATE, BodySettings())
    ends = [(top, foot) for _, top, _, foot in settled.box.tolist()]
    assert ends.count((140, 200)) == 3 * 120 and ends.count((208, 218)) == 120 and len(ends) == 6 * 120


def test_outlines_are_the_same_in_blocks_of_any_length(monkeypatch):
    found, times = table(walkers(60), 60), np.arange(60) / RATE
    whole = settle(found, times, RATE, BodySettings())
    for block in (1, 50, 777):
        monkeypatch.setattr(settling, "BLOCK", block)
        again = settle(found, times, RATE, BodySettings())
        np.testing.assert_array_equal(again.runs, whole.runs)
        np.testing.assert_array_equal(again.run_start, whole.run_start)


def test_sparks_go_and_what_is_followed_stays():
    rng = np.random.default_rng(2)
    sparks = [
        (f, x, y, x + 5, y + 5)
        for f in range(100) for x, y in rng.uniform((0, 0), (600, 100), (3, 2)).round().tolist()
    ]  # fmt: skip
    walk = [(f, 50 + 3 * f, 200, 80 + 3 * f, 260) for f in range(100)]
    found, times = table(sparks + walk, 100), np.arange(100) / RATE
    settled = settle(found, times, RATE, BodySettings())
    assert len(settled) == 100
    assert (settled.box[:, 1] == 200).all()
    short = settle(table(sparks + walk, 100), times * 0.1, 10 * RATE, BodySettings())
    assert len(short) == 400, "in under two seconds nothing is followed for long enough to tell"


@given(st.integers(0, 10_000))
def test_no_union_is_larger_than_a_body_and_every_row_goes_to_one_that_stays(seed):
    rng = np.random.default_rng(seed)
    n = 24
    low = rng.uniform(0, 120, (n, 2))
    box = np.hstack([low, low + rng.uniform(4, 40, (n, 2))]).astype(np.float32)
    start, owner = np.array([0, 12, 24]), rng.integers(0, 3, n)
    height, width = np.array([40.0, 0.0]), np.array([25.0, 0.0])
    body, piece = fitting_pairs(start, fixed(box), owner, height, width)
    one = lives_together(body, piece, owner, box)
    into, whole = unite_pairs(body[one], piece[one], box, height, width)
    assert ((owner[body] > 0) | (owner[piece] > 0)).all() and ((body < 12) == (piece < 12)).all()
    owned = owned_together(owner, into)
    assert (owned[owner > 0] == owner[owner > 0]).all()
    for r in np.flatnonzero((owned > 0) & (owner == 0)).tolist():
        assert owned[r] in owner[into == r], "it has the identity of a piece that went into it"
    np.testing.assert_array_equal(into[into], into)
    for r in np.unique(into[into != np.arange(n)]).tolist():
        parts = box[into == r]
        want = np.concatenate([parts[:, :2].min(axis=0), parts[:, 2:].max(axis=0)])
        np.testing.assert_array_equal(whole[r], want)
        assert want[2] - want[0] <= 1.35 * 25 + 1e-3 and want[3] - want[1] <= 1.2 * 40 + 1e-3


def test_a_head_followed_over_legs_that_are_lost_and_found_again_is_theirs():
    """A head of 6 by 6 over legs of 16 by 30 that are four identities in turn; a child beside them is its own."""
    rows, owner = [], []
    for f in range(40):
        x = 10.0 + 4 * f
        rows += [(f, x + 5, 20, x + 11, 26), (f, x, 40, x + 16, 70), (f, x + 14, 50, x + 26, 70)]
        owner += [1, 10 + f // 10, 2]
    found, owner = table(rows, 40), np.array(owner)
    box = found.frozen().box
    body, piece = fitting_pairs(found.frame_start, box, owner, np.array([50.0, 0.0]), np.array([20.0, 0.0]))
    one = lives_together(body, piece, owner, box)
    assert set(owner[piece[one]].tolist()) == {1}
    assert len(np.unique(piece[one])) == 40


def test_two_pieces_of_which_now_the_one_now_the_other_is_larger_are_one_all_the_time():
    """A trunk and legs that nobody sees together: the legs are the larger in 30 pictures, the trunk in 10."""
    rows = []
    for f in range(40):
        wide = 18 if f < 30 else 10
        rows += [(f, 50, 50, 64, 74), (f, 50, 75, 50 + wide, 98)]
    found, owner = table(rows, 40), np.tile([1, 2], 40)
    box = found.frozen().box
    body, piece = fitting_pairs(found.frame_start, box, owner, np.array([50.0, 0.0]), np.array([20.0, 0.0]))
    assert set(owner[body].tolist()) == {1, 2}
    one = lives_together(body, piece, owner, box)
    assert one.sum() == 40, "each picture"


def test_a_body_that_nobody_follows_is_known_by_its_head():
    """A head is followed; the coat below it is found every other picture, and taken for no identity of its own."""
    rows, owner = [], []
    for f in range(40):
        rows.append((f, 20 + f, 50, 28 + f, 58))
        owner.append(1)
        if f % 2 == 0:
            rows.append((f, 16 + f, 60, 34 + f, 98))
            owner.append(0)
    found, owner = table(rows, 40), np.array(owner)
    box = found.frozen().box
    height, width = np.array([50.0, 0.0]), np.array([20.0, 0.0])
    body, piece = fitting_pairs(found.frame_start, box, owner, height, width)
    one = lives_together(body, piece, owner, box)
    into, whole = unite_pairs(body[one], piece[one], box, height, width)
    owner = owned_together(owner, into)
    assert (owner == 1).all() and (into != np.arange(len(into))).sum() == 20
    assert (whole[np.unique(body[one]), 1] == 50).all()


# --- what is reported, joined and believed --------------------------------------------------------------------


def test_a_box_is_the_one_found_unless_it_is_shared_or_much_too_large():
    own = np.array([[0, 0, 10, 10], [20, 0, 30, 10], [40, 0, 50, 10], [60, 0, 70, 10], [80, 0, 90, 10]], np.float32)
    box = fixed(np.array([[1, 1, 12, 12], [20, 0, 52, 10], [60, 0, 70, 17]], np.float32))
    seen = boxes_seen(own, np.array([0, 1, 1, 2, -1], np.int32), box)
    assert seen.tolist() == [[1, 1, 12, 12], own[1].tolist(), own[2].tolist(), own[3].tolist(), own[4].tolist()]


def test_others_that_would_fit_by_chance_are_counted():
    """One end; three beginnings where it ended, all standing: each other would fit at any of the times tried."""
    at, still, side = np.full((3, 2), 50.0), np.zeros((3, 2)), np.full((3, 2), 10.0)
    edge = np.zeros(3, np.bool_)
    ends = Ends(np.zeros(3), at, still, side, edge)
    one = np.array([0]), np.array([1]), np.array([5.0]), ends, ends
    # Beginning 1 is its partner and 0 is the track's own; 2 would fall within the 4 s with probability 0.1.
    assert expected_by_chance(*one, 4.0, 40.0, 400, 0, 1).tolist() == pytest.approx([0.1])
    edge[2] = True
    assert expected_by_chance(*one, 4.0, 40.0, 400, 0, 1).tolist() == [0.0]


def test_the_longer_and_the_clearer_the_likelier_an_object():
    def odds(frames: int, confidence: float) -> float:
        path = walk_rows(1, [(50 + 2.0 * k, 100) for k in range(frames)])
        tracks = tracks_of(path, frames, size=(640, 360))
        tracks = replace(tracks, confidence=np.full(frames, confidence, np.float32))
        boxes = np.array([box_at(50 + 2.0 * k, 100) for k in range(frames)], np.float32)
        found = Detections.from_boxes(
            np.arange(frames), boxes, np.full(frames, confidence, np.float32), frame_count=frames, size=(640, 360)
        )
        return float(object_odds(tracks, found, np.arange(frames) / RATE)[0])

    assert odds(100, 0.6) > odds(40, 0.6) > odds(12, 0.6)
    assert odds(40, 0.7) > odds(40, 0.6) > odds(40, 0.54)
    assert odds(40, 0.53) == odds(40, 0.45), "how faint it is counts no more below the threshold"


# --- groups that always go together -----------------------------------------------------------------------------


def figure(x: int, top: int, foot: int) -> list[tuple[int, int, int]]:
    """Runs of an upright body, its head about ``x``: 6 px wide and 8 tall, the rest 16 wide."""
    return [(y, x - (3 if y < top + 8 else 8), x + (3 if y < top + 8 else 8)) for y in range(top, foot)]


def drawn(frames: list[list[list[tuple[int, int, int]]]]) -> Detections:
    """Detections from blobs, each one or more bodies' runs, overlapping or not, frame by frame."""
    start, boxes, runs, ends = [0], [], [], [0]
    for blobs in frames:
        for blob in blobs:
            lines: dict[int, tuple[int, int]] = {}
            mask = np.zeros((200, 640), np.bool_)
            for y, a, b in blob:
                mask[y, a:b] = True
                lines[y] = (min(a, lines.get(y, (a, b))[0]), max(b, lines.get(y, (a, b))[1]))
            for y in sorted(lines):
                edge = np.flatnonzero(np.diff(np.pad(mask[y], 1).astype(np.int8)))
                runs += [(y, int(a), int(b)) for a, b in edge.reshape(-1, 2)]
            ends.append(len(runs))
            left, right = min(a for a, _ in lines.values()), max(b for _, b in lines.values())
            boxes.append((left, min(lines), right, max(lines) + 1))
        start.append(len(boxes))
    frame = np.repeat(np.arange(len(frames)), np.diff(start))
    box = np.array(boxes, np.float32)
    plain = Detections.from_boxes(
        frame, box, np.full(len(box), 0.8, np.float32), frame_count=len(frames), size=(640, 200)
    )
    area = np.array([sum(b - a for _, a, b in runs[s:e]) for s, e in pairwise(ends)], np.float32)
    return replace(plain, runs=np.array(runs, np.int16), run_start=np.array(ends, np.int64), area=area)


def test_two_who_always_go_together_are_two_by_their_heads():
    """Two walk alone, two side by side as one blob, the second a little shorter."""
    frames = []
    for f in range(100):
        x = 30 + 3 * f
        alone = [figure(60 + 5 * f, 80, 130), figure(600 - 4 * f, 140, 190)]
        frames.append([*alone, figure(x, 20, 70) + figure(x + 13, 26, 70)])
    settled = settle(drawn(frames), np.arange(100) / RATE, RATE, BodySettings())
    for f in range(20, 80):
        mine = settled.box[settled.frame_start[f] : settled.frame_start[f + 1]]
        pair = mine[mine[:, 1] < 40]
        pair = pair[np.argsort(pair[:, 0])]
        x = 30 + 3 * f
        assert len(mine) == 4
        truth = np.array([[x - 8, 20, x + 8, 70], [x + 5, 26, x + 21, 70]], np.float32)
        assert np.diag(overlap_matrix(pair, truth)).min() > 0.65, "how wide each is behind the other nobody can see"
        assert pair[:, 1].tolist() == [20, 26]
    carts = [[figure(60 + 5 * f, 20, 34) + figure(76 + 5 * f, 20, 34)] for f in range(100)]
    settled = settle(drawn(carts), np.arange(100) / RATE, RATE, BodySettings())
    assert (np.diff(settled.frame_start) <= 1).all(), "what is wider than tall is no group"


def test_crowns_by_hand():
    """A head of 6 px and one 13 px beside it are two; a shoulder, a wide cab and a dip too small are none."""
    blobs = [
        figure(20, 10, 60) + figure(33, 16, 60),
        figure(20, 10, 60) + [(y, 28, 40) for y in range(18, 60)],  # a shoulder
        figure(20, 10, 60) + [(y, 40, 70) for y in range(10, 60)],  # a cab of 30 px
        figure(20, 10, 60) + [(14, x, x + 1) for x in range(23, 40)] + figure(40, 12, 60),  # a dip of 2 px only
    ]
    found = drawn([blobs])
    box = found.box.astype(np.float64)
    count, place = find_crowns(found.runs, found.run_start, np.arange(4), box, np.full(4, 5.0), np.full(4, 10.0))
    assert count.tolist() == [2, 1, 1, 1]
    assert place[0, :2].tolist() == [[20.0, 10.0], [33.0, 16.0]]
