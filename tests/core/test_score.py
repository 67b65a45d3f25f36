"""Measures worked by hand from the papers' definitions, and what must hold for any result."""

from __future__ import annotations

import numpy as np
import pytest
from builders import tracks_of, truth_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.recipe import ScoreSettings
from drover.core.score.hota import hota_score
from drover.core.score.pairs import find_pairs
from drover.core.score.scorer import score_tracks

A, B = (0.0, 0.0, 10.0, 10.0), (50.0, 0.0, 60.0, 10.0)
RULE = ScoreSettings()


def scored(true_rows, track_rows, frames, consider=None):
    return score_tracks(tracks_of(track_rows, frames), truth_of(true_rows, frames, consider), RULE).as_dict()


def both(frames: range, first: int, second: int):
    return [(f, first, A) for f in frames] + [(f, second, B) for f in frames]


def test_a_perfect_result_scores_one():
    s = scored(both(range(6), 1, 2), both(range(6), 7, 9), 6)
    for key in ("hota", "deta", "assa", "loca", "mota", "motp", "idf1", "idp", "idr", "precision", "recall"):
        assert s[key] == pytest.approx(1.0)
    assert (s["fp"], s["fn"], s["id_switches"], s["fragmentations"], s["mostly_tracked"]) == (0, 0, 0, 0, 2)


def test_two_identities_that_swap_half_way():
    """Twelve boxes; from frame 3 the numbers are exchanged: two switches, half of the boxes agree."""
    s = scored(both(range(6), 1, 2), both(range(3), 7, 9) + both(range(3, 6), 9, 7), 6)
    assert s["id_switches"] == 2
    assert s["mota"] == pytest.approx(1 - 2 / 12, abs=1e-5)
    assert s["idf1"] == pytest.approx(6 / 12)
    # Each match agrees with its partner in 3 frames of 3 + 3 + 3: association 1/3, detection 1.
    assert s["assa"] == pytest.approx(1 / 3, abs=1e-5)
    assert s["hota"] == pytest.approx(np.sqrt(1 / 3), abs=1e-5)


def test_misses_and_false_alarms():
    """A found in frames 0, 1 and 4, 5 of six under one number; a false box in frames 2 and 3."""
    true = [(f, 1, A) for f in range(6)]
    tracks = [(f, 5, A) for f in (0, 1, 4, 5)] + [(f, 6, B) for f in (2, 3)]
    s = scored(true, tracks, 6)
    assert (s["tp"], s["fp"], s["fn"]) == (4, 2, 2)
    assert (s["id_switches"], s["fragmentations"]) == (0, 1)
    assert s["mota"] == pytest.approx(1 - 4 / 6, abs=1e-5)
    assert s["idf1"] == pytest.approx(2 * 4 / 12, abs=1e-5)
    assert (s["mostly_tracked"], s["partly_tracked"], s["mostly_lost"]) == (0, 1, 0)
    # Detection 4 / 8; association 4 / (6 + 4 - 4).
    assert s["hota"] == pytest.approx(np.sqrt(4 / 8 * 4 / 6), abs=1e-5)


def test_a_partner_is_kept_while_it_overlaps_even_if_another_is_nearer():
    """Track 5 drifts to an overlap of 0.6 while 6 sits right on: CLEAR keeps 5 and calls 6 a false alarm."""
    true = [(f, 1, A) for f in range(3)]
    drift = (0.0, 2.5, 10.0, 12.5)  # 75 of 125
    s = scored(true, [(0, 5, A), (1, 5, drift), (2, 5, drift), (2, 6, A)], 3)
    assert s["id_switches"] == 0
    assert s["fp"] == 1
    assert s["motp"] == pytest.approx((1 + 0.6 + 0.6) / 3, abs=1e-5)


def test_overlap_limits_of_hota_by_hand():
    """One pair with overlap 0.6 passes 12 of the 19 limits 0.05 .. 0.95."""
    shifted = (0.0, 2.5, 10.0, 12.5)
    s = hota_score(find_pairs(truth_of([(0, 1, A)], 1), tracks_of([(0, 1, shifted)], 1), least_overlap=0.5))
    assert s.hota == pytest.approx(12 / 19)
    assert s.loca == pytest.approx((12 * 0.6 + 7 * 1.0) / 19)


