"""Detections and tracks taken from the pictures into the scene, where what stands has one place, and back."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.canvas import boxes_along, runs_along
from drover.core.camera.motion import CameraMotion
from drover.core.features.models import inverse, mapped_corners
from drover.core.types import Detections, Tracks

__all__ = [
    "detections_in_picture",
    "detections_in_scene",
    "place_of_scene",
    "scene_boxes",
    "tracks_in_picture",
    "tracks_in_scene",
]

Float = NDArray[np.float64]
FARTHEST = 15_000.0  # px from the origin within which runs can be kept


def place_of_scene(motion: CameraMotion) -> tuple[Float, tuple[int, int]]:
    """What shifts the scene (3, 3) so that nothing of it that was seen lies left of or above nought, and its size."""
    corners = np.concatenate(
        [mapped_corners(matrix, motion.size) for matrix in motion.to_scene[:: max(1, len(motion) // 2000)]]
    )
    corners = corners[(np.abs(corners) < FARTHEST).all(axis=1)]
    if not len(corners):
        return np.eye(3), motion.size
    low = np.floor(np.minimum(corners.min(axis=0), 0.0))
    high = np.ceil(np.maximum(corners.max(axis=0), motion.size))
    shift = np.eye(3)
    shift[:2, 2] = -low
    return shift, (int(high[0] - low[0]), int(high[1] - low[1]))


def detections_in_scene(detections: Detections, motion: CameraMotion) -> Detections:
    """The same rows with boxes and blobs where they are in the scene, shifted as :func:`place_of_scene` says."""
    shift, size = place_of_scene(motion)
    matrices = np.einsum("ij,njk->nik", shift, motion.to_scene)
    corners = np.array([mapped_corners(matrix, motion.size) for matrix in matrices])
    view = np.concatenate([corners.min(axis=1), corners.max(axis=1)], axis=1).astype(np.float32)
    return replace(_moved(detections, matrices, size), view=view)


def detections_in_picture(detections: Detections, motion: CameraMotion) -> Detections:
    """Back into the pictures; what lies beyond their rim is cut off there."""
    shift, _ = place_of_scene(motion)
    back = np.einsum("nij,jk->nik", motion.to_picture, inverse(shift))
    return replace(_moved(detections, back, motion.size), view=None)


def _moved(detections: Detections, matrices: Float, size: tuple[int, int]) -> Detections:
    box = np.empty_like(detections.box)
    counts = np.diff(detections.run_start)
    pieces: list[NDArray[np.int16]] = []
    new_counts = np.zeros(len(detections), np.int64)
    for frame in range(detections.frame_count):
        rows = detections.rows_of(frame)
        if rows.start == rows.stop:
            continue
        matrix = matrices[min(frame, len(matrices) - 1)]
        box[rows] = boxes_along(detections.box[rows], matrix)
        if len(detections.runs):
            own = detections.runs[int(detections.run_start[rows.start]) : int(detections.run_start[rows.stop])]
            runs, new_counts[rows] = runs_along(own, counts[rows], inverse(matrix), (0, 0), size)
            pieces.append(runs)
    runs = np.concatenate(pieces) if pieces else np.zeros((0, 3), np.int16)
    area = detections.area
    if len(detections.runs):
        owner = np.repeat(np.arange(len(detections)), new_counts)
        drawn = np.bincount(owner, weights=(runs[:, 2] - runs[:, 1]).astype(np.float64), minlength=len(detections))
        area = np.where(new_counts > 0, drawn, area).astype(np.float32)
    return replace(
        detections, box=box, runs=runs, area=area, size=size,
        run_start=np.concatenate([[0], np.cumsum(new_counts)]).astype(np.int64),
    )  # fmt: skip


def tracks_in_picture(tracks: Tracks, motion: CameraMotion) -> Tracks:
    """Tracks that were linked in the scene, with their boxes where they are in the pictures, and where in the scene."""
    shift, _ = place_of_scene(motion)
    back = inverse(shift)
    seen = _boxes_moved(tracks, np.einsum("nij,jk->nik", motion.to_picture, back), motion.size)
    return replace(seen, scene_box=boxes_along(tracks.box, back))


def scene_boxes(tracks: Tracks, motion: CameraMotion) -> NDArray[np.float32]:
    """Where the boxes of tracks lie in the scene, (rows, 4) float32 px of their shot's first picture."""
    return _boxes_moved(tracks, motion.to_scene, motion.size).box


def tracks_in_scene(tracks: Tracks, motion: CameraMotion) -> Tracks:
    """Tracks of the pictures with their boxes where they are in the scene, shifted as :func:`place_of_scene` says."""
    shift, size = place_of_scene(motion)
    made = _boxes_moved(tracks, np.einsum("ij,njk->nik", shift, motion.to_scene), size)
    return replace(made, scene_box=None)


def _boxes_moved(tracks: Tracks, matrices: Float, size: tuple[int, int]) -> Tracks:
    box = np.empty_like(tracks.box)
    for frame in range(tracks.frame_count):
        rows = tracks.rows_of(frame)
        if rows.start < rows.stop:
            box[rows] = boxes_along(tracks.box[rows], matrices[min(frame, len(matrices) - 1)])
    return replace(tracks, box=box, size=size)
