"""Doubts turned into bounds and into what is left of a review: hand-worked cases, and draws by the law assumed."""

from __future__ import annotations

import json
from dataclasses import replace
from importlib import resources

import numpy as np
import pytest
from builders import crossings_of, tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.count.audit import Audit, Missed, with_added, with_verdict
from drover.core.doubt.bounds import all_bounds, crossing_doubts, total_distribution
from drover.core.doubt.chance import chance_of
from drover.core.doubt.futures import partner_of
from drover.core.doubt.moments import EVIDENCE, KINDS, Moments
from drover.core.doubt.review import Worked, errors_left, worked_off
from drover.core.edits.apply import EditNote
from drover.core.edits.edit import Edit, Place

TIMES = np.arange(1000) / 25.0
HERE = Place(time=0.0, box=(0.0, 0.0, 0.1, 0.1))


def moments_of(rows: list[tuple[int, int, float]]) -> Moments:
    """Moments of one identity each from (frame, identity, doubt)."""
    frame = np.array([row[0] for row in rows], np.int64)
    who = np.array([(row[1], 0) for row in rows], np.int64).reshape(-1, 2)
    n = len(rows)
    doubt = np.array([row[2] for row in rows], np.float64)
    return Moments(np.column_stack([frame] * 3), np.zeros(n, np.int64), doubt, who, np.zeros(n, np.bool_))


def test_the_difference_to_the_true_total_follows_from_chances() -> None:
    """Two that are false with one half and one quarter, none missed: both 1/8, one 1/8 + 3/8, none 3/8."""
    low, chance = total_distribution(np.array([0.5, 0.25]), 0.0)
    assert low == -2
    assert chance[:3] == pytest.approx([0.125, 0.5, 0.375])
    assert chance[3:].sum() == pytest.approx(0.0)
    low, chance = total_distribution(np.zeros(0), 2.0)  # none false: a Poisson number of missed ones
    assert low == 0
    assert chance[:3] == pytest.approx(np.exp(-2) * np.array([1, 2, 2]), rel=1e-3)


@given(st.lists(st.floats(0, 0.9), max_size=30), st.floats(0, 6))
def test_it_is_a_distribution_with_the_right_mean(false: list[float], missed: float) -> None:
    low, chance = total_distribution(np.array(false), missed)
    assert (chance >= 0).all()
    assert chance.sum() == pytest.approx(1.0)
    mean = float((chance * (low + np.arange(len(chance)))).sum())
    assert mean == pytest.approx(missed - sum(false), abs=0.05)


def test_bounds_hold_nine_times_in_ten_where_the_law_holds() -> None:
    rng = np.random.default_rng(4)
    held = 0
    for _ in range(400):
        false, missed = rng.uniform(0, 0.6, 12) ** 2, float(rng.uniform(0, 3))
        low, chance = total_distribution(false, missed)
        below = np.cumsum(chance)
        ends = low + np.searchsorted(below, 0.05, side="right"), low + np.searchsorted(below, 0.95, side="left")
        true = int(rng.poisson(missed)) - int((rng.random(12) < false).sum())
        held += bool(ends[0] <= true <= ends[1])
    assert held >= 0.88 * 400


def test_bounds_grow_narrow_as_moments_and_crossings_are_worked_off() -> None:
    crossings = crossings_of([(who, 1) for who in range(1, 21)])
    moments = moments_of([(25 * k, k + 1, 0.8) for k in range(20)])
    open_, done = np.zeros(20, np.int8), np.full(20, Worked.RIGHT, np.int8)
    wide = all_bounds(crossings, moments, open_, TIMES, Audit())["Gap", 1]
    after = all_bounds(crossings, moments, done, TIMES, Audit())["Gap", 1]
    assert wide.count == after.count == 20
    assert wide.low < after.low <= 20 <= after.high
    assert after.high - after.low < wide.high - wide.low
    audit = Audit()
    for row in range(20):
        audit = with_verdict(audit, crossings, row, "rejected" if row == 3 else "confirmed")
    audit = with_added(audit, Missed("Gap", 1, 2.5, 62))
    said = all_bounds(crossings, moments, open_, TIMES, audit)["Gap", 1]
    assert (said.count, said.low) == (20, 20)  # one less, one more, and nothing of them is in doubt any more
    assert wide.words == f"20, surely {wide.low} to {wide.high}"
    assert all_bounds(crossings, moments, open_, TIMES, Audit())["Gap", -1].low == 0


