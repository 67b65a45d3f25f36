"""A view that others are held against: some of its points with their patches, and how far each may be trusted."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from drover.core.features.binary import describe_binary
from drover.core.features.flow import Patches, take_patches
from drover.core.features.matching import match
from drover.core.features.models import apply, inverse
from drover.core.features.points import Points, spread
from drover.core.features.pyramid import Grey
from drover.core.features.scales import find_points

__all__ = ["CELLS", "KeyView", "cells_of", "take_view"]

Float = NDArray[np.float64]
POINTS = 240
CELLS = (12, 7)  # of the grid over which points are spread, across and down
LEAST_POINTS = 24  # under which a picture shows too little
TWIN, FAR = 24, 0.03  # bits by which two points may differ to be alike, and share of the width by which they are apart
REPEATS = 0.5  # share of the points with a twin elsewhere from which a picture repeats itself
TRIED = 12  # frames after which a point is judged
OFTEN = 0.35  # of them it must have agreed


@dataclass
class KeyView:
    """Points of a picture (working px) with their patches; ``pose`` (3, 3) takes its px to the scene's.

    ``agreed`` and ``tried`` (n,) count the frames in which each point was where the camera's motion put it.
    """

    patches: Patches
    pose: Float
    grey: Grey
    repeats: bool
    agreed: NDArray[np.int64] = field(init=False)
    tried: NDArray[np.int64] = field(init=False)
    points: Points | None = None
    descriptions: NDArray[np.uint64] | None = None

    def __post_init__(self) -> None:
        self.agreed = np.zeros(len(self.patches), np.int64)
        self.tried = np.zeros(len(self.patches), np.int64)

    def count(self, rows: NDArray[np.int64], agrees: NDArray[np.bool_]) -> None:
        """Remember which of some points agreed."""
        self.tried[rows] += 1
        self.agreed[rows] += agrees

    @property
    def trusted(self) -> NDArray[np.bool_]:
        """Points that belong to the ground as far as is known: what keeps its own way is no part of it."""
        return (self.tried < TRIED) | (self.agreed >= OFTEN * self.tried)

    def forget_old(self) -> None:
        """Let what was long ago count for less: what stood in front may have gone."""
        old = self.tried > 16 * TRIED
        self.tried[old] //= 2
        self.agreed[old] //= 2

    def described(self) -> tuple[Points, NDArray[np.uint64]]:
        """Points of several sizes with descriptions, to find this view again from elsewhere; made when first asked."""
        if self.points is None or self.descriptions is None:
            self.points = find_points(self.grey, "segment", most=500, rungs=6)
            self.descriptions = describe_binary(self.grey, self.points)
        return self.points, self.descriptions


def take_view(pictures: list[Grey], pose: Float) -> KeyView | None:
    """A view of a picture and its halves; None where it shows too little to be followed."""
    grey = pictures[0]
    size = grey.shape[1], grey.shape[0]
    found = spread(find_points(grey, "segment", most=2 * POINTS), size, 2 * POINTS, CELLS)
    patches = take_patches(pictures, found.place)
    firm = patches.firm[0]
    strong = spread(found.take(firm), size, POINTS, CELLS)
    if len(strong) < LEAST_POINTS:
        return None
    patches = take_patches(pictures, strong.place)
    return KeyView(patches, pose, grey, _repeats(grey, strong))


def _repeats(grey: Grey, points: Points) -> bool:
    """Whether most points look like another one elsewhere: then a motion by one repeat cannot be told from none."""
    described = describe_binary(grey, points)
    bits = np.unpackbits(described.view(np.uint8), axis=1).astype(np.int16)
    apart = (
        bits.sum(axis=1)[:, None] + bits.sum(axis=1)[None] - 2 * (bits.astype(np.float32) @ bits.T.astype(np.float32))
    )
    far = np.hypot(*np.moveaxis(points.place[:, None] - points.place[None], -1, 0)) > FAR * grey.shape[1]
    return bool(((apart <= TWIN) & far).any(axis=1).mean() > REPEATS)


def cells_of(place: Float, size: tuple[int, int]) -> NDArray[np.int64]:
    """The cell of the grid that each place (n, 2) px lies in, (n,)."""
    cell = np.clip((place / size * CELLS).astype(np.int64), 0, np.array(CELLS) - 1)
    return cell[:, 1] * CELLS[0] + cell[:, 0]


def found_again(view: KeyView, grey: Grey) -> tuple[Float, Float] | None:
    """Pairs of places, in the view and in another picture, that look alike; None where there are hardly any."""
    points, described = view.described()
    now = find_points(grey, "segment", most=500, rungs=6)
    pairs = match(described, describe_binary(grey, now))
    if len(pairs) < LEAST_POINTS // 2:
        return None
    return points.place[pairs[:, 0]], now.place[pairs[:, 1]]


def overlap_of(view: KeyView, pose: Float, size: tuple[int, int]) -> float:
    """What share of a view's points lies in a picture at ``pose``, 0..1."""
    there = apply(inverse(pose) @ view.pose, view.patches.place)
    return float(((there > 0) & (there < size)).all(axis=1).mean())
