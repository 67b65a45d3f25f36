"""The detections of one frame as the tracker takes them in."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.types import LOOK, Detections

__all__ = ["NO_LOOKS", "NO_SPEEDS", "FrameBoxes"]

NO_LOOKS = np.zeros((0, LOOK), np.float32)
NO_SPEEDS = np.zeros((0, 2))


@dataclass(frozen=True)
class FrameBoxes:
    """The detections of one frame.

    ``box`` (n, 4) float32 px, ``confidence`` (n,) float32, ``class_id`` (n,) int16; ``run_start`` (n + 1,) int64 and
    ``runs`` the blobs, empty where there are none; ``first_row`` is the row of the first of them in the whole table;
    ``look`` (n, 32) float32 is how each looks, without rows where nobody looked; ``velocity`` (n, 2) px per 1/25 s is a
    first guess of how each moves, NaN where there is none, without rows where nobody measured; ``view`` x1, y1, x2, y2
    is what the picture shows, where it is not all from nought to its size.
    """

    box: NDArray[np.float32]
    confidence: NDArray[np.float32]
    class_id: NDArray[np.int16]
    run_start: NDArray[np.int64]
    runs: NDArray[np.int16]
    first_row: int = 0
    look: NDArray[np.float32] = field(default_factory=lambda: NO_LOOKS)
    velocity: NDArray[np.float64] = field(default_factory=lambda: NO_SPEEDS)
    view: tuple[float, float, float, float] | None = None

    @staticmethod
    def of(detections: Detections, frame: int, velocity: NDArray[np.float64] | None = None) -> FrameBoxes:
        """The boxes of one frame of a whole table, through views."""
        part, shown = detections.rows_of(frame), None
        if detections.view is not None:
            left, top, right, bottom = (float(side) for side in detections.view[min(frame, len(detections.view) - 1)])
            shown = left, top, right, bottom
        return FrameBoxes(
            detections.box[part], detections.confidence[part], detections.class_id[part],
            detections.run_start[part.start : part.stop + 1], detections.runs, part.start,
            detections.look[part].astype(np.float32) if len(detections.look) else NO_LOOKS,
            NO_SPEEDS if velocity is None else velocity[part], shown,
        )  # fmt: skip

    def frozen(self) -> FrameBoxes:
        """The same boxes through views that cannot be written: the kind of array the kernels are compiled for."""
        names = "box", "confidence", "class_id", "run_start", "runs"
        views = {name: getattr(self, name).view() for name in names}
        for view in views.values():
            view.flags.writeable = False
        return replace(self, **views)
