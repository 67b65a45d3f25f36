"""A result held beside the current one, with the recipe it was made by."""

from __future__ import annotations

from dataclasses import dataclass, replace

from drover.core.detect.box_choice import take_rows
from drover.core.detect.result import DetectResult
from drover.core.document import KeptRun
from drover.core.graph import Subject
from drover.core.recipe import DetectSettings, Recipe
from drover.core.score.detection import DetectionScore
from drover.core.score.scorer import Score
from drover.core.score.spans import score_boxes, score_result
from drover.core.track_rows import only_frames
from drover.core.types import Crossings, Tracks, rows_to_frames

__all__ = ["Held", "held_of", "scored"]


@dataclass(frozen=True)
class Held:
    """Everything the field and the score page show of a result; the names are those of the session."""

    run: KeptRun
    recipe: Recipe
    detect: DetectResult
    detect_settings: DetectSettings
    tracks: Tracks | None
    crossings: Crossings | None
    score: Score | None = None
    detection_score: DetectionScore | None = None


def held_of(run: KeptRun) -> Held:
    """A kept run as it is shown; not yet scored."""
    return Held(run, run.recipe, run.detect, run.recipe.detect, run.tracks, run.crossings)


def scored(held: Held, subject: Subject) -> Held:
    """The same with its scores, over the subject's span where there is one, so that both are judged on the same."""
    truth, span = subject.truth, subject.span
    if truth is None or held.tracks is None:
        return replace(held, score=None, detection_score=None)
    counted, tracks, found = held.crossings, held.tracks, held.detect.detections
    if span is not None:
        frames = rows_to_frames(found.frame_start)
        found = take_rows(found, (frames >= span[0]) & (frames < span[1]))
        tracks = only_frames(tracks, span)
        if counted is not None:
            counted = counted.take((counted.frame >= span[0]) & (counted.frame < span[1]))
    settings = held.recipe.score
    score = score_result(tracks, truth, settings, crossings=counted, true_crossings=subject.true_crossings, span=span)
    return replace(held, score=score, detection_score=score_boxes(found, truth, settings, span=span))
