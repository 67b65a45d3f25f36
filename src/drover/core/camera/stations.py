"""A clip cut into stretches that are each looked at from one place: a canvas on which its pictures lie still."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.motion import CameraMotion
from drover.core.features.models import local_scale, mapped_corners

__all__ = ["Station", "make_stations"]

Float = NDArray[np.float64]
ROOM = 1.4  # times the picture's width and height that a canvas may be
ZOOM = 1.2  # times that pictures of one station may differ in zoom, each way
EVEN = 2


@dataclass(frozen=True)
class Station:
    """Frames ``first`` to ``past`` - 1 on a canvas of ``size`` (width, height) px; ``to_canvas`` (3, 3) from the scene.

    All stations of a clip have canvases of one size.
    """

    first: int
    past: int
    size: tuple[int, int]
    to_canvas: Float

    def from_picture(self, motion: CameraMotion, frame: int) -> Float:
        """(3, 3): from the px of a picture to those of the canvas."""
        return self.to_canvas @ motion.to_scene[frame]


def make_stations(motion: CameraMotion) -> tuple[Station, ...]:
    """The stretches of a clip: each as long as its pictures fit one canvas; of a steady motion one for a shot."""
    parts = [piece for first, past in _shots(motion) for piece in _pieces(motion, first, past)]
    found = [(first, past, *_canvas(motion, first, past)) for first, past in parts]
    width = min(max(size[0] for *_, size in found), _even(ROOM * motion.size[0]))
    height = min(max(size[1] for *_, size in found), _even(ROOM * motion.size[1]))
    out = []
    for first, past, to_canvas, size in found:
        spare = np.eye(3)
        spare[:2, 2] = (width - size[0]) // 2, (height - size[1]) // 2
        out.append(Station(first, past, (width, height), spare @ to_canvas))
    return tuple(out)


def _shots(motion: CameraMotion) -> list[tuple[int, int]]:
    edges = [0, *motion.cuts, len(motion)]
    return [(a, b) for a, b in zip(edges[:-1], edges[1:], strict=True) if b > a]


def _pieces(motion: CameraMotion, first: int, past: int) -> list[tuple[int, int]]:
    """A shot cut where its pictures would leave the canvas."""
    if motion.steady:
        return [(first, past)]
    corners = np.array([mapped_corners(matrix, motion.size) for matrix in motion.to_scene[first:past]])
    middle = np.array([[motion.size[0] / 2, motion.size[1] / 2]])
    scale = np.array([local_scale(matrix, middle)[0] for matrix in motion.to_scene[first:past]])
    low, high = corners.min(axis=1), corners.max(axis=1)
    out, begin = [], 0
    while begin < past - first:
        least = np.minimum.accumulate(low[begin:])
        most = np.maximum.accumulate(high[begin:])
        least_scale = np.minimum.accumulate(scale[begin:])
        zoom = np.maximum.accumulate(scale[begin:]) / least_scale
        room = ROOM * least_scale[:, None] * np.array(motion.size)
        fits = ((most - least) <= room).all(axis=1) & (zoom <= ZOOM)
        length = int(fits.argmin()) if not fits.all() else len(fits)
        length = max(length, 1)
        out.append((first + begin, first + begin + length))
        begin += length
    return out


def _canvas(motion: CameraMotion, first: int, past: int) -> tuple[Float, tuple[int, int]]:
    """What takes the scene to a canvas with as many px as the pictures have, and the size that holds them all."""
    middle = np.array([[motion.size[0] / 2, motion.size[1] / 2]])
    scale = np.array([local_scale(matrix, middle)[0] for matrix in motion.to_scene[first:past]])
    turn = np.arctan2(motion.to_scene[first:past, 1, 0], motion.to_scene[first:past, 0, 0])
    angle, factor = float(np.median(turn)), 1.0 / float(np.median(scale))
    c, s = factor * np.cos(-angle), factor * np.sin(-angle)
    upright = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
    corners = np.concatenate([mapped_corners(upright @ matrix, motion.size) for matrix in motion.to_scene[first:past]])
    limit = np.array([_even(ROOM * side) for side in motion.size], np.float64)
    low, high = corners.min(axis=0), corners.max(axis=0)
    spare = np.maximum(high - low - limit, 0.0)  # where one picture strays far, the middle of most stays
    if spare.any():
        usual_low, usual_high = np.quantile(corners, 0.1, axis=0), np.quantile(corners, 0.9, axis=0)
        centre = np.where(spare > 0, (usual_low + usual_high) / 2, (low + high) / 2)
        low = np.where(spare > 0, centre - limit / 2, low)
        high = np.where(spare > 0, centre + limit / 2, high)
    low = np.floor(low)
    upright[:2, 2] = -low
    return upright, (_even(float(high[0] - low[0])), _even(float(high[1] - low[1])))


def _even(side: float) -> int:
    """A number of px that halves."""
    return int(np.ceil(side / EVEN)) * EVEN
