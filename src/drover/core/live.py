"""The graph frame by frame, for footage that has no end: the same stages, each by its step.

What needs the whole clip (joining, smoothing, edits, scores) is left out here, in the one place where live differs.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from drover.core.count.live import LiveCount, LiveEvents, LiveRows
from drover.core.detect.detector import DetectedFrame, Detector
from drover.core.footage_types import Frame
from drover.core.graph import STAGES
from drover.core.recipe import Recipe
from drover.core.track.frame_boxes import FrameBoxes
from drover.core.track.tracker import Tracker

__all__ = ["LIVE_STAGES", "LiveRun", "LiveStep"]

LIVE_STAGES = tuple(name for name, stage in STAGES.items() if stage.live)
SLACK = 0.5  # s beyond the longest absence after which an identity cannot come back


@dataclass(frozen=True)
class LiveStep:
    """What one frame brought: the boxes found, the identities in it, and what came to hold of crossings and zones."""

    found: DetectedFrame
    rows: LiveRows
    events: LiveEvents


class LiveRun:
    """Detect, Track and Count, stepped together.

    Parameters
    ----------
    size : (width, height) px
    rate : float, frames/s
        Nominal rate of the source.
    """

    def __init__(self, recipe: Recipe, size: tuple[int, int], rate: float) -> None:
        life = recipe.track.life
        self._detector = Detector(recipe.detect, size)
        self._tracker = Tracker(recipe.track, size, rate)
        self._count = LiveCount(recipe.count, size, forget_after=max(life.longest_gap, life.return_within) + SLACK)

    def step(self, frame: Frame) -> LiveStep:
        """Take in the next frame."""
        found = self._detector.step(frame)
        start = np.concatenate([[0], np.cumsum(found.run_count)]).astype(np.int64)
        boxes = FrameBoxes(
            found.box, found.confidence, np.zeros(len(found.box), np.int16), start, found.runs,
            look=found.look.astype(np.float32),
        )  # fmt: skip
        self._tracker.step(frame.time, boxes.frozen())
        rows = LiveRows(*self._tracker.now())
        self._tracker.forget()
        return LiveStep(found, rows, self._count.step(frame.time, rows))

    def finish(self) -> LiveEvents:
        """What only the end of the source settles."""
        return self._count.finish()
