"""Frame after frame into one table of detections."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.detector import DetectedFrame
from drover.core.detect.growing import GrowingColumn
from drover.core.types import LOOK, Detections

__all__ = ["DetectionRows"]

MOST_REJECTED = 200_000


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
        self._rejected = GrowingColumn(np.float32, 5)
        self._look = GrowingColumn(np.uint8, LOOK)
        self.histogram = np.zeros(256, np.int64)
        self.jumps: list[tuple[int, float]] = []
        self.cuts: list[int] = []

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
        self._look.append(found.look)
        self._start.append(np.array([len(self._box)], np.int64))
        if len(found.rejected) and len(self._rejected) < MOST_REJECTED:
            frame = np.full((len(found.rejected), 1), found.index, np.float32)
            self._rejected.append(np.hstack([frame, found.rejected]))
        self.histogram += found.difference_counts
        if found.jump is not None:
            self.jumps.append((found.index, found.jump))
        if found.cut:
            self.cuts.append(found.index)

    def fill_to(self, frame_count: int) -> None:
        """Cover frames up to ``frame_count`` with nothing found."""
        missing = frame_count - self.frame_count
        if missing > 0:
            self._start.append(np.full(missing, len(self._box), np.int64))

    @property
    def rejected(self) -> NDArray[np.float32]:
        """(n, 5) float32: frame and box of the blobs that the size rules dropped, the first 200 000 of them."""
        return self._rejected.view()  # type: ignore[return-value]

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
            look=self._look.view(),  # type: ignore[arg-type]
        )
