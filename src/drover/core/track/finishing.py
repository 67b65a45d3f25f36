"""What is done to the tracks of a whole clip once they are linked: joined, gaps drawn straight, smoothed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.recipe import TrackSettings
from drover.core.track.joining import join_broken
from drover.core.track.rows import boxes_seen
from drover.core.track.smoothing import smooth
from drover.core.track.travel import drop_flicker, drop_unmoved
from drover.core.track_rows import without_rows
from drover.core.types import Detections, Tracks, TrackState

__all__ = ["fill_gaps", "finish", "leave_out_long_gaps"]

Float = NDArray[np.float64]


def finish(tracks: Tracks, times: Float, settings: TrackSettings, detections: Detections) -> Tracks:
    """The tracks of a whole clip, finished as the settings say.

    ``times`` s of the frames; ``detections`` are those the tracks were linked from.
    """
    after = settings.after
    if len(tracks) == 0:
        return tracks
    if after.join:
        tracks = join_broken(tracks, times, settings, detections.look, detections.view)
    if len(detections.runs):  # found by motion; what another detector found is an object, moved or not
        if after.drop_flicker:
            tracks = drop_flicker(tracks, detections, times)
        tracks = drop_unmoved(tracks, after.least_travel)
    if len(tracks) == 0:
        return tracks
    if after.fill_gaps:
        tracks = fill_gaps(tracks)
    if settings.motion.boxes == "measured":
        tracks = replace(tracks, box=boxes_seen(tracks.box, tracks.detection, detections.box))
    if after.smooth:
        motion = settings.motion
        tracks = smooth(
            tracks, detections, times, jumpiness=motion.jumpiness, box_noise=motion.box_noise,
            scaling=motion.size_scaling,
        )  # fmt: skip
    return leave_out_long_gaps(tracks, times, after.draw_within)


def leave_out_long_gaps(tracks: Tracks, times: Float, longest: float) -> Tracks:
    """Tracks without the rows of gaps longer than ``longest`` s: of nineteen boxes drawn there one was right.

    The identity goes on behind the gap, and what it crosses on the way counts as before.
    """
    paths = tracks.paths
    when = times[tracks.frame]
    unseen = tracks.state == TrackState.COASTING
    keeps = np.ones(len(tracks), np.bool_)
    mark_long_gaps(paths.start, paths.row, when, unseen, longest, keeps)
    if keeps.all():
        return tracks
    return without_rows(tracks, ~keeps)


@njit(cache=True, nogil=True)
def mark_long_gaps(
    start: NDArray[np.int64],
    row: NDArray[np.int64],
    when: Float,
    unseen: NDArray[np.bool_],
    longest: float,
    keeps: NDArray[np.bool_],
) -> None:  # pragma: no cover
    """Set ``keeps`` (rows,) false between two sightings that are more than ``longest`` s apart, in place."""
    for p in range(start.shape[0] - 1):
        before = -1
        for k in range(start[p], start[p + 1]):
            if unseen[row[k]]:
                continue
            if before >= 0 and when[row[k]] - when[row[before]] > longest:
                for j in range(before + 1, k):
                    keeps[row[j]] = False
            before = k


def fill_gaps(tracks: Tracks) -> Tracks:
    """Each stretch of coasting drawn straight from the last box seen to the next one seen."""
    box = tracks.box.copy()
    straighten(tracks.paths.start, tracks.paths.row, tracks.paths.frame, tracks.state, box)
    return replace(tracks, box=box)


@njit(cache=True, nogil=True)
def straighten(
    start: NDArray[np.int64],
    row: NDArray[np.int64],
    frame: NDArray[np.int64],
    state: NDArray[np.int8],
    box: NDArray[np.float32],
) -> None:  # pragma: no cover
    """Interpolate boxes over coasting rows of each path, in place; state 2 is coasting."""
    for p in range(start.shape[0] - 1):
        before = -1
        for k in range(start[p], start[p + 1]):
            if state[row[k]] == 2:
                continue
            if before >= 0 and k - before > 1:
                span = frame[k] - frame[before]
                for j in range(before + 1, k):
                    share = (frame[j] - frame[before]) / span
                    for c in range(4):
                        box[row[j], c] = box[row[before], c] * (1 - share) + box[row[k], c] * share
            before = k
