"""How abruptly things change their way, measured from a first look at the clip: jumpiness on auto.

A filter that is told of white noise of acceleration takes every correlated miss for a change of way. Where limbs swing
or bodies are seen in parts, boxes lean one way for some pictures and back again: over a fifth of a second that looks
like acceleration, over a second it is gone. Where things do change their way it adds up as white noise does: what it
explains of the bend of a path (its second difference over a time t, of variance 2/3 q t^3; Bar-Shalom, Li and
Kirubarajan 2001, 6.2.2) is the same q over either. Where the short time tells of far more, the long one is believed,
and the filter made stiff.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.recipe import TrackSettings, is_auto
from drover.core.track.filters import FRAME_RATE, REFERENCE_SIZE
from drover.core.track.frame_boxes import FrameBoxes
from drover.core.track.tracker import EVEN, Tracker
from drover.core.types import Detections, Tracks, TrackState

__all__ = ["bends", "jumpiness_of", "pace_of", "resolve_track", "with_pace"]

Float = NDArray[np.float64]

SHORT, LONG = 0.2, 0.8  # s over which bends are measured
LOOK_AT = 12_000  # detections that are enough
STRETCH, STRETCHES = 6.0, 4  # s that are looked at in one go, and how many of them, spread over the clip
LEAST_BENDS = 50  # fewer say nothing
WILDEST = 0.97  # share of bends beyond which they are lost links, or bodies that melt into one blob
ALIKE = 2.0  # ratio of the two up to which what bends paths is change of way
STEEP = 8.0  # power by which the filter gets stiffer beyond that
STIFF = 0.06  # px/frame²: the least that is taken
EDGE = 2.0  # px from the picture's edge at which a box is cut off


def pace_of(detections: Detections, times: Float, rate: float, *, whole: bool = True) -> float:
    """Jumpiness px/frame² to take for a recorded clip where it is on auto.

    The usual one while a clip is not ``whole`` yet, since what is shown so far is linked anew all the time; and for
    boxes of another detector, which jitter but do not lean as outlines of what moves do.
    """
    return jumpiness_of(detections, times, rate) if whole and len(detections.runs) else EVEN


def with_pace(settings: TrackSettings, pace: float) -> TrackSettings:
    """The settings with jumpiness, where it is on auto, as it was measured."""
    if not is_auto(settings.motion.jumpiness):
        return settings
    return settings.model_copy(update={"motion": settings.motion.model_copy(update={"jumpiness": pace})})


def resolve_track(settings: TrackSettings, detections: Detections, times: Float, rate: float) -> TrackSettings:
    """The settings as they are taken for a whole recorded clip: what is on auto is measured."""
    if not is_auto(settings.motion.jumpiness):
        return settings
    return with_pace(settings, pace_of(detections, times, rate))


def jumpiness_of(detections: Detections, times: Float, rate: float) -> float:
    """Jumpiness px/frame² that fits a recorded clip's detections; the usual one where too little is seen to tell."""
    found = detections.frozen()
    parts = [bends(tracks, found, times) for tracks in _looks(found, times, rate)]
    if not parts:
        return EVEN
    short, long = (np.concatenate([part[k] for part in parts]) for k in range(2))
    if min(len(short), len(long)) < LEAST_BENDS:
        return EVEN
    ratio = _spread(short) / max(_spread(long), 1e-9)
    return round(float(np.clip(EVEN * (ALIKE / max(ratio, 1e-9)) ** STEEP, STIFF, EVEN)), 3)


def _looks(found: Detections, times: Float, rate: float) -> list[Tracks]:
    """Some stretches of the clip, linked with the usual jumpiness."""
    frames = found.frame_count
    if frames < 3:
        return []
    # So many frames hold what is enough; in stretches that leave room for paths.
    enough = max(3, round(frames * min(1.0, LOOK_AT / max(len(found), 1))))
    stretch = max(3, round(STRETCH * rate))
    count = min(STRETCHES, max(1, enough // stretch))
    length = min(frames, enough if count == 1 else stretch)
    starts = np.unique(np.linspace(0, frames - length, count).round().astype(int))
    return [_linked(found, times, rate, start, start + length) for start in starts.tolist()]


def _linked(found: Detections, times: Float, rate: float, first: int, past: int) -> Tracks:
    settings = TrackSettings()
    motion = settings.motion.model_copy(update={"jumpiness": EVEN})
    stage = Tracker(settings.model_copy(update={"motion": motion}), found.size, rate)
    for frame in range(first, past):
        stage.step(float(times[frame]), FrameBoxes.of(found, frame))
    return stage.tracks(found.class_names)


def bends(tracks: Tracks, detections: Detections, times: Float) -> tuple[Float, Float]:
    """Second differences of paths over the short and the long time, by what white acceleration makes of them.

    px/frame² at 50 px of size, both coordinates; where each of three places was seen by a whole box of its own.
    """
    row, link = tracks.paths.row, tracks.detection[tracks.paths.row]
    seen = np.maximum(link, 0)
    box, (width, height) = detections.box[seen].astype(np.float64), detections.size
    alone = np.bincount(link[link >= 0], minlength=len(detections) or 1)[seen] == 1
    whole = (box[:, :2] > EDGE).all(axis=1) & (box[:, 2] < width - EDGE) & (box[:, 3] < height - EDGE)
    good = (link >= 0) & alone & whole & (tracks.state[row] == TrackState.CONFIRMED)
    sides = np.maximum(box[:, 2:] - box[:, :2], 1.0)
    scale = np.sqrt(np.clip(np.sqrt(sides.prod(axis=1)) / REFERENCE_SIZE, 0.2, 5.0))
    middle = (box[:, :2] + box[:, 2:]) / 2
    interval = float(np.median(np.diff(times))) if len(times) > 1 else 0.04
    out = []
    for span in (SHORT, LONG):
        step = max(1, round(span / max(interval, 1e-6)))
        first, past = _thirds(good, tracks.identity[row], tracks.frame[row], step)
        bend = np.abs(middle[past] - 2 * middle[first + step] + middle[first]) / scale[first + step, None]
        out.append((bend * np.sqrt(1.5 / (step * interval * FRAME_RATE) ** 3)).ravel())
    return out[0], out[1]


def _thirds(
    good: NDArray[np.bool_], who: NDArray[np.int32], frame: NDArray[np.int64], step: int
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Places of one path, ``step`` frames before and after a third between them, all three good."""
    if len(who) <= 2 * step:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    a, b, c = slice(0, -2 * step), slice(step, -step), slice(2 * step, None)
    use = good[a] & good[b] & good[c] & (who[a] == who[c]) & (frame[c] - frame[a] == 2 * step)
    first = np.flatnonzero(use)
    return first, first + 2 * step


def _spread(size: Float) -> float:
    """Root of the mean square, the wildest cut down: those are lost links."""
    return float(np.sqrt(np.mean(np.minimum(size, np.quantile(size, WILDEST)) ** 2)))
