"""Made-up motion for measuring: any number of objects walking at steady speed, with noise, misses and false alarms."""

from __future__ import annotations

import numpy as np

from drover.core.types import Detections, Tracks, Truth

__all__ = ["many_detections", "many_tracks", "truth_from"]

SIZE = (1920, 1080)


def _walks(objects: int, frames: int, seed: int) -> np.ndarray:
    """(frames, objects, 4) float32 boxes bouncing inside the frame."""
    rng = np.random.default_rng(seed)
    width, height = SIZE
    start = rng.uniform((60, 60), (width - 60, height - 60), (objects, 2))
    step = rng.uniform(-3, 3, (objects, 2))
    at = start + np.arange(frames)[:, None, None] * step
    span = np.array([width - 120, height - 120])
    at = 60 + span - np.abs(np.mod(at - 60, 2 * span) - span)
    half = np.array([9.0, 7.0]) if objects > 200 else np.array([22.0, 16.0])
    return np.concatenate([at - half, at + half], axis=2).astype(np.float32)


def many_detections(objects: int, frames: int, seed: int = 1) -> Detections:
    """Detections of walking objects: 1.5 px noise, 4 % missed, 2 % false."""
    rng = np.random.default_rng(seed + 1)
    box = _walks(objects, frames, seed)
    box = box + rng.normal(0, 1.5, box.shape).astype(np.float32)
    frame = np.repeat(np.arange(frames), objects)
    seen = rng.random(frames * objects) > 0.04
    wrong = rng.integers(0, frames * objects, int(0.02 * frames * objects))
    shifted = box.reshape(-1, 4)[wrong] + rng.uniform(-300, 300, (len(wrong), 1)).astype(np.float32)
    every = np.concatenate([box.reshape(-1, 4)[seen], shifted])
    return Detections.from_boxes(
        np.concatenate([frame[seen], frame[wrong]]),
        every,
        np.ones(len(every), np.float32),
        frame_count=frames,
        size=SIZE,
    )


def many_tracks(objects: int, frames: int, seed: int = 1) -> Tracks:
    """Perfect tracks of walking objects."""
    box = _walks(objects, frames, seed).reshape(-1, 4)
    n = objects * frames
    return Tracks(
        frame_start=np.arange(frames + 1, dtype=np.int64) * objects,
        identity=np.tile(np.arange(1, objects + 1, dtype=np.int32), frames),
        box=box,
        state=np.ones(n, np.int8),
        detection=np.arange(n, dtype=np.int32),
        confidence=np.ones(n, np.float32),
        class_id=np.zeros(n, np.int16),
        distance=np.ones(n, np.float32),
        nearest_refused=np.zeros(0, np.float32),
        size=SIZE,
    )


def truth_from(tracks: Tracks) -> Truth:
    """Truth that the tracks miss a little: boxes moved by up to 3 px."""
    rng = np.random.default_rng(5)
    moved = tracks.box + rng.uniform(-3, 3, (len(tracks), 1)).astype(np.float32)
    return Truth(
        frame_start=tracks.frame_start,
        identity=tracks.identity,
        box=moved,
        consider=np.ones(len(tracks), np.bool_),
        class_id=tracks.class_id,
        visibility=np.ones(len(tracks), np.float32),
    )
