"""Snow, bubbles and whatever else drifts through the whole picture in great number, told from bodies.

A flake travels and is followed as well as any body; what tells it is the company it keeps: there are many, all over
the picture, all fall (or rise) one way, and whatever else moves is far larger. Only where all of that holds is anything
taken for weather, so that runners along a road and a queue in a lane stay.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.geometry import box_area
from drover.core.track.travel import travelled
from drover.core.types import Detections, Tracks

__all__ = ["Weather", "drifting", "weather_in"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
FAR = 5.0  # own sizes that one must come to say anything of its way
ONE_WAY = np.cos(np.radians(30.0))  # about their common way, within which they go
UPRIGHT = np.cos(np.radians(60.0))  # about straight down or up, within which the common way lies
LEAST, LEAST_AT_ONCE = 30, 5.0  # identities, and of them in a picture at the mean
SHARE = 0.8  # of all that go far
LARGER = 3.0  # that bodies are than these, by their sides
LEAST_BODIES, LEAST_LIFE = 2, 0.1  # who are larger, and the share of the pictures that such a one is seen in
CELLS, LEAST_CELLS = 4, 7  # of a side of where things move, and of all the cells those that these go through
LARGEST = 0.9  # quantile of their sides, under which nobody tells another thing from one of them


@dataclass(frozen=True)
class _Paths:
    """Of each path its side px, its rows, how far it came in own sizes, and its way (paths, 2) of length 1 (or 0)."""

    side: Float
    rows: Int
    moved: Float
    way: Float


@dataclass(frozen=True)
class Weather:
    """Which detections (rows,) drift, how many identities they are, and the side px under which nothing is a body."""

    rows: NDArray[np.bool_]
    identities: int
    least_body: float


def weather_in(tracks: Tracks, detections: Detections) -> Weather | None:
    """What of the detections is weather, ``tracks`` being those linked; None where not all of the evidence is there.

    What is linked to a flake but as large as a body is one that it fell before.
    """
    which, least_body = drifting(tracks)
    if not which.any():
        return None
    out = np.zeros(len(detections), np.bool_)
    drifts = np.isin(tracks.identity, tracks.paths.identity[which]) & (tracks.detection >= 0)
    out[tracks.detection[drifts]] = True
    return Weather(out & (_sides(detections.box) < least_body), int(which.sum()), least_body)


def drifting(tracks: Tracks) -> tuple[NDArray[np.bool_], float]:
    """(paths,) which of them drift through the picture as snow does, and the side px that tells a body from them."""
    count = len(tracks.paths.identity)
    nothing = np.zeros(count, np.bool_), 0.0
    if count < LEAST:
        return nothing
    of = _measured(tracks)
    goes = of.moved >= FAR
    if goes.sum() < LEAST:
        return nothing
    # The smaller half of what goes far gives the way: where there is weather that is nothing else.
    few = goes & (of.side <= np.median(of.side[goes]))
    common = of.way[few].mean(axis=0)
    length = float(np.hypot(*common))
    if length == 0 or abs(common[1]) < UPRIGHT * length:
        return nothing
    drifts = goes & (of.way @ (common / length) >= ONE_WAY)
    if not _many(of, drifts, goes, tracks.frame_count):
        return nothing
    usual = float(np.median(of.side[drifts]))
    bodies = ~drifts & (of.side >= LARGER * usual) & (of.rows >= LEAST_LIFE * tracks.frame_count)
    if bodies.sum() < LEAST_BODIES or _cells(tracks, drifts) < LEAST_CELLS:
        return nothing
    least_body = float(np.sqrt(usual * np.median(of.side[bodies])))
    largest = float(np.quantile(of.side[drifts], LARGEST))
    return (drifts & (of.side < least_body)) | (of.side <= largest), least_body


def _many(of: _Paths, drifts: NDArray[np.bool_], goes: NDArray[np.bool_], frames: int) -> bool:
    """Whether those are enough, at once and beside all others that go far."""
    return bool(
        drifts.sum() >= max(LEAST, SHARE * goes.sum()) and of.rows[drifts].sum() >= LEAST_AT_ONCE * max(frames, 1)
    )


def _sides(box: NDArray[np.floating]) -> Float:
    """(rows,) px: the side of a square as large as each box (rows, 4)."""
    return np.sqrt(box_area(box.astype(np.float64)))


def _measured(tracks: Tracks) -> _Paths:
    paths = tracks.paths
    first, last = paths.row[paths.start[:-1]], paths.row[paths.start[1:] - 1]
    box = tracks.box.astype(np.float64)
    middle = (box[:, :2] + box[:, 2:]) / 2
    way = middle[last] - middle[first]
    length = np.hypot(way[:, 0], way[:, 1])
    one = _sides(box)[paths.row]
    side = np.array([np.median(each) for each in np.split(one, paths.start[1:-1])])
    return _Paths(side, np.diff(paths.start), travelled(tracks), way / np.maximum(length, 1e-6)[:, None])


def _cells(tracks: Tracks, which: NDArray[np.bool_]) -> int:
    """Through how many cells of where things move at all those paths go."""
    paths = tracks.paths
    middle = (tracks.box[paths.row, :2] + tracks.box[paths.row, 2:]).astype(np.float64) / 2
    low, high = middle.min(axis=0), middle.max(axis=0)
    cell = np.clip((middle - low) / np.maximum(high - low, 1e-6) * CELLS, 0, CELLS - 1).astype(np.int64)
    rows = np.repeat(which, np.diff(paths.start))
    return len(np.unique(cell[rows] @ np.array([1, CELLS])))
