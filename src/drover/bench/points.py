"""What the camera and following cost, at 1280 x 720: the demo shaken by hand, and a sign laid over it."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.follower import CameraFollower
from drover.core.examples import example
from drover.core.features.corners import eigen_corners, segment_corners
from drover.core.follow.follower import ThingFollower
from drover.core.follow.steps import FollowState
from drover.core.follow.thing import thing_from_box
from drover.core.footage.reader import ClipReader
from drover.core.simulate.moving.paint import sign

__all__ = ["measure_points"]

FRAMES = 150
RATE = 25.0
WIDE, TALL = 240, 150
MANY = 24  # levels at which points begin to be looked for
Grey = NDArray[np.uint8]


def measure_points() -> dict[str, float]:
    """``camera_fps``, ``segment_ratio``: by how much the segment test is faster, ``follow_fps``; best of some runs."""
    chosen = example("gap")
    with ClipReader(chosen.clip) as reader:
        greys = [frame.grey for frame, _ in zip(reader.frames(200), range(FRAMES), strict=False)]
    shaken = [_shaken(grey, k) for k, grey in enumerate(greys)]
    camera = min(_seconds(lambda: _follow_camera(shaken)) for _ in range(2))
    eigen = min(_seconds(lambda: eigen_corners(greys[0])) for _ in range(7))
    segment = min(_seconds(lambda: segment_corners(greys[0], MANY)) for _ in range(7))
    pictures = [_with_sign(grey, k) for k, grey in enumerate(greys)]
    follow = min(_seconds(lambda: _follow_sign(pictures)) for _ in range(2))
    return {
        "camera_fps": len(shaken) / camera, "segment_ratio": eigen / segment, "follow_fps": len(pictures) / follow,
    }  # fmt: skip


def _seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def _shaken(grey: Grey, k: int) -> Grey:
    """The picture some px aside."""
    x, y = round(8 * np.sin(0.21 * k)), round(5 * np.sin(0.13 * k))
    return np.ascontiguousarray(np.roll(grey, (y, x), (0, 1)))


def _follow_camera(pictures: list[Grey]) -> None:
    follower = CameraFollower((pictures[0].shape[1], pictures[0].shape[0]))
    for k, grey in enumerate(pictures):
        follower.step(grey, k / RATE)


def _place(k: int) -> tuple[int, int]:
    return 200 + 4 * k, 300 + round(30 * np.sin(0.05 * k))


def _with_sign(grey: Grey, k: int) -> Grey:
    out, (x, y) = grey.copy(), _place(k)
    out[y : y + TALL, x : x + WIDE] = sign((WIDE, TALL)).mean(axis=2).astype(np.uint8)
    return out


def _follow_sign(pictures: list[Grey]) -> None:
    x, y = _place(0)
    thing = thing_from_box(pictures[0], (x, y, x + WIDE, y + TALL))
    pose = np.eye(3)
    pose[:2, 2] = np.array([x, y]) - thing.outline[0]
    follower = ThingFollower(thing, (pictures[0].shape[1], pictures[0].shape[0]), pose)
    for k, grey in enumerate(pictures):
        if follower.step(grey, k / RATE).state != FollowState.SEEN:
            raise RuntimeError(f"the sign was lost at picture {k}: there is no speed to tell")
