"""Where objects come into the picture and leave it, besides its edge: a gap, a doorway, the far end of a path.

Drawn by hand, or learned from where tracks begin and end.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.geometry import convex_hull, inside_polygons
from drover.core.settings.base import Points
from drover.core.types import Tracks

__all__ = ["in_exits", "learn_exits"]

CELLS = 24  # across the picture
NEAR_EDGE = 1.0  # sizes: nearer to the picture's edge nothing needs learning
LEAST_ENDS = 3  # tracks that must begin or end in a region
LEAST_SHARE = 0.4  # of the tracks that pass through a region that must begin or end there
MOST_LEARNT = 12


def in_exits(points: NDArray[np.float64], exits: tuple[Points, ...], size: tuple[int, int]) -> NDArray[np.bool_]:
    """Which points (n, 2) px lie in one of the exits, polygons in fractions of the frame ``size`` px."""
    if not exits or len(points) == 0:
        return np.zeros(len(points), np.bool_)
    return inside_polygons(points / np.asarray(size, np.float64), exits)


def learn_exits(tracks: Tracks) -> tuple[Points, ...]:
    """Polygons, in fractions, in which most tracks that come there begin or end, away from the picture's edge.

    Beginnings and ends (not those at the clip's own ends) are counted on a coarse grid; neighbouring cells are taken
    together, and kept where at least three tracks and two fifths of those passing begin or end.
    """
    if len(tracks) == 0:
        return ()
    ends, who = _ends(tracks)
    if len(ends) < LEAST_ENDS:
        return ()
    width, height = tracks.size
    cell = width / CELLS
    shape = (int(np.ceil(height / cell)), CELLS)
    grid = np.zeros(shape, np.int64)
    place = np.minimum((ends / cell).astype(np.int64), np.array(shape[::-1]) - 1)
    np.add.at(grid, (place[:, 1], place[:, 0]), 1)
    from scipy import ndimage  # here: a start without it is a fifth of a second shorter

    near = ndimage.binary_dilation(grid > 0, np.ones((3, 3)))
    region, count = ndimage.label(near, np.ones((3, 3)))  # type: ignore[misc]
    out: list[tuple[int, Points]] = []
    middle = (tracks.box[:, :2] + tracks.box[:, 2:]) / 2
    at = np.clip((middle / cell).astype(np.int64), 0, np.array(shape[::-1]) - 1)
    passes = region[at[:, 1], at[:, 0]]
    for number in range(1, int(count) + 1):
        mine = region[place[:, 1], place[:, 0]] == number
        passing = len(np.unique(tracks.identity[passes == number]))
        ending = len(np.unique(who[mine]))
        if ending >= LEAST_ENDS and ending >= LEAST_SHARE * passing:
            out.append((ending, _around(ends[mine], 0.5 * cell, (width, height))))
    return tuple(polygon for _, polygon in sorted(out, key=lambda one: -one[0])[:MOST_LEARNT])


def _ends(tracks: Tracks) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Centres (n, 2) px of beginnings and ends inside the picture and the clip, and whose they are."""
    paths = tracks.paths
    rows = np.concatenate([paths.row[paths.start[:-1]], paths.row[paths.start[1:] - 1]])
    frame, box = tracks.frame[rows], tracks.box[rows].astype(np.float64)
    size = box[:, 2:] - box[:, :2]
    room, limit = NEAR_EDGE * size, np.array(tracks.size, np.float64)
    inside = (box[:, :2] > room).all(axis=1) & (box[:, 2:] < limit - room).all(axis=1)
    keep = inside & (frame > 2) & (frame < tracks.frame_count - 3)
    return (box[keep, :2] + box[keep, 2:]) / 2, tracks.identity[rows[keep]]


def _around(points: NDArray[np.float64], margin: float, size: tuple[int, int]) -> Points:
    """Convex outline ``margin`` px around points, in fractions."""
    ring = np.array([[np.cos(a), np.sin(a)] for a in np.linspace(0, 2 * np.pi, 8, endpoint=False)]) * margin
    hull = convex_hull((points[:, None] + ring[None]).reshape(-1, 2)) / np.array(size, np.float64)
    return tuple((round(float(x), 4), round(float(y), 4)) for x, y in np.clip(hull, 0.0, 1.0))
