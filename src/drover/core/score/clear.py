"""CLEAR scores: MOTA, MOTP, switches, fragmentations, mostly tracked and lost.

Bernardin and Stiefelhagen 2008, "Evaluating Multiple Object Tracking Performance: The CLEAR MOT Metrics",
section 2; mostly tracked (80 %) and mostly lost (20 %) after Wu and Nevatia 2006.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.score.pairs import Pairs, assign_pairs

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
    """Track row found for each truth row, -1 for none; partners are kept from frame to frame."""
    match = np.full(len(pairs.truth_id), -1, np.int64)
    partner = np.full(pairs.truth_count, -1, np.int64)
    if len(pairs.truth) == 0:
        return match
    for group in np.split(np.arange(len(pairs.truth)), np.flatnonzero(np.diff(pairs.frame)) + 1):
        truth, track = pairs.truth[group], pairs.track[group]
        kept = partner[pairs.truth_id[truth]] == pairs.track_id[track]
        free = ~np.isin(truth, truth[kept]) & ~np.isin(track, track[kept])
        match[truth[kept]] = track[kept]
        rest = group[free]
        if len(rest):
            part = replace(
                pairs,
                truth=pairs.truth[rest] - pairs.truth[rest].min(),
                track=pairs.track[rest] - pairs.track[rest].min(),
                frame=pairs.frame[rest],
                overlap=pairs.overlap[rest],
            )
            chosen = rest[assign_pairs(part, 1.0 + pairs.overlap[rest])]
            match[pairs.truth[chosen]] = pairs.track[chosen]
        found = np.unique(truth)
        found = found[match[found] >= 0]
        partner[pairs.truth_id[found]] = pairs.track_id[match[found]]
    return match


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
