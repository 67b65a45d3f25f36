"""Results scored over the frames that they cover, or over a span of them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from drover.core.recipe import ScoreSettings
from drover.core.score.detection import DetectionScore, score_detections
from drover.core.score.scorer import Score, score_tracks
from drover.core.types import Crossings, Detections, Tracks, Truth

__all__ = ["score_boxes", "score_result"]


def score_result(
    tracks: Tracks,
    truth: Truth,
    settings: ScoreSettings,
    *,
    crossings: Crossings | None = None,
    true_crossings: Crossings | None = None,
    span: tuple[int, int] | None = None,
) -> Score:
    """Score of a result, over the frames that it covers, or over a span of them (first, one past the last)."""
    if span is not None:
        truth = _span_of(truth, span)
        if true_crossings is not None:
            inside = (true_crossings.frame >= span[0]) & (true_crossings.frame < span[1])
            true_crossings = true_crossings.take(inside)
    if tracks.frame_count < truth.frame_count:
        truth = _first_frames(truth, tracks.frame_count)
        if true_crossings is not None:
            true_crossings = true_crossings.take(true_crossings.frame < tracks.frame_count)
    return score_tracks(tracks, truth, settings, crossings=crossings, true_crossings=true_crossings)


def score_boxes(
    detections: Detections, truth: Truth, settings: ScoreSettings, *, span: tuple[int, int] | None = None
) -> DetectionScore:
    """Score of the detections alone, over the frames that they cover, or over a span of them."""
    if span is not None:
        truth = _span_of(truth, span)
    if detections.frame_count < truth.frame_count:
        truth = _first_frames(truth, detections.frame_count)
    return score_detections(detections, truth, settings.least_overlap)


_TRUE_COLUMNS = ("identity", "box", "consider", "class_id", "visibility")


def _first_frames(truth: Truth, frames: int) -> Truth:
    rows = int(truth.frame_start[frames])
    columns = {name: getattr(truth, name)[:rows] for name in _TRUE_COLUMNS}
    return replace(truth, frame_start=truth.frame_start[: frames + 1], **columns)


def _span_of(truth: Truth, span: tuple[int, int]) -> Truth:
    """Truth with nothing in it outside a span of frames."""
    first, past = (int(truth.frame_start[min(max(edge, 0), truth.frame_count)]) for edge in span)
    columns = {name: getattr(truth, name)[first:past] for name in _TRUE_COLUMNS}
    return replace(truth, frame_start=np.clip(truth.frame_start - first, 0, past - first), **columns)
