"""What the session's workers hand over, piece by piece."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from drover.app.held import Held
from drover.core.count.paths import TrackPaths
from drover.core.detect.box_choice import take_rows
from drover.core.detect.result import DetectResult
from drover.core.pipeline import score_boxes, score_result
from drover.core.project.contents import ProjectContents
from drover.core.recipe import TrackSettings
from drover.core.score.detection import DetectionScore
from drover.core.score.scorer import Score
from drover.core.types import ClipInfo, Crossings, Tracks, Truth, only_frames, rows_to_frames

__all__ = ["Detected", "Linked", "Opened", "Scored", "find_clip", "scored_again"]


@dataclass(frozen=True)
class Opened:
    """A clip, its recipe as text and its truth; the project it came from, and what is missing."""

    clip: ClipInfo
    recipe_text: str
    truth: Truth | None
    true_crossings: Crossings | None
    contents: ProjectContents | None = None
    missing: str = ""


@dataclass(frozen=True)
class Linked:
    """Tracks with what they were made from, and lines on what was odd."""

    tracks: Tracks
    paths: dict[str, TrackPaths]
    seconds: float
    settings: TrackSettings
    detect: DetectResult
    notes: tuple[str, ...]


@dataclass(frozen=True)
class Scored:
    """Scores of the current result, and of the held one where it had been scored over another span."""

    stamp: object
    score: Score
    seconds: float
    boxes: DetectionScore | None
    other: Held | None
    beside: Held | None
    span: tuple[int, int] | None


@dataclass(frozen=True)
class Detected:
    """A pass over the clip (None where none is needed) and the detections that are tracked."""

    motion: DetectResult | None
    result: DetectResult


def scored_again(held: Held, truth: Truth, crossings: Crossings | None, span: tuple[int, int] | None) -> Held:
    """A held result scored over a span, so that both are judged on the same frames."""
    if held.tracks is None:
        return held
    counted = held.crossings
    if counted is not None and span is not None:
        counted = counted.take((counted.frame >= span[0]) & (counted.frame < span[1]))
    tracks = held.tracks if span is None else only_frames(held.tracks, span)
    found = held.detect.detections
    if span is not None:
        frames = rows_to_frames(found.frame_start)
        found = take_rows(found, (frames >= span[0]) & (frames < span[1]))
    settings = held.recipe.score
    score = score_result(tracks, truth, settings, crossings=counted, true_crossings=crossings, span=span)
    return replace(held, score=score, detection_score=score_boxes(found, truth, settings, span=span))


def find_clip(path: Path, project: Path) -> Path | None:
    """The clip where it was, or beside the project file."""
    for place in (path, project.parent / path.name):
        if place.is_file():
            return place
    return None
