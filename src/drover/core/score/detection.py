"""Detection held against truth: precision, recall, F1, average precision, and every miss and false alarm.

A detection is right when it overlaps a true box of its frame enough, one to one (largest total overlap).
Average precision is the area under the precision curve over recall as confidence falls, with precision made
monotone from the right (Everingham et al. 2010, section 4.2, over all recall levels). For it the surest detection
chooses first: each goes to the true box of its frame that it overlaps most, and is wrong when that one is taken.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.geometry import pair_overlap
from drover.core.score.pairs import assign_pairs, find_pairs
from drover.core.types import Detections, Truth, rows_to_frames

__all__ = ["DetectionScore", "score_detections"]


@dataclass(frozen=True)
class DetectionScore:
    """Counts over the clip, and where the errors are.

    ``misses`` (n, 5) float64: frame and box x1, y1, x2, y2 (px) of each true box not found; ``false_alarms``
    (n, 5) likewise of each detection with nothing there.
    """

    found: int
    misses: NDArray[np.float64]
    false_alarms: NDArray[np.float64]
    average_precision: float

    @property
    def errors(self) -> int:
        """Misses and false alarms together."""
        return len(self.misses) + len(self.false_alarms)

    @property
    def precision(self) -> float:
        """Share of detections that are right."""
        total = self.found + len(self.false_alarms)
        return self.found / total if total else 0.0

    @property
    def recall(self) -> float:
        """Share of true boxes that were found."""
        total = self.found + len(self.misses)
        return self.found / total if total else 0.0

    def errors_by_frame(self) -> list[tuple[int, int, int]]:
        """Frames with errors in order: frame, misses, false alarms."""
        kinds = [rows[:, 0].astype(np.int64) for rows in (self.misses, self.false_alarms)]
        frames = np.unique(np.concatenate(kinds))
        missed, wrong = (np.bincount(np.searchsorted(frames, kind), minlength=len(frames)) for kind in kinds)
        return list(zip(frames.tolist(), missed.tolist(), wrong.tolist(), strict=True))

    @property
    def f1(self) -> float:
        """Harmonic mean of precision and recall."""
        total = 2 * self.found + self.errors
        return 2 * self.found / total if total else 0.0


@dataclass(frozen=True)
class _Labelled:
    frame_start: NDArray[np.int64]
    identity: NDArray[np.int32]
    box: NDArray[np.float32]


def score_detections(detections: Detections, truth: Truth, least_overlap: float = 0.5) -> DetectionScore:
    """Score detections against truth; ``least_overlap`` is a fraction."""
    rows = np.arange(len(detections), dtype=np.int32)
    labelled = _Labelled(detections.frame_start, rows, detections.box)
    pairs = find_pairs(truth, labelled, least_overlap=least_overlap)
    close = pairs.at_least(least_overlap)
    chosen = assign_pairs(close, 1.0 + close.overlap)
    true_found, kept_found = np.zeros(len(pairs.truth_id), np.bool_), np.zeros(len(pairs.track_id), np.bool_)
    true_found[close.truth[chosen]] = True
    kept_found[close.track[chosen]] = True
    frames = rows_to_frames(detections.frame_start)
    wrong = rows[~pairs.excused][~kept_found]
    true_box = truth.box[truth.consider]
    return DetectionScore(
        found=len(chosen),
        misses=_places(pairs.truth_frame[~true_found], true_box[~true_found]),
        false_alarms=_places(frames[wrong], detections.box[wrong]),
        average_precision=_average_precision(detections, truth, least_overlap),
    )


def _places(frame: NDArray[np.int64], box: NDArray[np.float32]) -> NDArray[np.float64]:
    return np.column_stack([frame.astype(np.float64), box.astype(np.float64)])


def _average_precision(detections: Detections, truth: Truth, least_overlap: float) -> float:
    true_boxes = int(truth.consider.sum())
    if true_boxes == 0 or len(detections) == 0:
        return 0.0
    order = np.argsort(-detections.confidence, kind="stable")
    nearest, overlap = best_partners(truth.frame_start, truth.box, detections.frame_start, detections.box)
    hit = nearest[order]
    reaches = overlap[order] >= least_overlap - 1e-9
    # What best covers a box not to be considered is neither right nor wrong.
    judged = ~(reaches & ~truth.consider[hit]) if len(truth) else np.ones(len(order), np.bool_)
    hit, reaches = hit[judged], reaches[judged]
    right = np.zeros(len(hit), np.bool_)
    claims = np.flatnonzero(reaches)
    right[claims[np.unique(hit[claims], return_index=True)[1]]] = True
    hits = np.cumsum(right)
    precision = hits / np.arange(1, len(hits) + 1)
    recall = hits / true_boxes
    best = np.maximum.accumulate(precision[::-1])[::-1]
    return float(np.sum(np.diff(np.concatenate([[0.0], recall])) * best))


@njit(cache=True, nogil=True)
def best_partners(
    true_start: NDArray[np.int64], true_box: NDArray[np.float32], start: NDArray[np.int64], box: NDArray[np.float32]
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:  # pragma: no cover
    """For each detection the true row of its frame that it overlaps most, 0 where none, and by how much (fraction)."""
    nearest, most = np.zeros(box.shape[0], np.int64), np.zeros(box.shape[0])
    for f in range(min(true_start.shape[0], start.shape[0]) - 1):
        for d in range(start[f], start[f + 1]):
            for t in range(true_start[f], true_start[f + 1]):
                shared = pair_overlap(true_box, t, box, d)
                if shared > most[d]:
                    most[d], nearest[d] = shared, t
    return nearest, most
