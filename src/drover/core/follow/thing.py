"""What is to be followed: a picture of it, its outline there, and points by which it is found again."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import DroverError
from drover.core.features.binary import describe_binary
from drover.core.features.corners import segment_corners
from drover.core.features.points import Points
from drover.core.features.pyramid import Grey, smoothed
from drover.core.features.scales import find_points

__all__ = ["Thing", "thing_from_box", "thing_from_picture"]

Float = NDArray[np.float64]
LEAST_SIDE = 12  # px a side of a box
LEAST_POINTS = 12
MOST_POINTS = 400
MARGIN = 0.25  # of a box's longer side that is kept round it: what lies there helps to describe its rim
RUNGS = 8
LEAST_CONTRAST = 3.0  # levels, standard deviation inside the box
AROUND = 0.7  # sides of a box that its surroundings reach
ALIKE = 0.6  # of the brightness of a box that its surroundings share, from which they look alike
FAINT = 8  # levels from which corners are looked at
SHARP, SHARPER = 0.9, 1.5  # quantile of the corners that is compared, and by how much sharper those of a thing are
LARGEST = 4096  # px a side of a picture that is loaded


@dataclass(frozen=True)
class Thing:
    """``grey`` a picture with the thing; ``outline`` (4, 2) px its corners there, clockwise; ``points`` on it with
    their descriptions (n, 4) uint64.
    """

    grey: Grey
    outline: Float
    points: Points
    descriptions: NDArray[np.uint64]

    @property
    def side(self) -> float:
        """px, the root of the outline's area."""
        x, y = self.outline.T
        return float(np.sqrt(0.5 * abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1)))))


def thing_from_box(grey: Grey, box: tuple[float, float, float, float]) -> Thing:
    """The thing in a box (x1, y1, x2, y2) px of a picture (height, width) uint8.

    Raises
    ------
    DroverError
        When the box has no size, lies outside, or shows too little to be found again: with the reason.
    """
    height, width = grey.shape
    x1, y1, x2, y2 = (float(side) for side in box)
    if not np.isfinite([x1, y1, x2, y2]).all():
        raise DroverError("the box lies nowhere; draw it on the thing")
    x1, x2 = sorted((min(max(x1, 0.0), width), min(max(x2, 0.0), width)))
    y1, y2 = sorted((min(max(y1, 0.0), height), min(max(y2, 0.0), height)))
    if x2 - x1 < LEAST_SIDE or y2 - y1 < LEAST_SIDE:
        raise DroverError(
            f"the box is {x2 - x1:.0f} × {y2 - y1:.0f} px in the picture: too small to be known again; "
            f"at least {LEAST_SIDE} px each way are needed"
        )
    room = MARGIN * max(x2 - x1, y2 - y1)
    left, top = int(max(x1 - room, 0)), int(max(y1 - room, 0))
    part = np.ascontiguousarray(grey[top : int(min(y2 + room, height)) + 1, left : int(min(x2 + room, width)) + 1])
    outline = np.array([[x1, y1], [x2, y1], [x2, y2], [x1, y2]]) - (left, top)
    made = _thing(part, outline)
    if not _stands_out(grey, np.array([x1, y1, x2, y2])):
        raise DroverError(
            "the box shows the same as what lies round it, a patch of plain ground: nothing on it would be known "
            "again; draw it on the thing"
        )
    return made


def _stands_out(grey: Grey, box: Float) -> bool:
    """Whether a box holds something else than its surroundings: other brightness, or sharper corners than elsewhere."""
    height, width = grey.shape
    side = box[2:] - box[:2]
    low = np.maximum(box[:2] - AROUND * side, 0).astype(int)
    high = np.minimum(box[2:] + AROUND * side, (width, height)).astype(int)
    calm = smoothed(np.ascontiguousarray(grey[low[1] : high[1], low[0] : high[0]]))
    inner = np.zeros(calm.shape, np.bool_)
    a, b = (box[:2] - low).astype(int), np.ceil(box[2:] - low).astype(int)
    inner[a[1] : b[1], a[0] : b[0]] = True
    if inner.all():
        return True
    both = [np.bincount(calm[part] // 8, minlength=32) / max(part.sum(), 1) for part in (inner, ~inner)]
    if float(np.minimum(*both).sum()) < ALIKE:
        return True
    everywhere = segment_corners(grey, FAINT)
    inside = ((everywhere[:, :2] > box[:2]) & (everywhere[:, :2] < box[2:])).all(axis=1)
    if inside.sum() < LEAST_POINTS or inside.all():
        return bool(inside.all())
    usual = float(np.quantile(everywhere[~inside, 2], SHARP))
    return float(np.quantile(everywhere[inside, 2], SHARP)) >= SHARPER * usual


def thing_from_picture(grey: Grey) -> Thing:
    """The thing that fills a picture of it.

    Raises
    ------
    DroverError
        When the picture is tiny, huge, or shows too little.
    """
    height, width = grey.shape
    if min(height, width) < LEAST_SIDE:
        raise DroverError(f"the picture is {width} × {height} px: too small to be known again")
    if max(height, width) > LARGEST:
        raise DroverError(f"the picture is {width} × {height} px; make it at most {LARGEST} px a side")
    return _thing(grey, np.array([[0, 0], [width, 0], [width, height], [0, height]], np.float64))


def _thing(grey: Grey, outline: Float) -> Thing:
    low, high = outline.min(axis=0).astype(int), np.ceil(outline.max(axis=0)).astype(int)
    inner = grey[low[1] : high[1], low[0] : high[0]]
    if float(inner.std()) < LEAST_CONTRAST:
        raise DroverError("the box shows a plain patch: there is nothing on it to be known again; draw it on the thing")
    inside = np.zeros(grey.shape, np.bool_)
    inside[low[1] : high[1], low[0] : high[0]] = True
    points = find_points(grey, "segment", most=MOST_POINTS, rungs=RUNGS, inside=inside)
    distinct = _distinct(points, describe_binary(grey, points), float(np.sqrt(inner.size)))
    if distinct.sum() < LEAST_POINTS:
        raise DroverError(
            f"only {int(distinct.sum())} places in the box can be told apart, {LEAST_POINTS} are needed: it is too "
            "plain, too small or too blurred; draw the box where there is more to see"
        )
    kept = points.take(distinct)
    return Thing(grey, outline, kept, describe_binary(grey, kept))


def _distinct(points: Points, described: NDArray[np.uint64], side: float) -> NDArray[np.bool_]:
    """Points that stand out clearly: grass gives many corners, each hardly over the noise and like its neighbours."""
    if not len(points):
        return np.zeros(0, np.bool_)
    strong = points.strength >= max(STANDS_OUT, 0.15 * float(np.quantile(points.strength, 0.9)))
    bits = np.unpackbits(described.view(np.uint8), axis=1).astype(np.float32)
    ones = bits.sum(axis=1)
    apart = ones[:, None] + ones[None] - 2 * (bits @ bits.T)
    far = np.hypot(*np.moveaxis(points.place[:, None] - points.place[None], -1, 0)) > 0.1 * side
    twin = ((apart <= TWIN) & far).any(axis=1)
    return strong & ~twin


STANDS_OUT = 10.0  # levels that a corner's ring must differ
TWIN = 20  # bits by which two points may differ and be one and the same look
