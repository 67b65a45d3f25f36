"""Every measure against a slow twin that follows its paper word by word, on crowded random cases."""

from __future__ import annotations

from itertools import combinations, permutations

import numpy as np
import pytest
from builders import tracks_of, truth_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.recipe import ScoreSettings
from drover.core.score.detection import score_detections
from drover.core.score.scorer import score_tracks
from drover.core.types import Detections

FRAMES = 5
LEAST = 0.5

# Few places, so that boxes crowd; up to four a frame, so that everything can be tried.
rows = st.lists(
    st.tuples(st.integers(0, FRAMES - 1), st.integers(1, 4), st.integers(0, 12), st.sampled_from([8, 10, 12])),
    max_size=16,
    unique_by=lambda row: row[:2],
)


def as_rows(drawn):
    return [(f, i, (float(x), 0.0, float(x + w), 10.0)) for f, i, x, w in drawn]


def overlap(a, b) -> float:
    shared = max(0.0, min(a[2], b[2]) - max(a[0], b[0])) * max(0.0, min(a[3], b[3]) - max(a[1], b[1]))
    return shared / ((a[2] - a[0]) * (a[3] - a[1]) + (b[2] - b[0]) * (b[3] - b[1]) - shared)


def matchings(left: list, right: list):
    """Every way to pair some of the one with some of the other, one to one."""
    for size in range(min(len(left), len(right)) + 1):
        for some in combinations(left, size):
            for order in permutations(right, size):
                yield list(zip(some, order, strict=True))


def clear_twin(true, found):
    """tp, switches and summed overlap by the convention written in the docs."""
    held, last, tp, switches, total = {}, {}, 0, 0, 0.0
    for frame in range(FRAMES):
        here = {i: box for f, i, box in true if f == frame}
        there = {i: box for f, i, box in found if f == frame}
        kept = [(t, p) for t, p in held.items() if t in here and p in there and overlap(here[t], there[p]) >= LEAST]
        left = [t for t in here if t not in {t for t, _ in kept}]
        right = [p for p in there if p not in {p for _, p in kept}]
        best = max(
            (m for m in matchings(left, right) if all(overlap(here[t], there[p]) >= LEAST for t, p in m)),
            key=lambda m: (len(m), round(sum(overlap(here[t], there[p]) for t, p in m), 9)),
        )
        held = dict(kept + best)
        tp += len(held)
        total += sum(overlap(here[t], there[p]) for t, p in held.items())
        switches += sum(last.get(t, p) != p for t, p in held.items())
        last |= held
    return tp, switches, total


def unique_best(true, found) -> bool:
    """Whether every frame has a single best pairing: where several are as good, either may be taken."""
    for frame in range(FRAMES):
        here = [box for f, _, box in true if f == frame]
        there = [box for f, _, box in found if f == frame]
        values = [round(overlap(a, b), 6) for a in here for b in there if overlap(a, b) > 0]
        if len(set(values)) < len(values):
            return False
    return True


@given(rows, rows)
def test_clear_equals_its_twin_and_never_gives_one_box_away_twice(true, found):
    true, found = as_rows(true), as_rows(found)
    s = score_tracks(tracks_of(found, FRAMES), truth_of(true, FRAMES), ScoreSettings()).as_dict()
    assert s["fp"] >= 0 and s["fn"] >= 0 and s["precision"] <= 1.0
    if unique_best(true, found):
        tp, switches, total = clear_twin(true, found)
        assert (s["tp"], s["id_switches"]) == (tp, switches)
        assert s["motp"] == pytest.approx(total / tp if tp else 0.0, abs=1e-5)


def test_two_true_boxes_never_share_one_tracked_box():
    """Both were followed by 7 before, one after the other; now one box of 7 covers both: it is given to one."""
    a, b, both = (0.0, 0.0, 10.0, 10.0), (4.0, 0.0, 14.0, 10.0), (2.0, 0.0, 12.0, 10.0)
    true = [(0, 1, a), (1, 2, b), (2, 1, a), (2, 2, b)]
    s = score_tracks(tracks_of([(0, 7, a), (1, 7, b), (2, 7, both)], 3), truth_of(true, 3), ScoreSettings()).as_dict()
    assert (s["tp"], s["fp"], s["fn"]) == (3, 0, 1)
    assert s["precision"] == 1.0


def identity_twin(true, found) -> int:
    """Most boxes that agree under any one-to-one renaming of tracked into true identities."""
    agree = {}
    for f, t, a in true:
        for g, p, b in found:
            agree[t, p] = agree.get((t, p), 0) + (f == g and overlap(a, b) >= LEAST)
    left, right = sorted({t for _, t, _ in true}), sorted({p for _, p, _ in found})
    return max(sum(agree.get(pair, 0) for pair in m) for m in matchings(left, right))


