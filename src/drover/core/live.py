"""The graph frame by frame, for footage that has no end: the same stages, each by its step.

What needs the whole clip (joining, smoothing, edits, scores) is left out here, in the one place where live differs;
what a clip's survey says before its first picture is said here after some seconds, and from then on anew.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.canvas import boxes_along, runs_along
from drover.core.count.live import LiveCount, LiveEvents, LiveRows
from drover.core.detect.detector import DetectedFrame
from drover.core.features.models import inverse, mapped_corners
from drover.core.footage_types import Frame
from drover.core.graph import STAGES
from drover.core.live_detect import LiveDetect
from drover.core.live_steady import LiveSteady
from drover.core.recipe import DetectSettings, Recipe
from drover.core.track.frame_boxes import FrameBoxes
from drover.core.track.live_objects import LiveObjects
from drover.core.track.tracker import Tracker

__all__ = ["LIVE_STAGES", "LiveRun", "LiveStep"]

LIVE_STAGES = tuple(name for name, stage in STAGES.items() if stage.live)
FARTHEST = 16_000  # px of the scene either way within which blobs are kept
SLACK = 0.5  # s beyond the longest absence after which an identity cannot come back


@dataclass(frozen=True)
class LiveStep:
    """What one frame brought: the boxes found, who is in it, and what came to hold of crossings and zones.

    ``rows`` are those to be shown; ``all_rows`` also those that may turn out to be no object.

    ``to_scene`` (3, 3) is where the picture lies in the scene, where the camera is followed.
    """

    found: DetectedFrame
    rows: LiveRows
    all_rows: LiveRows
    events: LiveEvents
    to_scene: NDArray[np.float64] | None = None


class LiveRun:
    """Detect, Track and Count, stepped together.

    Parameters
    ----------
    size : (width, height) px
    rate : float, frames/s
        Nominal rate of the source.
    """

    def __init__(self, recipe: Recipe, size: tuple[int, int], rate: float) -> None:
        steady = recipe.camera.mode in ("steady", "free")
        self._steady = LiveSteady(recipe.detect, size, recipe.camera) if steady else None
        self._detector = self._steady or LiveDetect(recipe.detect, size)
        self._tracker = Tracker(recipe.track, size, rate)
        life = self._tracker.settings.life
        gone_after = max(life.longest_gap, life.return_within) + SLACK
        self._objects = LiveObjects(recipe.track.after, gone_after)
        self._count = LiveCount(recipe.count, size, forget_after=gone_after)

    def step(self, frame: Frame) -> LiveStep:
        """Take in the next frame."""
        found = self._detector.step(frame)
        start = np.concatenate([[0], np.cumsum(found.run_count)]).astype(np.int64)
        boxes = FrameBoxes(
            found.box, found.confidence, np.zeros(len(found.box), np.int16), start, found.runs,
            look=found.look.astype(np.float32),
        )  # fmt: skip
        if self._steady is not None:
            boxes = _in_scene(boxes, found.run_count, self._steady.to_scene, self._steady.size)
        self._tracker.step(frame.time, boxes.frozen())
        now = self._tracker.now()
        judged = self._objects.step(frame.time, now)
        rows = LiveRows(now.identity, now.box, now.state, now.class_id, is_object=judged.counted)
        if self._steady is not None:
            rows = replace(rows, box=boxes_along(rows.box, inverse(self._steady.to_scene)), scene_box=rows.box)
        self._tracker.forget()
        there = None if self._steady is None else self._steady.to_scene
        return LiveStep(found, rows.of(judged.shown), rows, self._count.step(frame.time, rows), there)

    def finish(self) -> LiveEvents:
        """What only the end of the source settles."""
        self._detector.close()
        return self._count.finish()

    @property
    def identities(self) -> int:
        """How many objects there were so far: what flickers, or never left its place, is none."""
        return self._objects.total

    @property
    def taken(self) -> DetectSettings:
        """The settings of Detect by now, with what is on auto worked out."""
        return self._detector.settings

    @property
    def said(self) -> tuple[str, ...]:
        """What the newest survey says in words."""
        return self._detector.said


def _in_scene(
    boxes: FrameBoxes, run_count: NDArray[np.int64], to_scene: NDArray[np.float64], size: tuple[int, int]
) -> FrameBoxes:
    """The boxes of a frame where they lie in the scene, and what of it the picture shows."""
    runs, counts = runs_along(boxes.runs, run_count, inverse(to_scene), (-FARTHEST, -FARTHEST), (FARTHEST, FARTHEST))
    corners = mapped_corners(to_scene, size)
    left, top = corners.min(axis=0).tolist()
    right, bottom = corners.max(axis=0).tolist()
    return replace(
        boxes, box=boxes_along(boxes.box, to_scene), runs=runs,
        run_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), view=(left, top, right, bottom),
    )  # fmt: skip