def test_truth_not_to_be_considered_neither_asks_nor_blames():
    true = both(range(4), 1, 2)
    hidden = {(f, 2): False for f in (1, 2)}
    found = scored(true, both(range(4), 7, 9), 4, hidden)
    assert (found["tp"], found["fp"], found["fn"]) == (6, 0, 0)
    missed = scored(true, [row for row in both(range(4), 7, 9) if (row[0], row[1]) not in ((1, 9), (2, 9))], 4, hidden)
    assert (missed["tp"], missed["fp"], missed["fn"]) == (6, 0, 0)
    assert missed["fragmentations"] == 0


@pytest.mark.parametrize("empty", ["truth", "tracks", "both"])
def test_nothing_at_all_gives_numbers_not_errors(empty):
    true = [] if empty in ("truth", "both") else [(0, 1, A)]
    tracks = [] if empty in ("tracks", "both") else [(0, 1, A)]
    s = scored(true, tracks, 2)
    assert all(np.isfinite(value) for value in s.values())
    assert s["tp"] == 0


rows = st.lists(
    st.tuples(st.integers(0, 5), st.integers(1, 4), st.integers(0, 30), st.integers(4, 12)),
    max_size=24,
    unique_by=lambda row: row[:2],
)


def as_rows(drawn):
    return [(f, i, (float(x), 0.0, float(x + w), 10.0)) for f, i, x, w in drawn]


@given(rows, rows)
def test_scores_hold_together_for_any_result(true, found):
    s = scored(as_rows(true), as_rows(found), 6)
    assert s["tp"] + s["fn"] == len(true)
    assert s["tp"] + s["fp"] == len(found)
    assert s["mostly_tracked"] + s["partly_tracked"] + s["mostly_lost"] == len({row[1] for row in true})
    for key in ("hota", "deta", "assa", "loca", "motp", "idf1", "idp", "idr", "precision", "recall"):
        assert 0 <= s[key] <= 1
    assert s["mota"] <= 1
    if s["idp"] + s["idr"] > 0:
        assert s["idf1"] == pytest.approx(2 * s["idp"] * s["idr"] / (s["idp"] + s["idr"]), abs=1e-5)


@given(rows, rows)
def test_names_of_identities_do_not_matter(true, found):
    renamed = [(f, 100 - i, x, w) for f, i, x, w in found]
    one, other = scored(as_rows(true), as_rows(found), 6), scored(as_rows(true), as_rows(renamed), 6)
    for key in ("idf1", "recall", "precision", "deta", "mostly_lost"):
        assert one[key] == pytest.approx(other[key], abs=1e-6)


@given(rows)
def test_scoring_truth_against_itself_is_perfect(true):
    if not true:
        return
    s = scored(as_rows(true), as_rows(true), 6)
    assert s["idf1"] == pytest.approx(1.0)
    assert s["recall"] == s["precision"] == 1.0


def test_detection_scores_and_where_the_errors_are():
    """Three true boxes; found: one exactly (sure), a false one (surer), one more exactly (unsure).

    By falling confidence: wrong, right, right: precision at the hits 1/2 and 2/3, made monotone 2/3 and 2/3;
    recall rises by a third each time: AP = 4/9.
    """
    from drover.core.score.detection import score_detections
    from drover.core.types import Detections

    far = (80.0, 50.0, 90.0, 60.0)
    found = Detections.from_boxes(
        np.array([0, 0, 1]), np.array([A, far, A], np.float32), np.array([0.8, 0.9, 0.2], np.float32),
        frame_count=2, size=(100, 100),
    )  # fmt: skip
    s = score_detections(found, truth_of([(0, 1, A), (0, 2, B), (1, 1, A)], 2))
    assert (s.found, s.precision, s.recall) == (2, pytest.approx(2 / 3), pytest.approx(2 / 3))
    assert s.misses.tolist() == [[0, *B]]
    assert s.false_alarms.tolist() == [[0, *far]]
    assert s.average_precision == pytest.approx(4 / 9)
    hidden = score_detections(found, truth_of([(0, 1, A), (0, 3, far), (1, 1, A)], 2, {(0, 3): False}))
    assert hidden.errors == 0
    assert hidden.f1 == 1.0
