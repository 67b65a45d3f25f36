"""A pass over a clip that follows its camera; not made where the camera stands, which some pictures tell."""

from __future__ import annotations

import time
from contextlib import closing
from dataclasses import replace

import numpy as np

from drover.core.camera.follower import CameraFollower, CameraStep, move_between
from drover.core.camera.kept import motion_arrays, motion_facts, motion_from
from drover.core.camera.motion import CameraMotion, FrameState
from drover.core.camera.stations import make_stations
from drover.core.errors import FootageError
from drover.core.footage.opened import FootageReader, open_footage
from drover.core.footage_types import ClipInfo
from drover.core.gone_through import gone_through
from drover.core.progress import IsCancelled, OnProgress, never, quiet
from drover.core.recipe import CameraSettings
from drover.core.result_store import ResultStore
from drover.core.survey.camera import LONGEST, STILL, CameraLook

__all__ = ["camera_of", "follow_clip", "look_over_clip"]

PLACES = 8  # in the clip at which two pictures are held against each other
APART = 0.4  # s between them
MOSTLY = 0.5  # of the frames held, from which nothing is known of the camera: water, noise
FAST = 0.003  # of the width by which a picture goes from one frame to the next where a camera is quick


def look_over_clip(clip: ClipInfo) -> CameraLook:
    """Whether a clip's camera moves, by pairs of pictures at places spread over all of it."""
    moves: list[float] = []
    try:
        with open_footage(clip.path, cache_bytes=0) as reader:
            for first, second in _pairs_of(clip, reader):
                move = _move(reader, clip, first, second)
                if move is not None:
                    moves.append(move)
    except FootageError:
        pass
    lengths = np.array(moves)
    if len(lengths) < 2:
        return CameraLook(0.0, 0.0, 0.0, False)
    moved = lengths >= STILL
    if moved.sum() < 2:  # one pair alone may be an accident
        return CameraLook(0.0, APART, 0.0, True)
    return CameraLook(float(np.median(lengths[moved])), APART, float(moved.mean()), True)


def _move(reader: FootageReader, clip: ClipInfo, first: int, second: int) -> float | None:
    """By how much the view moves between two pictures; where they have too little in common, by its next step."""
    size, times = (clip.width, clip.height), clip.times
    try:
        grey = reader.frame(first).grey
        move = move_between(grey, reader.frame(second).grey, size)
        if move is not None:
            return move
        # Water goes its way all over the picture too, but not that fast.
        move = move_between(grey, reader.frame(first + 1).grey, size)
        if move is None or move < FAST * size[0]:
            return None
        return move * float((times[second] - times[first]) / (times[first + 1] - times[first]))
    except FootageError:
        return None


def _pairs_of(clip: ClipInfo, reader: FootageReader) -> list[tuple[int, int]]:
    """Frames to hold against each other: the first of each at a key frame, where it costs little to reach."""
    times = clip.times
    if clip.frame_count < 2:
        return []
    at = np.searchsorted(times, np.linspace(times[0], max(times[0], times[-1] - APART), PLACES))
    keys = reader.key_frames
    if len(keys):
        at = keys[np.clip(np.searchsorted(keys, at, side="right") - 1, 0, len(keys) - 1)]
    firsts = np.unique(at)
    if len(firsts) < PLACES // 2:  # few key frames: places between them cost more
        more = np.searchsorted(times, np.linspace(times[0], max(times[0], times[-1] - APART), PLACES // 2))
        firsts = np.unique(np.concatenate([firsts, more]))
    seconds = np.minimum(np.searchsorted(times, times[firsts] + APART - 1e-6), clip.frame_count - 1)
    good = (seconds > firsts) & (times[seconds] - times[firsts] <= LONGEST)
    return list(zip(firsts[good].tolist(), seconds[good].tolist(), strict=True))


def camera_of(
    clip: ClipInfo,
    settings: CameraSettings,
    *,
    key: str = "",
    store: ResultStore | None = None,
    on_progress: OnProgress = quiet,
    cancelled: IsCancelled = never,
) -> CameraMotion | None:
    """The camera's motion over a clip; None where it stands still, or is not to be followed.

    Raises
    ------
    FootageError
        When the clip cannot be read.
    Cancelled
        When told to stop on the way.
    """
    if settings.mode == "off" or clip.frame_count < 2:
        return None
    kept = store.load(key) if store and key else None
    if kept is not None:
        return _from_store(*kept)
    motion = None
    if settings.mode != "auto" or look_over_clip(clip).moves:
        motion = follow_clip(clip, settings, on_progress=on_progress, cancelled=cancelled)
        held = float((motion.state == FrameState.HELD).mean())
        if settings.mode == "auto" and (not motion.moves or held > MOSTLY):
            motion = None
    if store and key:
        _keep(store, key, motion)
    return motion


def follow_clip(
    clip: ClipInfo,
    settings: CameraSettings,
    *,
    on_progress: OnProgress = quiet,
    cancelled: IsCancelled = never,
) -> CameraMotion:
    """The motion of every frame of a clip.

    Raises
    ------
    FootageError
        When the clip cannot be read.
    Cancelled
        When told to stop on the way.
    """
    size = clip.width, clip.height
    follower, rows = CameraFollower(size, settings.motion), _Rows(clip.frame_count)
    started = time.perf_counter()
    with closing(gone_through(clip, "camera", on_progress, cancelled)) as frames:
        for frame in frames:
            rows.add(frame.index, follower.step(frame.grey, frame.time))
    motion = rows.motion(size, time.perf_counter() - started)
    one = settings.mode == "steady" or len(make_stations(motion)) == len(motion.cuts) + 1
    return replace(motion, steady=one)


class _Rows:
    """Collects steps; frames that could not be decoded are held where the one before was."""

    def __init__(self, frames: int) -> None:
        self.matrix = np.tile(np.eye(3), (frames, 1, 1))
        self.state = np.full(frames, FrameState.HELD, np.int8)
        self.figures = np.zeros((3, frames), np.float32)
        self.reason: dict[int, str] = {}
        self.next = 0

    def add(self, index: int, step: CameraStep) -> None:
        """Take in what one frame said."""
        if index >= len(self.matrix):
            return
        if index > self.next > 0:
            self.matrix[self.next : index] = self.matrix[self.next - 1]
        self.matrix[index], self.state[index] = step.to_scene, step.state
        self.figures[:, index] = step.shared, step.covered, step.residual
        if step.reason:
            self.reason[index] = step.reason
        self.next = index + 1

    def motion(self, size: tuple[int, int], seconds: float) -> CameraMotion:
        """All of it."""
        if 0 < self.next < len(self.matrix):
            self.matrix[self.next :] = self.matrix[self.next - 1]
        shared, covered, residual = self.figures
        return CameraMotion(self.matrix, self.state, shared, covered, residual, self.reason, size, seconds=seconds)


def _keep(store: ResultStore, key: str, motion: CameraMotion | None) -> None:
    if motion is None:
        store.save(key, {"state": np.zeros(0, np.int8)}, {"moves": False})
        return
    store.save(key, motion_arrays(motion), {"moves": True, **motion_facts(motion)})


def _from_store(arrays: dict[str, np.ndarray], facts: dict[str, object]) -> CameraMotion | None:
    return motion_from(arrays, facts) if facts.get("moves") else None
