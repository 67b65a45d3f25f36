"""Where the filter bench works: on the ground, as the tracker does, also where the camera moves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.app.session import Session
from drover.core.camera.in_scene import boxes_in_scene, boxes_in_view
from drover.core.camera.motion import CameraMotion
from drover.core.score.pairs import assign_pairs, find_pairs
from drover.core.track.ride import Measured

__all__ = ["in_view", "on_the_ground", "true_way"]

Float = NDArray[np.float64]


def on_the_ground(measured: Measured | None, motion: CameraMotion | None) -> Measured | None:
    """What was measured, where it lies on the ground."""
    if motion is None or measured is None:
        return measured
    return replace(measured, box=boxes_in_scene(measured.box, measured.frame, motion), size=motion.place[1])


def in_view(places: Float, frame: int, motion: CameraMotion) -> Float:
    """A forecast on the ground where it lies in the picture of a frame: middles and spreads, (n, 4) px."""
    middle, spread = places[:, :2], places[:, 2:]
    box = boxes_in_view(np.column_stack([middle - spread, middle + spread]), frame, motion).astype(np.float64)
    return np.column_stack([(box[:, :2] + box[:, 2:]) / 2, (box[:, 2:] - box[:, :2]) / 2])


def true_way(session: Session, measured: Measured, identity: int) -> Float | None:
    """The middle of the body that an identity lies on most, in its frames, (n, 2) px; None without truth."""
    truth, tracks = session.truth, session.tracks
    if truth is None or tracks is None:
        return None
    pairs = find_pairs(truth, tracks, least_overlap=0.5).at_least(0.5)
    chosen = assign_pairs(pairs, 1.0 + pairs.overlap)
    number = tracks.identity[np.flatnonzero(~pairs.excused)][pairs.track[chosen]]
    rows = np.flatnonzero(truth.consider)[pairs.truth[chosen]][number == identity]
    if not len(rows):
        return None
    body = np.bincount(truth.identity[rows]).argmax()
    frame = np.repeat(np.arange(truth.frame_count), np.diff(truth.frame_start))
    out = np.full((len(measured), 2), np.nan)
    mine = np.flatnonzero((truth.identity == body) & truth.consider)
    at = frame[mine] - measured.frame[0]
    mine, at = mine[(at >= 0) & (at < len(measured))], at[(at >= 0) & (at < len(measured))]
    box, motion = truth.box[mine], None if session.detect is None else session.detect.motion
    box = box if motion is None else boxes_in_scene(box, frame[mine], motion)
    out[at] = (box[:, :2] + box[:, 2:]) / 2
    return out
