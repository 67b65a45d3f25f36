"""Track over a whole clip: the fold of the tracker's step, and what is done once the pass is over."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import Cancelled
from drover.core.recipe import TrackSettings
from drover.core.track.finishing import finish
from drover.core.track.frame_boxes import FrameBoxes
from drover.core.track.measured_pace import resolve_track
from drover.core.track.speeds import measure_speeds
from drover.core.track.tracker import Tracker
from drover.core.types import Detections, Tracks

__all__ = ["begin", "fold_tracks", "link_detections"]


def fold_tracks(
    detections: Detections,
    times: NDArray[np.float64],
    rate: float,
    settings: TrackSettings,
    *,
    cancelled: Callable[[], bool] = lambda: False,
) -> Tracks:
    """Tracks of all frames covered by the detections, nothing done afterwards: as a live camera would have them.

    Only where things move so fast that nearness cannot link them do new tracks get first speeds, which are measured
    over the pictures before and after; a live camera has none.

    Raises
    ------
    Cancelled
        When told to stop on the way.
    """
    stage, boxes_of = begin(detections, times, rate, settings)
    for frame, now in enumerate(times[: detections.frame_count].tolist()):
        if frame % 64 == 0 and cancelled():
            raise Cancelled("linking was stopped")
        stage.step(now, boxes_of(frame))
    return stage.tracks(detections.class_names)


def begin(
    detections: Detections, times: NDArray[np.float64], rate: float, settings: TrackSettings
) -> tuple[Tracker, Callable[[int], FrameBoxes]]:
    """A tracker for a recorded clip, and what gives the boxes of a frame with all that was measured of them before."""
    settings = resolve_track(settings, detections, times, rate)
    fixed = detections.frozen()
    speeds = measure_speeds(fixed, times) if settings.motion.speeds_first else None
    known = speeds.velocity if speeds is not None and speeds.fast else None
    stage = Tracker(settings, fixed.size, rate, speed_doubt=0.0 if speeds is None else speeds.doubt)
    return stage, lambda frame: FrameBoxes.of(fixed, frame, known)


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
    settings = resolve_track(settings, detections, times, rate)
    tracks = fold_tracks(detections, times, rate, settings, cancelled=cancelled)
    return finish(tracks, times, settings, detections.frozen())
