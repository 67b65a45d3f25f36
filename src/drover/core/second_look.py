"""A second look at what is smaller than a body for most of its life: the clip is read again where that is.

What Detect sees in one picture may be a part of a body; what goes along with that part over some seconds is the rest
of it (:mod:`drover.core.bodies.along`). Only the pictures in which such things are followed are read once more, and
only a piece of each around them is looked at.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.core.bodies.along import CELL, GRID, Extent, cell_middles, extent_of, what_goes_along
from drover.core.bodies.lacking import Leg, lacking_legs
from drover.core.bodies.looks import cell_differences
from drover.core.bodies.size_field import SizeField
from drover.core.detect.detector import DetectorState
from drover.core.detect.result import DetectResult
from drover.core.errors import Cancelled
from drover.core.footage.prefetch import prefetched_frames
from drover.core.footage_types import ClipInfo, Frame
from drover.core.progress import IsCancelled, never
from drover.core.types import Detections, Tracks

__all__ = ["look_again"]

Float = NDArray[np.float64]
Mask = NDArray[np.bool_]
GAP = 4.0  # s without anything to look at, from which the reading goes on behind them
MOST_LOOKS = 50  # pictures of a leg, evenly spread
BESIDE = 0.1  # of its sides, by which others that are followed are kept away from
EDGE = 1.4  # by what factor the ends of a body stand out from what lies beyond, in the middle one of its legs
LEAN = 0.55  # from which what is seen is an end of a body: a halo lies on all sides
UPPER = 0.15  # from which more of it lies below: where little is seen, that is a head
HALF = 0.5  # of a usual height, from which what is narrow as well has to be an upper end alone
GAIN = 1.2  # times the height or width that were seen, for anything to be gained


def look_again(
    result: DetectResult,
    clip: ClipInfo,
    found: Detections,
    tracks: Tracks,
    times: Float,
    field: SizeField,
    *,
    cancelled: IsCancelled = never,
) -> Detections:
    """Detections with the boxes of bodies of which only a part is seen made whole; outlines stay what was seen.

    ``result`` is of Detect, with the empty scene as it was on the way; ``found`` are its detections as far as they are
    put right, ``tracks`` linked from those; ``times`` s of the frames.

    Raises
    ------
    FootageError
        When the clip cannot be read any more; Cancelled when told to stop on the way.
    """
    if not field.says_something or result.taken is None or "difference" in result.taken.background.model:
        return found
    legs = [leg for leg in lacking_legs(found, tracks, times, field) if _scene_at(result, int(leg.frame[0]))]
    if not legs:
        return found
    reading = _Reading(result, clip, tracks, legs)
    for frame in _wanted_frames(clip, times, legs):
        if cancelled():
            raise Cancelled("the work was stopped")
        reading.look(frame)
    return _made_whole(found, legs, reading.extents)


def _scene_at(result: DetectResult, frame: int) -> DetectorState | None:
    """The empty scene as it was last kept before a frame."""
    before = [state for at, state in result.checkpoints if at < frame]
    return before[-1] if before else None


def _wanted_frames(clip: ClipInfo, times: Float, legs: list[Leg]) -> Iterator[Frame]:
    """The frames from the first to the last of the legs, without long gaps between."""
    frames = np.unique(np.concatenate([leg.frame for leg in legs]))
    ends = np.flatnonzero(np.diff(times[frames]) > GAP)
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
    """Looks at each leg, gathered while its frames go by; what comes of them is known when it has ended."""

    def __init__(self, result: DetectResult, clip: ClipInfo, tracks: Tracks, legs: list[Leg]) -> None:
        self.result, self.tracks, self.legs = result, tracks, legs
        self.size = clip.width, clip.height
        self.extents: list[Extent | None] = [None] * len(legs)
        self._waiting = sorted(range(len(legs)), key=lambda k: int(legs[k].frame[0]), reverse=True)
        self._open: dict[int, list[tuple[NDArray[np.float32], Mask]]] = {}
        self._row = {
            k: {int(f): r for r, f in enumerate(leg.frame) if r % max(1, -(-len(leg.frame) // MOST_LOOKS)) == 0}
            for k, leg in enumerate(legs)
        }

    def look(self, frame: Frame) -> None:
        """Take in the next frame."""
        while self._waiting and self.legs[self._waiting[-1]].frame[0] <= frame.index:
            self._open[self._waiting.pop()] = []
        scene = _scene_at(self.result, frame.index)
        for k, looks in list(self._open.items()):
            row = self._row[k].get(frame.index)
            if row is not None and scene is not None:
                looks.append(self._one(frame, scene, self.legs[k], row))
            if self.legs[k].frame[-1] <= frame.index:
                self._end(k)

    def _end(self, k: int) -> None:
        looks = self._open.pop(k)
        if looks:
            told = what_goes_along(np.stack([look for look, _ in looks]), np.stack([free for _, free in looks]))
            self.extents[k] = None if told is None else extent_of(*told, self.legs[k].share)

    def _one(self, frame: Frame, scene: DetectorState, leg: Leg, row: int) -> tuple[NDArray[np.float32], Mask]:
        """The picture around one detection, and where nothing else is followed."""
        x1, y1, x2, y2 = leg.box[row].tolist()
        wide, tall = leg.usual[row].tolist()
        across = (x1 + x2) / 2 + wide * cell_middles()
        down = (y1 + y2) / 2 + tall * cell_middles()
        cell = wide * CELL, tall * CELL
        look = np.zeros((3, GRID, GRID), np.float32)
        look[0] = cell_differences(frame.grey, scene.picture, scene.noise, across, down, cell)
        if scene.colour is not None and frame.chroma is not None and scene.colour.picture.ndim == 2:
            half = frame.chroma.shape[1]
            for p in range(2):
                rows = slice(p * half, (p + 1) * half)
                planes = frame.chroma[p], scene.colour.picture[rows], scene.colour.noise[rows]
                if planes[0].shape == planes[1].shape:
                    look[1 + p] = cell_differences(*planes, across / 2, down / 2, (cell[0] / 2, cell[1] / 2))
        return look, self._free(frame.index, int(leg.blob[row]), across, down)

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


def _made_whole(found: Detections, legs: list[Leg], extents: list[Extent | None]) -> Detections:
    """Boxes as far as their bodies reach, of those that are ends of bodies, with clear ends of their own, mostly."""
    box, changed = np.array(found.box), False
    for life in {leg.life for leg in legs}:
        mine = [(leg, extent) for leg, extent in zip(legs, extents, strict=True) if leg.life == life]
        grown = [(leg, extent) for leg, extent in mine if extent is not None and _gain(leg, extent)]
        edges = [extent.edge for _, extent in grown] + [0.0] * (len(mine) - len(grown))
        if not grown or np.median(edges) < EDGE or not _is_an_end(grown):
            continue
        for leg, extent in grown:
            box[leg.blob], changed = _whole_boxes(leg, extent, found.size), True
    return replace(found, box=box) if changed else found


def _is_an_end(grown: list[tuple[Leg, Extent]]) -> bool:
    """Whether what is seen of a life lies at an end of its body, in most of its legs."""
    leans = np.array([extent.lean(leg.share) for leg, extent in grown])
    across, down = float(np.median(np.abs(leans[:, 0]))), float(np.median(leans[:, 1]))
    if not np.median([leg.narrow for leg, _ in grown]):
        return abs(down) >= LEAN
    tall = float(np.median([leg.share[1] for leg, _ in grown]))
    return down >= LEAN or (across >= LEAN and down >= UPPER and tall < HALF)


def _gain(leg: Leg, extent: Extent) -> bool:
    """Whether what was lacking is there."""
    wide, tall = extent.box[2] - extent.box[0], extent.box[3] - extent.box[1]
    return tall > GAIN * leg.share[1] or (leg.narrow and wide > GAIN * leg.share[0])


def _whole_boxes(leg: Leg, extent: Extent, size: tuple[int, int]) -> Float:
    """The boxes of a leg with what lies beyond them on the sides where they lack something."""
    middle = (leg.box[:, :2] + leg.box[:, 2:]) / 2
    low, high = np.array(extent.box[:2]), np.array(extent.box[2:])
    whole = np.hstack([middle + low * leg.usual, middle + high * leg.usual])
    whole = np.hstack([np.minimum(whole[:, :2], leg.box[:, :2]), np.maximum(whole[:, 2:], leg.box[:, 2:])])
    if not leg.narrow:
        whole[:, [0, 2]] = leg.box[:, [0, 2]]
    return np.clip(whole, 0.0, np.tile(np.array(size, np.float64), 2))
