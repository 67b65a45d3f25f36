"""What a project holds, in memory."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from drover.core.count.audit import Audit
from drover.core.pipeline import Counted
from drover.core.types import ClipInfo, Crossings, Detections, Tracks, Truth

__all__ = ["KeptRun", "ProjectContents"]


@dataclass(frozen=True)
class KeptRun:
    """A result with the fingerprints of its stages, so that it is known whether it is still up to date."""

    recipe_text: str
    detect_key: str
    track_key: str
    count_key: str
    detections: Detections
    tracks: Tracks
    crossings: Crossings
    histogram: NDArray[np.int64]
    seconds: float = 0.0
    counted: Counted | None = None


@dataclass(frozen=True)
class ProjectContents:
    """A whole project: the clip, its recipe, truth, imported boxes, the kept run and where the user was."""

    clip: ClipInfo
    recipe_text: str
    run: KeptRun | None = None
    truth: Truth | None = None
    true_crossings: Crossings | None = None
    view: dict[str, str] = field(default_factory=dict)
    imported: Detections | None = None
    audit: Audit = field(default_factory=Audit)
