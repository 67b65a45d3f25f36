"""How things move in a clip, measured from a first look: what Track has on auto.

Some stretches of the clip are linked as usual. Of all filters on a grid the one is taken that foresees best where
things are seen, over the next picture, a fifth of a second and most of one (:mod:`drover.core.track.foresight`); what
of the rest is measured see :mod:`drover.core.track.reach`.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.core.recipe import TrackSettings
from drover.core.track.filters import FRAME_RATE
from drover.core.track.foresight import foreseen
from drover.core.track.frame_boxes import FrameBoxes
from drover.core.track.pace import OF_BOXES, USUAL, Pace, left_to_the_clip, with_pace
from drover.core.track.reach import Look, with_reach
from drover.core.track.speeds import measure_speeds
from drover.core.track.tracker import Tracker
from drover.core.types import Detections, Tracks, TrackState

__all__ = ["best_noises", "measured_pace", "pace_of", "resolve_track", "sightings"]

Float = NDArray[np.float64]

JUMPS = np.array([0.06, 0.12, 0.25, 0.5, 1.0, 2.0])  # px/frame²; stiffer than the first cannot follow a bend
JITTERS = 1.5 * 2.0 ** (np.arange(-4, 6) / 2.0)  # px, from 0.4 to 8.5
LOOK_AT = 12_000  # detections that are enough
STRETCH, STRETCHES = 6.0, 4  # s that are looked at in one go, and how many of them, spread over the clip
LEAST_JUDGED = 100  # forecasts of a coordinate; fewer say nothing
ALIKE = 2.0  # ratio to the usual jumpiness within which nothing speaks against that
EDGE = 2.0  # px from the picture's edge at which a box is cut off


def pace_of(detections: Detections, times: Float, rate: float, *, whole: bool = True) -> Pace:
    """What to take for a recorded clip where it is on auto.

    The usual while a clip is not ``whole`` yet, since what is shown so far is linked anew all the time.
    """
    return measured_pace(detections, times, rate) if whole else USUAL


def resolve_track(settings: TrackSettings, detections: Detections, times: Float, rate: float) -> TrackSettings:
    """The settings as they are taken for a whole recorded clip: what is on auto is measured."""
    if not left_to_the_clip(settings):
        return settings
    return with_pace(settings, pace_of(detections, times, rate))


def measured_pace(detections: Detections, times: Float, rate: float) -> Pace:
    """The pace that fits a recorded clip's detections; the usual one where too little is seen to tell.

    Where noises are less than usual both are raised together, which leaves the filter's way as it is but makes it no
    surer than usual: measured are those seen alone, and who is too sure loses what meets and hides. Where boxes jitter
    more than usual, half of that is believed, in ratio. Jumpiness of about the usual is taken for the usual.
    """
    found = detections.frozen()
    usual = replace(USUAL, box_noise=USUAL.box_noise if len(found.runs) else OF_BOXES)
    looks = _looks(found, times, rate, usual)
    paths = [sightings(look.tracks, found, times) for look in looks]
    if not paths:
        return usual
    return with_reach(_with_noises(usual, paths), looks, paths, found)


def _with_noises(usual: Pace, paths: list[tuple[NDArray[np.int64], Float, Float, Float]]) -> Pace:
    """The usual pace with the noises that foresee the sightings best."""
    start = np.concatenate([[0], *(np.diff(part[0]) for part in paths)]).cumsum()
    middle, side, when = (np.concatenate(column) for column in list(zip(*paths, strict=True))[1:])
    likely, judged = foreseen(start, middle, side, when, JUMPS, JITTERS)
    if judged[-1] < LEAST_JUDGED:
        return usual
    jump, jitter = best_noises(likely)
    jump = min(jump * max(1.0, usual.box_noise / jitter), float(JUMPS[-1]))
    if 1.0 / ALIKE <= jump / usual.jumpiness <= ALIKE:
        jump = usual.jumpiness
    noise = max(usual.box_noise, float(np.sqrt(jitter * usual.box_noise)))
    return replace(usual, jumpiness=round(jump, 3), box_noise=round(noise, 2))


def best_noises(likely: Float) -> tuple[float, float]:
    """Jumpiness and box noise at the peak of (j, b) log densities on the grid, between its points by a parabola."""
    jump, jitter = np.unravel_index(int(np.argmax(likely)), likely.shape)
    return _peak(JUMPS, likely[:, jitter], int(jump)), _peak(JITTERS, likely[jump], int(jitter))


def _peak(grid: Float, value: Float, at: int) -> float:
    """Where the parabola through a peak and its neighbours is highest, in ratios; at the ends the end itself."""
    if at in (0, len(grid) - 1):
        return float(grid[at])
    x, (low, top, high) = np.log(grid[at - 1 : at + 2]), value[at - 1 : at + 2]
    falls, rises = (top - low) / (x[1] - x[0]), (top - high) / (x[2] - x[1])
    if falls + rises <= 0:
        return float(grid[at])
    middle = (falls * (x[1] + x[2]) + rises * (x[0] + x[1])) / (2.0 * (falls + rises))
    return float(np.exp(min(max(middle, x[0]), x[2])))


def _looks(found: Detections, times: Float, rate: float, usual: Pace) -> list[Look]:
    """Some stretches of the clip, linked at the usual pace."""
    frames = found.frame_count
    if frames < 3:
        return []
    # So many frames hold what is enough; in stretches that leave room for paths.
    enough = max(3, round(frames * min(1.0, LOOK_AT / max(len(found), 1))))
    stretch = max(3, round(STRETCH * rate))
    count = min(STRETCHES, max(1, enough // stretch))
    length = min(frames, enough if count == 1 else stretch)
    starts = np.unique(np.linspace(0, frames - length, count).round().astype(int))
    speeds = measure_speeds(found, times)
    known = (speeds.velocity if speeds.fast else None), speeds.doubt
    settings = with_pace(TrackSettings(), usual)
    return [_linked(found, times, rate, settings, known, start, start + length) for start in starts.tolist()]


def _linked(
    found: Detections, times: Float, rate: float, settings: TrackSettings, known: tuple[Float | None, float],
    first: int, past: int,
) -> Look:  # fmt: skip
    velocity, doubt = known
    stage = Tracker(settings, found.size, rate, speed_doubt=doubt)
    for frame in range(first, past):
        stage.step(float(times[frame]), FrameBoxes.of(found, frame, velocity))
    return Look(stage.tracks(found.class_names), stage.short_lives(), (first, past))


def sightings(tracks: Tracks, detections: Detections, times: Float) -> tuple[NDArray[np.int64], Float, Float, Float]:
    """Where each path was seen by a whole box of its own: first rows, middles px, sides px, and when, in 1/25 s."""
    row, link = tracks.paths.row, tracks.detection[tracks.paths.row]
    box, (width, height) = detections.box[np.maximum(link, 0)].astype(np.float64), detections.size
    alone = np.bincount(link[link >= 0], minlength=len(detections) or 1)[np.maximum(link, 0)] == 1
    whole = (box[:, :2] > EDGE).all(axis=1) & (box[:, 2] < width - EDGE) & (box[:, 3] < height - EDGE)
    good = np.flatnonzero((link >= 0) & alone & whole & (tracks.state[row] != TrackState.COASTING))
    who, box = tracks.identity[row[good]], box[good]
    start = np.concatenate([[0], np.flatnonzero(np.diff(who)) + 1, [len(good)]]) if len(good) else np.zeros(1, np.int64)
    sides = np.maximum(box[:, 2:] - box[:, :2], 1.0)
    return start, (box[:, :2] + box[:, 2:]) / 2, sides, times[tracks.frame[row[good]]] * FRAME_RATE
