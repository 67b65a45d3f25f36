"""CLEAR scores: MOTA, MOTP, switches, fragmentations, mostly tracked and lost.

Bernardin and Stiefelhagen 2008, "Evaluating Multiple Object Tracking Performance: The CLEAR MOT Metrics",
section 2; mostly tracked (80 %) and mostly lost (20 %) after Wu and Nevatia 2006. The convention where the paper
leaves room: a pair matched in the frame directly before stays while its overlap is enough and neither side is taken;
the rest is the assignment of most pairs and, among those, of least summed 1 - overlap.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.assignment import NOBODY, match_pairs
from drover.core.score.pairs import Pairs

__all__ = ["ClearScore", "clear_score"]


@dataclass(frozen=True)
class ClearScore:
    """Whole numbers counted over the clip; ``motp`` is the mean overlap of found boxes (fraction).

    ``switch_rows`` are the truth rows at which an identity switched, for going there.
    """

    tp: int
    fp: int
    fn: int
    id_switches: int
    fragmentations: int
    mostly_tracked: int
    partly_tracked: int
    mostly_lost: int
    motp: float
    switch_rows: NDArray[np.int64]

    @property
    def mota(self) -> float:
        """1 - (misses + false alarms + switches) / true boxes; 0 when there are no true boxes."""
        total = self.tp + self.fn
        return 1.0 - (self.fn + self.fp + self.id_switches) / total if total else 0.0

    @property
    def precision(self) -> float:
        """Share of tracked boxes that are right."""
        return self.tp / (self.tp + self.fp) if self.tp + self.fp else 0.0

    @property
    def recall(self) -> float:
        """Share of true boxes that were found."""
        return self.tp / (self.tp + self.fn) if self.tp + self.fn else 0.0


def clear_score(pairs: Pairs, least_overlap: float) -> ClearScore:
    """CLEAR scores of a clip.

    Parameters
    ----------
    pairs : Pairs
    least_overlap : float, fraction
        A true box is found by a box that overlaps it this much; a partner of the frame before is kept while
        it does.
    """
    close = pairs.at_least(least_overlap)
    match = _match_frames(close)
    found = match >= 0
    tp = int(found.sum())
    order = np.lexsort((pairs.truth_frame, pairs.truth_id))
    switches, breaks = _changes(pairs, match, order)
    spans = np.bincount(pairs.truth_id, minlength=pairs.truth_count)
    shares = np.bincount(pairs.truth_id, weights=found, minlength=pairs.truth_count) / np.maximum(spans, 1)
    mostly, lost = int((shares >= 0.8).sum()), int((shares < 0.2).sum())
    overlaps = _overlap_of(close, match)
    return ClearScore(
        tp=tp,
        fp=len(pairs.track_id) - tp,
        fn=len(pairs.truth_id) - tp,
        id_switches=len(switches),
        fragmentations=breaks,
        mostly_tracked=mostly,
        partly_tracked=pairs.truth_count - mostly - lost,
        mostly_lost=lost,
        motp=float(overlaps.mean()) if tp else 0.0,
        switch_rows=switches,
    )


def _match_frames(pairs: Pairs) -> NDArray[np.int64]:
    """Track row found for each truth row, -1 for none; partners are kept from one frame to the next."""
    match = np.full(len(pairs.truth_id), -1, np.int64)
    if len(pairs.truth):
        start = np.concatenate([[0], np.flatnonzero(np.diff(pairs.frame)) + 1, [len(pairs.frame)]]).astype(np.int64)
        match_in_turn(
            start, pairs.frame, pairs.truth, pairs.track, pairs.overlap, pairs.truth_id, pairs.track_id,
            pairs.truth_count, match,
        )  # fmt: skip
    return match


@njit(cache=True, nogil=True)
def match_in_turn(
    start: NDArray[np.int64],
    frame: NDArray[np.int64],
    truth: NDArray[np.int64],
    track: NDArray[np.int64],
    overlap: NDArray[np.float64],
    truth_id: NDArray[np.int64],
    track_id: NDArray[np.int64],
    true_identities: int,
    match: NDArray[np.int64],
) -> None:  # pragma: no cover
    """Match frame after frame, in place: pairs of the frame directly before go first, then most pairs, most overlap.

    ``start`` (frames with pairs + 1,) is the first pair of each such frame.
    """
    partner = np.full(true_identities, -1, np.int64)
    matched_at = np.full(true_identities, -2, np.int64)
    taken = np.zeros(track_id.shape[0], np.bool_)
    for f in range(start.shape[0] - 1):
        first, past = start[f], start[f + 1]
        for e in range(first, past):
            who = truth_id[truth[e]]
            held = matched_at[who] == frame[first] - 1 and partner[who] == track_id[track[e]]
            if held and match[truth[e]] < 0 and not taken[track[e]]:
                match[truth[e]], taken[track[e]] = track[e], True
        low_truth, low_track = truth[first:past].min(), track[first:past].min()
        rows, columns = truth[first:past] - low_truth, track[first:past] - low_track
        use = np.empty(past - first, np.bool_)
        for e in range(past - first):
            use[e] = match[truth[first + e]] < 0 and not taken[track[first + e]]
        found = np.full(rows.max() + 1, -1, np.int64)
        # One pair more always outweighs whatever overlap the others lose by it.
        most = np.float64(past - first)
        cost = NOBODY * (1.0 - overlap[first:past]) / (most + 1.0)
        match_pairs(rows, columns, cost, use, rows.max() + 1, columns.max() + 1, found)
        for k in range(found.shape[0]):
            if found[k] >= 0:
                match[low_truth + k] = low_track + found[k]
        for e in range(first, past):
            if match[truth[e]] == track[e]:
                partner[truth_id[truth[e]]] = track_id[track[e]]
                matched_at[truth_id[truth[e]]] = frame[first]


def _changes(pairs: Pairs, match: NDArray[np.int64], order: NDArray[np.int64]) -> tuple[NDArray[np.int64], int]:
    """Truth rows where the partner differs from the last one it had, and how often tracking broke and resumed."""
    rows = order[match[order] >= 0]
    same = pairs.truth_id[rows[1:]] == pairs.truth_id[rows[:-1]]
    partner = pairs.track_id[match[rows]]
    switched = rows[1:][same & (partner[1:] != partner[:-1])]
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    broken = same & (np.diff(place[rows]) > 1)
    return switched, int(broken.sum())


def _overlap_of(pairs: Pairs, match: NDArray[np.int64]) -> NDArray[np.float64]:
    return pairs.overlap[match[pairs.truth] == pairs.track]
