"""A result held beside the current one, with the recipe it was made by."""

from __future__ import annotations

from dataclasses import dataclass

from drover.core.detect.result import DetectResult
from drover.core.recipe import DetectSettings, Recipe
from drover.core.score.detection import DetectionScore
from drover.core.score.scorer import Score
from drover.core.types import Crossings, Tracks

__all__ = ["Held"]


@dataclass(frozen=True)
class Held:
    """Everything the field and the score page show of a result; the names are those of the session."""

    recipe: Recipe
    detect: DetectResult
    detect_settings: DetectSettings
    tracks: Tracks | None
    crossings: Crossings | None
    score: Score | None
    detection_score: DetectionScore | None
