"""A picture in a ladder of sizes, and points on every rung, so that a thing is found nearer and farther away."""

from __future__ import annotations

from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from drover.core.features.corners import eigen_corners, segment_corners
from drover.core.features.points import Points, join_points, no_points, spread
from drover.core.features.pyramid import Grey, resized, smoothed
from drover.core.features.scale_blobs import scale_blobs
from drover.core.features.turns import turns_of

__all__ = ["DETECTORS", "PATCH", "SEGMENT_FROM", "STEP", "DetectorName", "find_points", "ladder", "rung_of"]

DetectorName = Literal["segment", "eigen", "blobs"]
DETECTORS: tuple[DetectorName, ...] = get_args(DetectorName)
STEP = 1.25  # by how much each rung is smaller
PATCH = 31  # px of a rung that a point is described by
LEAST_SIDE = 2 * PATCH  # px a side of the smallest rung
SEGMENT_FROM, SEGMENT_LEAST = 24, 6  # levels: the threshold begins high and goes down until there are enough points
MANY = 1.5  # times what is wanted

Float = NDArray[np.float64]


def ladder(grey: Grey, rungs: int) -> list[Grey]:
    """The picture and up to ``rungs`` - 1 ever smaller ones, each 1.25 times smaller than the one before."""
    out = [np.ascontiguousarray(grey)]
    height, width = grey.shape
    for k in range(1, rungs):
        rows, columns = round(height / STEP**k), round(width / STEP**k)
        if min(rows, columns) < LEAST_SIDE:
            break
        out.append(resized(out[-1], rows, columns))
    return out


def rung_of(size: Float, rungs: int) -> NDArray[np.int64]:
    """The rung of a ladder on which points of some size (n,) px are as large as a patch, (n,)."""
    rung = np.rint(np.log(np.maximum(size, 1e-3) / PATCH) / np.log(STEP)).astype(np.int64)
    return np.clip(rung, 0, rungs - 1)


def find_points(
    grey: Grey,
    detector: DetectorName = "segment",
    *,
    most: int = 1000,
    rungs: int = 1,
    inside: NDArray[np.bool_] | None = None,
) -> Points:
    """At most ``most`` points of a picture (height, width) uint8, spread over it, with size and direction.

    ``rungs`` sizes of the picture are looked through; blobs have sizes of their own and need one. ``inside`` (height,
    width) leaves out what lies elsewhere. None at all in a picture without texture.
    """
    size = grey.shape[1], grey.shape[0]
    if detector == "blobs":
        found = _kept(scale_blobs(grey, most=4 * most), inside)
        chosen = spread(found, size, most)
        steps = ladder(grey, 12)
        return _turned(chosen, steps)
    steps, parts = ladder(grey, rungs), []
    share = np.array([STEP ** (-2.0 * k) for k in range(len(steps))])
    wanted = np.maximum(most * share / share.sum(), 16)
    for k, step in enumerate(steps):
        found = _on_rung(step, detector, int(MANY * wanted[k]))
        if not len(found):
            continue
        zoom = np.array([size[0] / step.shape[1], size[1] / step.shape[0]])
        full = np.full(len(found), PATCH * STEP**k)
        part = _kept(Points(found[:, :2] * zoom, found[:, 2], full, np.zeros(len(found))), inside)
        parts.append(spread(part, size, int(wanted[k])))
    return _turned(join_points(parts), steps) if parts else no_points()


def _on_rung(step: Grey, detector: DetectorName, wanted: int) -> Float:
    """Corners of one size of the picture."""
    if detector == "eigen":
        return eigen_corners(step)
    threshold = SEGMENT_FROM
    found = segment_corners(step, threshold)
    while len(found) < wanted and threshold > SEGMENT_LEAST:
        threshold = max(SEGMENT_LEAST, threshold // 2)
        found = segment_corners(step, threshold)
    return found


def _kept(points: Points, inside: NDArray[np.bool_] | None) -> Points:
    if inside is None or not len(points):
        return points
    at = points.place.astype(np.int64)
    rows, columns = (np.clip(at[:, 1], 0, inside.shape[0] - 1), np.clip(at[:, 0], 0, inside.shape[1] - 1))
    return points.take(inside[rows, columns])


def _turned(points: Points, steps: list[Grey]) -> Points:
    """The points with their direction, each taken from the rung that it belongs to."""
    turn = np.zeros(len(points))
    for rows, step, zoom in by_rung(points, steps):
        turn[rows] = turns_of(smoothed(step), points.place[rows] / zoom)
    return Points(points.place, points.strength, points.size, turn)


def by_rung(points: Points, steps: list[Grey]) -> list[tuple[NDArray[np.int64], Grey, Float]]:
    """Rows of the points of each rung that has any, that rung, and by what (x, y) it is smaller than the picture."""
    rung, out = rung_of(points.size, len(steps)), []
    for k in np.unique(rung).tolist():
        zoom = np.array([steps[0].shape[1] / steps[k].shape[1], steps[0].shape[0] / steps[k].shape[0]])
        out.append((np.flatnonzero(rung == k), steps[k], zoom))
    return out
