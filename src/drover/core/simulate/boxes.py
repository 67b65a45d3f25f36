"""Detections without pictures: any number of objects at steady speed, with what a detector does wrong.

For trying and measuring the tracker alone.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.types import Detections, Truth, rows_to_frames

__all__ = ["FRAME_SIZE", "flickering", "simulate_boxes", "together", "walks"]

FRAME_SIZE = (1920, 1080)


def walks(objects: int, frames: int, seed: int) -> NDArray[np.float32]:
    """(frames, objects, 4) float32 boxes px of objects that walk straight and turn back at the frame's edge."""
    rng = np.random.default_rng(seed)
    width, height = FRAME_SIZE
    start = rng.uniform((60, 60), (width - 60, height - 60), (objects, 2))
    step = rng.uniform(-3, 3, (objects, 2))
    at = start + np.arange(frames)[:, None, None] * step
    span = np.array([width - 120, height - 120])
    at = 60 + span - np.abs(np.mod(at - 60, 2 * span) - span)
    half = np.array([9.0, 7.0]) if objects > 200 else np.array([22.0, 16.0])
    return np.concatenate([at - half, at + half], axis=2).astype(np.float32)


def simulate_boxes(
    objects: int,
    frames: int,
    *,
    seed: int = 1,
    noise: float = 1.5,
    missed: float = 0.04,
    false_alarms: float = 0.02,
    weak: float = 0.0,
) -> tuple[Detections, Truth]:
    """Detections of walking objects and their truth.

    Parameters
    ----------
    noise : float, px, standard deviation of each side of a box
    missed : float, fraction of true boxes that are not detected
    false_alarms : float, fraction of the true boxes as many wrong ones, anywhere, with confidence under 0.4
    weak : float, fraction of true boxes with confidence under 0.4; all others are over 0.5
    """
    rng = np.random.default_rng(seed + 1)
    true = walks(objects, frames, seed)
    total = frames * objects
    box = (true + rng.normal(0, noise, true.shape)).astype(np.float32).reshape(-1, 4)
    frame, seen = np.repeat(np.arange(frames), objects), rng.random(total) >= missed
    sure = np.where(rng.random(total) < weak, rng.uniform(0.1, 0.39, total), rng.uniform(0.5, 1.0, total))
    wrong = rng.integers(0, max(1, total), int(false_alarms * total))
    width, height = FRAME_SIZE
    sides = true.reshape(-1, 4)[wrong, 2:] - true.reshape(-1, 4)[wrong, :2]
    corner = rng.uniform(0, 1, (len(wrong), 2)) * (np.array([width, height]) - sides)
    found = Detections.from_boxes(
        np.concatenate([frame[seen], frame[wrong]]),
        np.concatenate([box[seen], np.hstack([corner, corner + sides]).astype(np.float32)]),
        np.concatenate([sure[seen], rng.uniform(0.1, 0.39, len(wrong))]).astype(np.float32),
        frame_count=frames,
        size=FRAME_SIZE,
    )
    truth = Truth(
        frame_start=np.arange(frames + 1, dtype=np.int64) * objects,
        identity=np.tile(np.arange(1, objects + 1, dtype=np.int32), frames),
        box=true.reshape(-1, 4),
        consider=np.ones(total, np.bool_),
        class_id=np.zeros(total, np.int16),
        visibility=np.ones(total, np.float32),
    )
    return found, truth


def flickering(frames: int, a_frame: int, *, seed: int = 1, sides: tuple[float, float] = (12.0, 60.0)) -> Detections:
    """False boxes anywhere, about ``a_frame`` in each frame, most of them seen for one to five frames, all sure.

    Each stays within a fifth of its ``sides`` (px, from and to) of one place, and is gone for good after a few frames.
    """
    rng = np.random.default_rng(seed)
    lasts = np.minimum(rng.geometric(0.4, int(a_frame * frames / 2.4) + a_frame), 20)
    born = rng.integers(-4, frames, len(lasts))
    side = rng.uniform(*sides, (len(lasts), 2))
    corner = rng.uniform(0, 1, (len(lasts), 2)) * (np.array(FRAME_SIZE) - side)
    which = np.repeat(np.arange(len(lasts)), lasts)
    frame = born[which] + np.arange(len(which)) - np.repeat(np.cumsum(lasts) - lasts, lasts)
    at = corner[which] + rng.normal(0, 0.1, (len(which), 2)) * side[which]
    size = side[which] * rng.uniform(0.85, 1.15, (len(which), 2))
    return Detections.from_boxes(
        frame, np.hstack([at, at + size]).astype(np.float32), rng.uniform(0.5, 1.0, len(which)).astype(np.float32),
        frame_count=frames, size=FRAME_SIZE,
    )  # fmt: skip


def together(first: Detections, second: Detections) -> Detections:
    """The boxes of both, frame by frame; without blobs."""
    frame = np.concatenate([rows_to_frames(first.frame_start), rows_to_frames(second.frame_start)])
    return Detections.from_boxes(
        frame, np.concatenate([first.box, second.box]), np.concatenate([first.confidence, second.confidence]),
        frame_count=first.frame_count, size=first.size,
    )  # fmt: skip
