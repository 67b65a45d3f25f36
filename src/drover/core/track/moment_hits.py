"""Moments held against the truth: how well they point at true errors."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.geometry import overlap_matrix
from drover.core.track.moments import Moment
from drover.core.types import Tracks, Truth

__all__ = ["MomentHits", "moments_against_truth"]

Float = NDArray[np.float64]


@dataclass(frozen=True)
class MomentHits:
    """How well moments point at true errors: errors and how many a moment is near; the first moments and their hits."""

    errors: int
    errors_found: int
    first: int
    first_hits: int


def moments_against_truth(
    moments: Sequence[Moment], tracks: Tracks, truth: Truth, times: Float, *, near: float = 1.0, first: int = 20
) -> MomentHits:
    """Hold moments against the truth: true identity errors and true hard spots within ``near`` s.

    An error is a frame in which a true object goes on under another number. A hard spot is a frame in which two true
    boxes overlap by a fifth or one is not to be considered (hidden).
    """
    errors = _identity_errors(tracks, truth)
    hard = _hard_frames(truth)
    spans = np.array([[times[m.first] - near, times[m.last] + near] for m in moments]).reshape(-1, 2)
    at = times[errors] if len(errors) else np.zeros(0)
    found = int(sum(bool(((spans[:, 0] <= t) & (t <= spans[:, 1])).any()) for t in at))
    spots = np.concatenate([at, times[hard]])
    top = spans[:first]
    hits = int(sum(bool(((spots >= a) & (spots <= b)).any()) for a, b in top))
    return MomentHits(len(errors), found, len(top), hits)


def _identity_errors(tracks: Tracks, truth: Truth) -> NDArray[np.int64]:
    """Frames in which a true object, found at overlap 0.5, has another number than when it was last found."""
    held: dict[int, int] = {}
    out = []
    for frame in range(min(tracks.frame_count, truth.frame_count)):
        true, mine = truth.rows_of(frame), tracks.rows_of(frame)
        overlap = overlap_matrix(truth.box[true], tracks.box[mine])
        for place in range(true.stop - true.start):
            if overlap.shape[1] == 0 or not truth.consider[true.start + place]:
                continue
            best = int(np.argmax(overlap[place]))
            if overlap[place, best] < 0.5 or int(np.argmax(overlap[:, best])) != place:
                continue
            who, number = int(truth.identity[true.start + place]), int(tracks.identity[mine.start + best])
            if held.get(who, number) != number:
                out.append(frame)
            held[who] = number
    return np.array(out, np.int64)


def _hard_frames(truth: Truth) -> NDArray[np.int64]:
    out = []
    for frame in range(truth.frame_count):
        rows = truth.rows_of(frame)
        overlap = overlap_matrix(truth.box[rows], truth.box[rows])
        np.fill_diagonal(overlap, 0.0)
        if (overlap > 0.2).any() or not truth.consider[rows].all():
            out.append(frame)
    return np.array(out, np.int64)
