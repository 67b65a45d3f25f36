"""The last seconds of a live run, as a small result that the field's painter draws."""

from __future__ import annotations

from collections import deque
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.app.field.overlays import TRAIL_SECONDS
from drover.app.field.scene import Scene
from drover.core.camera.motion import CameraMotion, identity_motion
from drover.core.count.live import LiveRows
from drover.core.count.whole_clip import count_all
from drover.core.footage_types import ClipInfo
from drover.core.recipe import CountSettings
from drover.core.types import Detections, Tracks

__all__ = ["Recent"]

MOST = 600  # pictures kept, whatever the rate


class Recent:
    """Takes in the identities of each picture, and makes a scene of the last few seconds; its memory is bounded."""

    def __init__(self, count: CountSettings) -> None:
        self._count, self._zones = count, count.model_copy(update={"line": ()})
        self.to_scene: NDArray[np.float64] | None = None
        self._kept: deque[tuple[float, LiveRows]] = deque(maxlen=MOST)

    def add(self, time: float, rows: LiveRows, to_scene: NDArray[np.float64] | None = None) -> None:
        """The identities of a picture at ``time`` s, and where it lies in the scene, if its camera is followed."""
        self.to_scene = to_scene
        self._kept.append((time, rows))
        while self._kept[0][0] < time - TRAIL_SECONDS:
            self._kept.popleft()

    def scene(self, size: tuple[int, int]) -> Scene:
        """What can be drawn; its last frame is the picture added last."""
        kept = list(self._kept)
        times = np.array([time for time, _ in kept])
        tracks = _tracks(kept, size)
        clip = ClipInfo("", *size, 25.0, times, "")
        none = np.zeros(0, np.int64)
        boxes = np.zeros((0, 4), np.float32)
        found = Detections.from_boxes(none, boxes, boxes[:, 0], frame_count=len(kept), size=size)
        return Scene(
            clip, self._count, found, tracks, counted=count_all(tracks, times, self._zones, fit_ground=False),
            motion=self._motion(len(kept), size),
        )  # fmt: skip

    def _motion(self, frames: int, size: tuple[int, int]) -> CameraMotion | None:
        """Where the last picture lies, as far as lines and zones ask."""
        if self.to_scene is None:
            return None
        still = identity_motion(frames, size)
        return replace(still, to_scene=np.tile(self.to_scene, (frames, 1, 1)))


def _tracks(kept: list[tuple[float, LiveRows]], size: tuple[int, int]) -> Tracks:
    rows = [found for _, found in kept]
    counts = [len(found.identity) for found in rows]
    order = [np.argsort(found.identity, kind="stable") for found in rows]
    many = sum(counts)

    def joined(name: str, kind: type) -> np.ndarray:
        parts = [getattr(found, name)[by] for found, by in zip(rows, order, strict=True)]
        return np.concatenate(parts).astype(kind)

    return Tracks(
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), identity=joined("identity", np.int32),
        box=joined("box", np.float32).reshape(-1, 4), state=joined("state", np.int8),
        detection=np.full(many, -1, np.int32), confidence=np.ones(many, np.float32),
        class_id=joined("class_id", np.int16), distance=np.full(many, np.nan, np.float32),
        nearest_refused=np.zeros(0, np.float32), size=size, scene_box=joined("lying", np.float32).reshape(-1, 4),
    )  # fmt: skip
