"""The clip read once more where legs of lives are, and what is seen there laid over each other for each of them.

Only the pictures that are wanted are looked at, and only a piece of each around what is followed.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.bodies.grid import CELL, GRID, Laid, cell_middles
from drover.core.bodies.lacking import Leg
from drover.core.bodies.looks import cell_differences
from drover.core.detect.detector import DetectorState
from drover.core.detect.result import DetectResult
from drover.core.errors import Cancelled
from drover.core.footage.prefetch import prefetched_frames
from drover.core.footage_types import ClipInfo, Frame
from drover.core.progress import IsCancelled
from drover.core.types import Tracks

__all__ = ["Wanted", "read_again", "scene_at"]

Float = NDArray[np.float64]
Mask = NDArray[np.bool_]
Look = tuple[NDArray[np.float32], NDArray[np.float32], Mask]  # as Laid has them, of one picture
GAP = 4.0  # s without anything to look at, from which the reading goes on behind them
BESIDE = 0.1  # of its sides, by which others that are followed are kept away from


@dataclass(frozen=True)
class Wanted:
    """A leg, and the rows (n,) of it that are looked at, rising."""

    leg: Leg
    rows: NDArray[np.int64]


def scene_at(result: DetectResult, frame: int) -> DetectorState | None:
    """The empty scene as it was last kept before a frame."""
    before = [state for at, state in result.checkpoints if at < frame]
    return before[-1] if before else None


def read_again(
    result: DetectResult, clip: ClipInfo, tracks: Tracks, wanted: list[Wanted], cancelled: IsCancelled
) -> Iterator[tuple[Leg, Laid]]:
    """Each leg, as its frames have gone by, with what was seen around it laid over each other.

    Raises
    ------
    FootageError
        When the clip cannot be read any more; Cancelled when told to stop on the way.
    """
    wanted = [one for one in wanted if len(one.rows)]
    if not wanted:
        return
    reading = _Reading(result, clip, tracks, wanted)
    for frame in _frames(clip, np.unique(np.concatenate([one.leg.frame[one.rows] for one in wanted]))):
        if cancelled():
            raise Cancelled("the work was stopped")
        yield from reading.look(frame)


def _frames(clip: ClipInfo, frames: NDArray[np.int64]) -> Iterator[Frame]:
    """The frames from the first to the last of those, without long gaps between."""
    ends = np.flatnonzero(np.diff(clip.times[frames]) > GAP)
    for stretch in np.split(frames, ends + 1):
        reading = prefetched_frames(clip.path, start=int(stretch[0]), colour=True)
        try:
            for frame in reading:
                if frame.index > stretch[-1]:
                    break
                yield frame
        finally:
            reading.close()


class _Reading:
    """Looks at each leg, gathered while its frames go by."""

    def __init__(self, result: DetectResult, clip: ClipInfo, tracks: Tracks, wanted: list[Wanted]) -> None:
        self.result, self.tracks = result, tracks
        self.size = clip.width, clip.height
        self._rows = [{int(one.leg.frame[row]): row for row in one.rows.tolist()} for one in wanted]
        self._wanted = wanted
        self._waiting = sorted(range(len(wanted)), key=lambda k: min(self._rows[k]), reverse=True)
        self._open: dict[int, list[Look]] = {}

    def look(self, frame: Frame) -> Iterator[tuple[Leg, Laid]]:
        """Take in the next frame; the legs that end with it."""
        while self._waiting and min(self._rows[self._waiting[-1]]) <= frame.index:
            self._open[self._waiting.pop()] = []
        scene = scene_at(self.result, frame.index)
        for k, looks in list(self._open.items()):
            row, leg = self._rows[k].get(frame.index), self._wanted[k].leg
            if row is not None and scene is not None:
                looks.append(self._one(frame, scene, leg, row))
            if max(self._rows[k]) <= frame.index:
                del self._open[k]
                if looks:
                    yield leg, Laid(*(np.stack(part) for part in zip(*looks, strict=True)))

    def _one(self, frame: Frame, scene: DetectorState, leg: Leg, row: int) -> Look:
        """The picture around one detection, its light, and where nothing else is followed."""
        x1, y1, x2, y2 = leg.box[row].tolist()
        wide, tall = leg.usual[row].tolist()
        across = (x1 + x2) / 2 + wide * cell_middles()
        down = (y1 + y2) / 2 + tall * cell_middles()
        cell = wide * CELL, tall * CELL
        look = np.zeros((3, GRID, GRID), np.float32)
        look[0], light = cell_differences(frame.grey, scene.picture, scene.noise, across, down, cell)
        if scene.colour is not None and frame.chroma is not None and scene.colour.picture.ndim == 2:
            half = frame.chroma.shape[1]
            for p in range(2):
                rows = slice(p * half, (p + 1) * half)
                planes = frame.chroma[p], scene.colour.picture[rows], scene.colour.noise[rows]
                if planes[0].shape == planes[1].shape:
                    look[1 + p], _ = cell_differences(*planes, across / 2, down / 2, (cell[0] / 2, cell[1] / 2))
        return look, light, self._free(frame.index, int(leg.blob[row]), across, down)

    def _free(self, frame: int, blob: int, across: Float, down: Float) -> Mask:
        """Where around a detection the picture is, and nobody else."""
        free = ((down >= 0) & (down < self.size[1]))[:, None] & ((across >= 0) & (across < self.size[0]))[None, :]
        first, past = self.tracks.frame_start[frame : frame + 2].tolist()
        box = self.tracks.box[first:past].astype(np.float64)
        box = box[self.tracks.detection[first:past] != blob]
        beside = BESIDE * (box[:, 2:] - box[:, :2])
        low, high = box[:, :2] - beside, box[:, 2:] + beside
        near = (low < (across[-1], down[-1])) & (high > (across[0], down[0]))
        for (x1, y1), (x2, y2) in zip(low[near.all(axis=1)].tolist(), high[near.all(axis=1)].tolist(), strict=True):
            free[np.ix_((down > y1) & (down < y2), (across > x1) & (across < x2))] = False
        return free
