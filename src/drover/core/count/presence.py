"""Where they went: how long each part of the picture was stood on, and which way they moved there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.geometry import box_foot
from drover.core.types import Tracks

__all__ = ["FlowMap", "flow_map", "presence_map"]

Float = NDArray[np.float64]
CELLS = 96  # across the picture
FLOW_CELLS = 24
STANDING = 6.0  # px/s under which a foot stands, at a picture 1280 px wide
LEAST_SECONDS = 0.4  # in a cell before its flow is shown


@dataclass(frozen=True)
class FlowMap:
    """Mean movement by cell: ``x``, ``y`` (n,) px of the cell's middle, ``dx``, ``dy`` (n,) px/s, ``seconds`` there."""

    x: Float
    y: Float
    dx: Float
    dy: Float
    seconds: Float
    cell: float


def _steps(tracks: Tracks, times: Float, identities: set[int] | None) -> tuple[Float, Float, Float]:
    """Feet (n, 2) px, movement (n, 2) px/s and time (n,) s of every row that is not the last of its path."""
    row = tracks.paths.row
    foot, when = box_foot(tracks.box[row]), times[tracks.paths.frame]
    owner = tracks.identity[row]
    same = owner[:-1] == owner[1:]
    if identities is not None:
        same &= np.isin(owner[:-1], list(identities))
    lasted = np.diff(when)
    same &= (lasted > 0) & (lasted < 1.0)
    step = np.diff(foot, axis=0)[same] / lasted[same][:, None]
    return foot[:-1][same], step, lasted[same]


def presence_map(tracks: Tracks, times: Float, *, identities: set[int] | None = None, standing: bool = False) -> Float:
    """Seconds that feet spent in each cell, (rows, 96) float64, over a square grid 96 cells wide.

    ``identities`` picks some; with ``standing`` only the time in which they stood still counts (dwell).
    """
    width, height = tracks.size
    cell = width / CELLS
    shape = int(np.ceil(height / cell)), CELLS
    foot, step, lasted = _steps(tracks, times, identities)
    if standing:
        still = np.linalg.norm(step, axis=1) < STANDING * width / 1280
        foot, lasted = foot[still], lasted[still]
    place = np.clip((foot / cell).astype(np.int64), 0, np.array(shape[::-1]) - 1)
    out = np.zeros(shape)
    np.add.at(out, (place[:, 1], place[:, 0]), lasted)
    from scipy import ndimage  # here: a start without it is a fifth of a second shorter

    return ndimage.gaussian_filter(out, 1.0)


def flow_map(tracks: Tracks, times: Float, *, identities: set[int] | None = None) -> FlowMap:
    """Mean movement over a grid 24 cells wide, where feet spent long enough."""
    width, height = tracks.size
    cell = width / FLOW_CELLS
    rows = int(np.ceil(height / cell))
    foot, step, lasted = _steps(tracks, times, identities)
    place = np.clip((foot / cell).astype(np.int64), 0, np.array([FLOW_CELLS, rows]) - 1)
    key = place[:, 1] * FLOW_CELLS + place[:, 0]
    seconds = np.bincount(key, lasted, FLOW_CELLS * rows)
    way = [np.bincount(key, step[:, axis] * lasted, FLOW_CELLS * rows) for axis in range(2)]
    used = np.flatnonzero(seconds >= LEAST_SECONDS)
    return FlowMap(
        x=((used % FLOW_CELLS).astype(np.float64) + 0.5) * cell,
        y=((used // FLOW_CELLS).astype(np.float64) + 0.5) * cell,
        dx=way[0][used] / seconds[used],
        dy=way[1][used] / seconds[used],
        seconds=seconds[used].astype(np.float64),
        cell=cell,
    )
