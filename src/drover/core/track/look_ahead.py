"""What a frame's detections are up against, for whoever wants to see it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.track.frame_boxes import FrameBoxes
from drover.core.track.living import Living

__all__ = ["LookAhead"]

Float = NDArray[np.float64]


@dataclass(frozen=True)
class LookAhead:
    """One frame's forecasts, candidate pairs and match; see :meth:`Tracker.look_ahead`."""

    living: Living
    count: int
    found: FrameBoxes
    unseen: Float
    forecast: NDArray[np.float32]
    track: NDArray[np.int64]
    detection: NDArray[np.int64]
    cost: Float
    match: NDArray[np.int64]
    margin: Float