def test_a_crossing_is_as_doubtful_as_what_is_near_it_and_at_least_so_where_nobody_saw_it() -> None:
    crossings = replace(crossings_of([(1, 1), (2, 1), (3, 1)]), seen=np.array([True, True, False]))
    moments = moments_of([(0, 1, 0.7), (10, 1, 0.3), (500, 2, 0.9)])  # crossings are at 0, 1 and 2 s
    told = crossing_doubts(crossings, moments, np.zeros(3, np.int8), TIMES)
    assert told.tolist() == pytest.approx([0.7, 0.0, 0.15])
    looked = crossing_doubts(crossings, moments, np.array([Worked.RIGHT, 0, 0], np.int8), TIMES)
    assert looked[0] == pytest.approx(0.3)
    unsure = crossing_doubts(crossings, moments, np.array([Worked.UNSURE, 0, 0], np.int8), TIMES)
    assert unsure[0] == pytest.approx(0.7)  # it cannot be told: the doubt stays


def test_what_was_said_near_a_moment_of_its_identity_works_it_off() -> None:
    moments = moments_of([(100, 1, 0.5), (200, 1, 0.5), (100, 2, 0.5), (300, 3, 0.4)])
    edits = (
        Edit(kind="right", at=4.2, places=(HERE,)), Edit(kind="drop", at=12.0, places=(HERE, HERE)),
        Edit(kind="name", at=8.0, places=(HERE,), text="Old one"), Edit(kind="unsure", at=8.0, places=(HERE,)),
    )  # fmt: skip
    notes = (EditNote(True, (1,)), EditNote(False), EditNote(True, (1,)), EditNote(True, (1,)))
    told = worked_off(moments, edits, notes, TIMES)
    # Another identity at the time, and a correction that fits no more, say nothing.
    assert told.tolist() == [Worked.RIGHT, Worked.UNSURE, Worked.OPEN, Worked.OPEN]
    assert errors_left(moments, told) == pytest.approx(errors_left(moments, np.zeros(4, np.int8)) * 1.4 / 1.9)


def test_the_fit_knows_every_kind_of_evidence_in_its_order() -> None:
    table = json.loads(resources.files("drover").joinpath("data/doubt.json").read_text(encoding="utf-8"))
    assert tuple(table["evidence"]) == EVIDENCE
    plain = np.zeros((2, len(EVIDENCE)))
    plain[1, EVIDENCE.index("turn gain")] = 2.0
    none, swapped = chance_of(plain).tolist()
    assert 0.0 < none < swapped < 1.0
    assert set(KINDS) < set(EVIDENCE)


BODIES = st.lists(
    st.tuples(st.integers(0, 200), st.integers(0, 100), st.integers(2, 60), st.integers(2, 40)), min_size=2, max_size=25
)


@given(BODIES)
def test_who_is_nearest_is_who_is_nearest_among_all(bodies: list[tuple[int, int, int, int]]) -> None:
    """In their mean sizes, within one and a half; of those as near the first: looked for among everybody."""
    box = np.array([(x, y, x + w, y + h) for x, y, w, h in bodies], np.float64)
    tracks = tracks_of([(frame, k + 1, tuple(box[k])) for frame in range(3) for k in range(len(box))], 3)
    middle, size = (box[:, :2] + box[:, 2:]) / 2, box[:, 2:] - box[:, :2]
    for one in range(len(box)):
        away = (np.abs(middle - middle[one]) / ((size + size[one]) / 2)).max(axis=1)
        away[one] = np.inf
        nearest = int(np.argmin(away)) + 1 if away.min() < 1.5 else 0
        found = partner_of(tracks, TIMES[:3], np.zeros((0, 32), np.uint8), "meet", 1, (one + 1,))
        assert found == nearest
