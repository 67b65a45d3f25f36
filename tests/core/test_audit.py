"""The audit as a value, and crossings matched with the truth; by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import crossings_of

from drover.core.count.audit import (
    Audit,
    Missed,
    audit_totals,
    crossing_trust,
    rule_words,
    verdicts_of,
    with_added,
    with_hand_total,
    with_sign_off,
    with_verdict,
    without_added,
)
from drover.core.recipe import LineSettings
from drover.core.score.crossing_match import errors_by_class, match_crossings

FOUND = crossings_of([(1, 1), (2, 1), (3, -1), (4, 1)])  # a second apart


def test_totals_are_counted_confirmed_and_corrected():
    audit = with_verdict(Audit(), FOUND, 0, "confirmed")
    audit = with_verdict(audit, FOUND, 1, "rejected")
    audit = with_added(audit, Missed("Gap", 1, 7.0, 175))
    forward, back = audit_totals(audit, FOUND, 0, 1), audit_totals(audit, FOUND, 0, -1)
    assert (forward.counted, forward.confirmed, forward.rejected, forward.added) == (3, 1, 1, 1)
    assert (forward.corrected, forward.open) == (3, 1)
    assert (back.counted, back.corrected, back.open) == (1, 1, 1)
    assert verdicts_of(with_verdict(audit, FOUND, 1, None), FOUND) == ["confirmed", None, None, None]
    assert audit_totals(without_added(audit, 0), FOUND, 0, 1).corrected == 2


def test_a_verdict_stays_with_its_crossing_when_identities_change():
    audit = with_verdict(Audit(), FOUND, 2, "rejected")
    again = replace(FOUND, identity=FOUND.identity + 40, time=FOUND.time + 0.1)
    assert verdicts_of(audit, again) == [None, None, "rejected", None]
    assert verdicts_of(audit, replace(FOUND, time=FOUND.time + 0.5)) == [None] * 4


def test_one_verdict_belongs_to_one_crossing_of_two_that_are_close():
    pair = replace(crossings_of([(1, 1), (2, 1)]), time=np.array([5.0, 5.1]))
    audit = with_verdict(with_verdict(Audit(), pair, 0, "confirmed"), pair, 1, "rejected")
    assert verdicts_of(audit, pair) == ["confirmed", "rejected"]
    assert verdicts_of(with_verdict(audit, pair, 0, "rejected"), pair) == ["rejected", "rejected"]


def test_a_sign_off_keeps_totals_rule_and_time():
    audit = with_verdict(Audit(), FOUND, 1, "rejected")
    line = LineSettings(name="Gap", points=((0.5, 0.0), (0.5, 1.0)), dead_band=0.5)
    signed = with_sign_off(audit, FOUND, 0, rule_words(line), "2026-11-23T10:00:00Z").signed_off("Gap")
    assert (signed.counted_forward, signed.forward, signed.back, signed.at) == (3, 2, 1, "2026-11-23T10:00:00Z")
    assert "dead band 0.5 sizes" in signed.rule and "(0.5000, 0.0000)" in signed.rule


def test_a_hand_total_is_kept_and_forgotten():
    audit = with_hand_total(with_hand_total(Audit(), "Gap", 1, 12), "Gap", -1, 3)
    assert (audit.hand_total("Gap", 1), audit.hand_total("Gap", -1)) == (12, 3)
    assert with_hand_total(audit, "Gap", 1, None).hand_total("Gap", 1) is None


def test_trust_is_what_the_worst_moment_nearby_leaves():
    found = replace(FOUND, seen=np.array([True, True, False, True]))
    when = found.time
    first = np.array([when[0] - 0.5, when[0] + 0.2, when[1] + 5])
    trust = crossing_trust(found, first, first + 0.1, np.array([0.3, 0.7, 0.9]), [(1,), (1, 9), (2,)])
    assert trust == pytest.approx([0.3, 1.0, 0.6, 1.0])


# --- against the truth ----------------------------------------------------------------------------------------


def timed(rows: list[tuple[int, int, float]]):
    return replace(crossings_of([(who, way) for who, way, _ in rows]), time=np.array([t for _, _, t in rows]))


def test_every_kind_of_error_by_hand():
    true = timed([(1, 1, 1.0), (2, 1, 5.0), (3, -1, 9.0), (4, 1, 20.0)])
    counted = timed([(1, 1, 1.2), (1, 1, 2.9), (3, 1, 9.1), (7, -1, 40.0), (4, 1, 20.0)])
    match = match_crossings(counted, true)
    assert match.right == 2
    assert [(e.kind, e.identity) for e in match.errors] == [
        ("double", 1), ("missed", 2), ("wrong way", 3), ("extra", 7),
    ]  # fmt: skip
    table = errors_by_class(match)
    assert table["Gap", 1, "object"].tolist() == [0, 1, 1, 1]
    assert table["Gap", -1, "object"].tolist() == [1, 0, 0, 0]
    assert match_crossings(true, true).errors == ()


def test_lines_are_matched_by_name_and_nothing_else_counts():
    true, other = crossings_of([(1, 1)]), crossings_of([(1, 1)], name="Ford")
    match = match_crossings(other, true)
    assert sorted(e.kind for e in match.errors) == ["extra", "missed"]
    assert match_crossings(crossings_of([]), true).of("missed")[0].line == "Gap"
