"""The Detect stage: one class, one ``step`` a frame; a whole clip is the fold of steps."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.background import RunningAverage, mark_moving
from drover.core.detect.bitmask import Words, close_mask, open_mask, unpack, words_for
from drover.core.detect.blobs import Blobs, find_blobs
from drover.core.detect.growing import GrowingColumn
from drover.core.recipe import DetectSettings
from drover.core.types import Detections, Frame

__all__ = ["VERSION", "DetectedFrame", "DetectionRows", "Detector", "DetectorState"]

VERSION = 1
HISTOGRAM_STRIDE = 4  # px, both ways: every 16th pixel goes into the difference histogram

DetectorState = tuple[NDArray[np.uint8], int, float, float]


@dataclass(frozen=True)
class DetectedFrame:
    """What one step found."""

    index: int
    box: NDArray[np.float32]
    confidence: NDArray[np.float32]
    area: NDArray[np.float32]
    run_count: NDArray[np.int64]
    runs: NDArray[np.int16]
    difference_counts: NDArray[np.int64]


class Detector:
    """Finds moving things, frame after frame.

    Parameters
    ----------
    settings : DetectSettings
    size : (width, height) px
    """

    def __init__(self, settings: DetectSettings, size: tuple[int, int]) -> None:
        self.settings = settings
        self.size = size
        width, height = size
        self.model = RunningAverage(settings.background, (height, width))
        self._raw = words_for(height, width)
        self._clean: Words = self._raw

    def step(self, frame: Frame) -> DetectedFrame:
        """Take in the next frame and say what moves in it; nothing does while the background is learnt."""
        settings, model = self.settings, self.model
        ready = model.step(frame.grey, frame.time)
        counts = np.bincount(model.difference[::HISTOGRAM_STRIDE, ::HISTOGRAM_STRIDE].ravel(), minlength=256)
        if not ready:
            self._raw[:] = 0
            self._clean = self._raw
            return self._found(frame.index, None, np.zeros(256, np.int64))
        mark_moving(model.difference, int(settings.background.threshold), self._raw)
        width = self.size[0]
        opened = open_mask(self._raw, settings.cleanup.opening, width)
        self._clean = close_mask(opened, settings.cleanup.closing, width)
        return self._found(frame.index, find_blobs(self._clean, model.difference, settings.size), counts)

    def _found(self, index: int, blobs: Blobs | None, counts: NDArray[np.int64]) -> DetectedFrame:
        if blobs is None:
            empty = np.zeros(0, np.float32)
            return DetectedFrame(
                index,
                np.zeros((0, 4), np.float32),
                empty,
                empty,
                np.zeros(0, np.int64),
                np.zeros((0, 3), np.int16),
                counts,
            )
        threshold = np.float32(self.settings.background.threshold)
        confidence = (blobs.contrast / (blobs.contrast + threshold)).astype(np.float32)
        return DetectedFrame(index, blobs.box, confidence, blobs.area, blobs.run_count, blobs.runs, counts)

    # --- pictures for the screen ----------------------------------------------------------------------------

    def background(self) -> NDArray[np.uint8]:
        """The empty scene as now believed, (height, width) uint8."""
        return np.clip(np.rint(self.model.background), 0, 255).astype(np.uint8)

    def difference(self) -> NDArray[np.uint8]:
        """Absolute difference of the last frame from the background, (height, width) uint8 grey levels."""
        return self.model.difference.copy()

    def raw_mask(self) -> NDArray[np.uint8]:
        """Pixels over the threshold, (height, width) uint8 of 0 and 1."""
        return unpack(self._raw, self.size[0])

    def clean_mask(self) -> NDArray[np.uint8]:
        """The mask after opening and closing, (height, width) uint8 of 0 and 1."""
        return unpack(self._clean, self.size[0])

    def state(self) -> DetectorState:
        """State to go back to with :meth:`restore`."""
        return self.model.state()

    def restore(self, state: DetectorState) -> None:
        """Go back to an earlier state."""
        self.model.restore(state)


class DetectionRows:
    """Collects detected frames into one :class:`Detections`, flat in memory for long clips."""

    def __init__(self, size: tuple[int, int]) -> None:
        self.size = size
        self._start = GrowingColumn(np.int64)
        self._start.append(np.zeros(1, np.int64))
        self._box = GrowingColumn(np.float32, 4)
        self._confidence = GrowingColumn(np.float32)
        self._area = GrowingColumn(np.float32)
        self._run_start = GrowingColumn(np.int64)
        self._run_start.append(np.zeros(1, np.int64))
        self._runs = GrowingColumn(np.int16, 3)
        self.histogram = np.zeros(256, np.int64)

    @property
    def frame_count(self) -> int:
        """Frames covered so far."""
        return len(self._start) - 1

    def add(self, found: DetectedFrame) -> None:
        """Add one frame; frames left out before it (damaged ones) become empty."""
        self.fill_to(found.index)
        self._box.append(found.box)
        self._confidence.append(found.confidence)
        self._area.append(found.area)
        self._run_start.append(len(self._runs) + np.cumsum(found.run_count))
        self._runs.append(found.runs)
        self._start.append(np.array([len(self._box)], np.int64))
        self.histogram += found.difference_counts

    def fill_to(self, frame_count: int) -> None:
        """Cover frames up to ``frame_count`` with nothing found."""
        missing = frame_count - self.frame_count
        if missing > 0:
            self._start.append(np.full(missing, len(self._box), np.int64))

    def snapshot(self) -> Detections:
        """All rows so far; later additions do not change it."""
        return Detections(
            frame_start=self._start.view(),  # type: ignore[arg-type]
            box=self._box.view(),  # type: ignore[arg-type]
            confidence=self._confidence.view(),  # type: ignore[arg-type]
            class_id=np.zeros(len(self._box), np.int16),
            area=self._area.view(),  # type: ignore[arg-type]
            run_start=self._run_start.view(),  # type: ignore[arg-type]
            runs=self._runs.view(),  # type: ignore[arg-type]
            size=self.size,
        )
