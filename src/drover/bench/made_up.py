"""Made-up tracks for measuring: any number of objects walking at steady speed."""

from __future__ import annotations

import numpy as np

from drover.core.simulate.boxes import FRAME_SIZE, walks
from drover.core.types import Tracks, Truth

__all__ = ["many_tracks", "truth_from"]


def many_tracks(objects: int, frames: int, seed: int = 1) -> Tracks:
    """Perfect tracks of walking objects."""
    box = walks(objects, frames, seed).reshape(-1, 4)
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
        size=FRAME_SIZE,
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