@given(rows, rows)
def test_identity_scores_equal_their_twin(true, found):
    true, found = as_rows(true), as_rows(found)
    s = score_tracks(tracks_of(found, FRAMES), truth_of(true, FRAMES), ScoreSettings()).as_dict()
    total = len(true) + len(found)
    assert s["idf1"] == pytest.approx(2 * identity_twin(true, found) / total if total else 0.0, abs=1e-5)


def hota_twin(true, found) -> tuple[float, float, float, float]:
    """HOTA, DetA, AssA, LocA: soft counts over the clip, one assignment a frame, judged at nineteen limits."""
    ids = {i for _, i, _ in true}, {i for _, i, _ in found}
    soft = {(t, p): 0.0 for t in ids[0] for p in ids[1]}
    for frame in range(FRAMES):
        here = {i: box for f, i, box in true if f == frame}
        there = {i: box for f, i, box in found if f == frame}
        for t, a in here.items():
            for p, b in there.items():
                s = overlap(a, b)
                either = sum(overlap(a, c) for c in there.values()) + sum(overlap(c, b) for c in here.values()) - s
                soft[t, p] += s / either if s else 0.0
    count = {t: sum(i == t for _, i, _ in true) for t in ids[0]}, {p: sum(i == p for _, i, _ in found) for p in ids[1]}
    pairs = []
    for frame in range(FRAMES):
        here = {i: box for f, i, box in true if f == frame}
        there = {i: box for f, i, box in found if f == frame}

        def value(t, p, here=here, there=there):
            return soft[t, p] / (count[0][t] + count[1][p] - soft[t, p]) * overlap(here[t], there[p])

        best = max(matchings(list(here), list(there)), key=lambda m: round(sum(value(*pair) for pair in m), 12))
        pairs += [(t, p, overlap(here[t], there[p])) for t, p in best]
    table = []
    for k in range(1, 20):
        right = [(t, p, s) for t, p, s in pairs if s >= 0.05 * k - 1e-9]
        if not right:
            table.append((0.0, 0.0, 0.0, 1.0))
            continue
        both = {}
        for t, p, _ in right:
            both[t, p] = both.get((t, p), 0) + 1
        assa = np.mean([both[t, p] / (count[0][t] + count[1][p] - both[t, p]) for t, p, _ in right])
        deta = len(right) / (len(true) + len(found) - len(right))
        table.append((np.sqrt(assa * deta), deta, assa, np.mean([s for _, _, s in right])))
    return tuple(np.mean(table, axis=0))


@given(rows, rows)
def test_hota_equals_its_twin(true, found):
    true, found = as_rows(true), as_rows(found)
    s = score_tracks(tracks_of(found, FRAMES), truth_of(true, FRAMES), ScoreSettings()).as_dict()
    if unique_best(true, found):
        twin = hota_twin(true, found)
        assert (s["hota"], s["deta"], s["assa"], s["loca"]) == pytest.approx(twin, abs=1e-5)


def precision_twin(true, found, hidden) -> float:
    """AP: the surest first, each to the true box it overlaps most; a box claimed before makes it wrong."""
    claimed, judged = set(), []
    for f, _, box, _ in sorted(found, key=lambda row: -row[3]):
        best = max(((overlap(a, box), -n, n) for n, (g, _, a) in enumerate(true) if g == f), default=(0.0, 0, -1))
        if best[0] >= LEAST and best[2] in hidden:
            continue
        judged.append(best[0] >= LEAST and best[2] not in claimed)
        claimed |= {best[2]} if best[0] >= LEAST else set()
    total, area, reached = len(true) - len(hidden), 0.0, 0
    points = [(sum(judged[: k + 1]) / total, sum(judged[: k + 1]) / (k + 1)) for k in range(len(judged))]
    for k, (recall, _) in enumerate(points):
        area += (recall - reached) * max(p for _, p in points[k:])
        reached = recall
    return area


@given(rows, rows, st.randoms(use_true_random=False))
def test_average_precision_equals_its_twin(true, found, random):
    true = sorted(as_rows(true), key=lambda row: row[:2])
    hidden = {n for n in range(len(true)) if random.random() < 0.2}
    if len(true) == len(hidden) or not found:
        return
    sure = random.sample(range(100), len(found))
    boxed = [(*row, s / 100) for row, s in zip(sorted(as_rows(found), key=lambda row: row[0]), sure, strict=True)]
    detections = Detections.from_boxes(
        np.array([row[0] for row in boxed]), np.array([row[2] for row in boxed], np.float32),
        np.array([row[3] for row in boxed], np.float32), frame_count=FRAMES, size=(100, 100),
    )  # fmt: skip
    skip = {true[n][:2]: False for n in hidden}
    score = score_detections(detections, truth_of(true, FRAMES, skip), LEAST)
    assert score.average_precision == pytest.approx(precision_twin(true, boxed, hidden), abs=1e-6)
