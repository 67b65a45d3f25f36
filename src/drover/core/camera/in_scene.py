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
    "boxes_in_scene",
    "boxes_in_view",
    "detections_in_picture",
    "detections_in_scene",
    "scene_boxes",
    "tracks_in_picture",
    "tracks_in_scene",
]

Float = NDArray[np.float64]


def detections_in_scene(detections: Detections, motion: CameraMotion) -> Detections:
    """The same rows with boxes and blobs where they are in the scene, shifted as the motion's ``place`` says."""
    shift, size = motion.place
    matrices = np.einsum("ij,njk->nik", shift, motion.to_scene)
    corners = np.array([mapped_corners(matrix, motion.size) for matrix in matrices])
    view = np.concatenate([corners.min(axis=1), corners.max(axis=1)], axis=1).astype(np.float32)
    return replace(_moved(detections, matrices, size), view=view)


def detections_in_picture(detections: Detections, motion: CameraMotion) -> Detections:
    """Back into the pictures; what lies beyond their rim is cut off there."""
    shift, _ = motion.place
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
    shift, _ = motion.place
    back = inverse(shift)
    seen = _boxes_moved(tracks, np.einsum("nij,jk->nik", motion.to_picture, back), motion.size)
    return replace(seen, scene_box=boxes_along(tracks.box, back))


def scene_boxes(tracks: Tracks, motion: CameraMotion) -> NDArray[np.float32]:
    """Where the boxes of tracks lie in the scene, (rows, 4) float32 px of their shot's first picture."""
    return _boxes_moved(tracks, motion.to_scene, motion.size).box


def tracks_in_scene(tracks: Tracks, motion: CameraMotion) -> Tracks:
    """Tracks of the pictures with their boxes where they are in the scene, shifted as the motion's ``place`` says."""
    shift, size = motion.place
    made = _boxes_moved(tracks, np.einsum("ij,njk->nik", shift, motion.to_scene), size)
    return replace(made, scene_box=None)


def _boxes_moved(tracks: Tracks, matrices: Float, size: tuple[int, int]) -> Tracks:
    box = np.empty_like(tracks.box)
    for frame in range(tracks.frame_count):
        rows = tracks.rows_of(frame)
        if rows.start < rows.stop:
            box[rows] = boxes_along(tracks.box[rows], matrices[min(frame, len(matrices) - 1)])
    return replace(tracks, box=box, size=size)


def boxes_in_scene(box: NDArray[np.floating], frame: NDArray[np.int64], motion: CameraMotion) -> NDArray[np.float32]:
    """Boxes (n, 4) px of pictures, each of its ``frame`` (n,), where they lie in the shifted scene."""
    shift, _ = motion.place
    out = np.empty((len(box), 4), np.float32)
    at = np.minimum(frame, len(motion) - 1)
    for one in np.unique(at).tolist():
        mine = at == one
        out[mine] = boxes_along(box[mine], shift @ motion.to_scene[one])
    return out


def boxes_in_view(box: NDArray[np.floating], frame: int, motion: CameraMotion) -> NDArray[np.float32]:
    """Boxes (n, 4) px of the shifted scene, wherever in time, where they lie in the picture of one frame."""
    shift, _ = motion.place
    return boxes_along(box, motion.to_picture[min(frame, len(motion) - 1)] @ inverse(shift))
