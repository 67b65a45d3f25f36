"""Track over a whole clip: the fold of the tracker's step, and what is done once the pass is over."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import Cancelled
from drover.core.recipe import TrackSettings
from drover.core.track.finishing import finish
from drover.core.track.tracker import FrameBoxes, Tracker
from drover.core.types import Detections, Tracks

__all__ = ["fold_tracks", "link_detections"]


def fold_tracks(
    detections: Detections,
    times: NDArray[np.float64],
    rate: float,
    settings: TrackSettings,
    *,
    cancelled: Callable[[], bool] = lambda: False,
) -> Tracks:
    """Tracks of all frames covered by the detections, as a live camera would have them: nothing done afterwards.

    Raises
    ------
    Cancelled
        When told to stop on the way.
    """
    stage, detections = Tracker(settings, detections.size, rate), detections.frozen()
    for frame, now in enumerate(times[: detections.frame_count].tolist()):
        if frame % 64 == 0 and cancelled():
            raise Cancelled("linking was stopped")
        stage.step(now, FrameBoxes.of(detections, frame))
    return stage.tracks(detections.class_names)


def link_detections(
    detections: Detections,
    times: NDArray[np.float64],
    rate: float,
    settings: TrackSettings,
    *,
    cancelled: Callable[[], bool] = lambda: False,
) -> Tracks:
    """Tracks of a whole clip, finished as the settings say.

    Raises
    ------
    Cancelled
        When told to stop on the way.
    """
    tracks = fold_tracks(detections, times, rate, settings, cancelled=cancelled)
    return finish(tracks, times, settings, detections.frozen())
