"""What goes along with a part of a body that is seen: the rest of it, though no one picture tells it from the ground.

Pictures laid over each other so that the body keeps its place show it ever more clearly, while the ground behind it
goes by and fades (Irani, Rousso and Peleg 1994, "Computing occluding and transparent motions", temporal integration).
The body is where the mean of many pictures differs from the empty scene, or where they differ from each other by less
or more than the ground does: ripples are missing where something floats. How much that is by chance is measured
around it. The box is then the one that holds most of it (the largest sum of a part of a table; Bentley 1984,
"Algorithm design techniques").
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter

from drover.core.bodies.grid import CELL, GRID, REACH, away, enough_known, line_at

__all__ = ["STRONGEST", "Extent", "extent_of", "what_goes_along"]

Float = NDArray[np.float64]
Mask = NDArray[np.bool_]
FURTHEST = 1.25  # bodies from it that its own end may be
MOST = 1.2  # bodies that it may be wide or high
CLEAR = 2.0  # times what chance gives, from which a cell speaks for the body
STRONGEST = 8.0  # times that, that a cell is counted for: a bright head is one part of it
LEAST_CELLS, AGREE = 4, 0.5  # cells that a body grows by, and the share of them that is clear
BEYOND = 5  # cells beyond an end, that it is held against
FLOOR = 0.05  # of the variance of the empty scene


@dataclass(frozen=True)
class Extent:
    """How far a body reaches: x1, y1, x2, y2 from the middle of what is seen, in bodies.

    ``edge`` is by what factor its least clear end stands out from what lies beyond.
    """

    box: tuple[float, float, float, float]
    edge: float

    def lean(self, share: tuple[float, float]) -> tuple[float, float]:
        """To which side, across and down, more of it lies of which a ``share`` (width, height) is seen: -1 to 1."""
        x1, y1, x2, y2 = self.box
        return _lean(-share[0] / 2 - x1, x2 - share[0] / 2), _lean(-share[1] / 2 - y1, y2 - share[1] / 2)


def _lean(before: float, after: float) -> float:
    """-1 where all lies before, 1 where all lies after; near 0 where that is little."""
    return (after - before) / (after + before + CELL)


def what_goes_along(looks: NDArray[np.float32], free: Mask) -> tuple[Float, Mask] | None:
    """How clearly each cell differs from the ground, 1 as by chance; and where that is known.

    ``looks`` (n, planes, GRID, GRID) are differences from the empty scene in multiples of its noise, laid over each
    other; ``free`` (n, GRID, GRID) says where nothing else is followed. None where there is too little ground.
    """
    known = enough_known(free)
    ground = known & away()
    if not ground.any():
        return None
    weight = free[:, None].astype(np.float32)
    many = np.maximum(free.sum(axis=0), 1)
    mean = (looks * weight).sum(axis=0) / many
    spread = (looks[:, 0] ** 2 * weight[:, 0]).sum(axis=0) / many - mean[0] ** 2
    planes = [plane for plane in mean if plane.any()] + [np.log(np.maximum(spread, 0.0) + FLOOR)]
    total = np.sum([_against(np.asarray(plane, np.float64), ground) for plane in planes], axis=0) / len(planes)
    share = np.maximum(uniform_filter(known.astype(np.float64), 3), 0.1)
    return uniform_filter(np.where(known, total, 0.0), 3) / share, known


def _against(plane: Float, ground: Mask) -> Float:
    """Squares of a plane in multiples of its spread over the ground."""
    middle = np.median(plane[ground])
    spread = 1.4826 * np.median(np.abs(plane[ground] - middle)) + 1e-3
    return ((plane - middle) / spread) ** 2


def extent_of(clear: Float, known: Mask, share: tuple[float, float], edges: Float | None = None) -> Extent | None:
    """How far the body reaches of which a ``share`` (width, height) of a usual one is seen; None where that is all.

    ``clear`` and ``known`` as of :func:`what_goes_along`; ``edges`` as ``clear``, from which its ends are told.
    """
    wide, tall = share
    seen = (line_at(-wide / 2), line_at(-tall / 2), line_at(wide / 2), line_at(tall / 2))
    core = (seen[0], seen[1], max(seen[2], seen[0] + 1), max(seen[3], seen[1] + 1))
    ground = known & away()
    level = max(1.0, float(np.median(clear[ground])) / 0.7, float(clear[ground].mean()))
    speaks = np.where(known, np.minimum(clear, STRONGEST * level) - CLEAR * level, -CLEAR * level / 2)
    whole = _largest_sum(speaks, core)
    if whole is None:
        return None
    grown = np.zeros_like(known)
    grown[whole[1] : whole[3], whole[0] : whole[2]] = True
    grown[core[1] : core[3], core[0] : core[2]] = False
    grown &= known
    if grown.sum() < LEAST_CELLS or (clear[grown] > CLEAR * level).mean() < AGREE:
        return None
    own = (-wide / 2, -tall / 2, wide / 2, tall / 2)
    ends = [at * CELL - REACH if at != was else mine for at, was, mine in zip(whole, core, own, strict=True)]
    return Extent(
        (ends[0], ends[1], ends[2], ends[3]), _least_edge(clear if edges is None else edges, known, core, whole)
    )


def _largest_sum(speaks: Float, core: tuple[int, int, int, int]) -> tuple[int, int, int, int] | None:
    """The part x1, y1, x2, y2 of the table around ``core`` with the largest sum outside that; None for none over 0."""
    table = speaks.copy()
    table[core[1] : core[3], core[0] : core[2]] = 0.0
    sums = np.zeros((GRID + 1, GRID + 1))
    sums[1:, 1:] = table.cumsum(axis=0).cumsum(axis=1)
    low, high, most = line_at(-FURTHEST), line_at(FURTHEST), int(MOST / CELL)
    x1, x2, y1, y2 = np.meshgrid(
        np.arange(max(low, core[2] - most), core[0] + 1), np.arange(core[2], min(high, core[0] + most) + 1),
        np.arange(max(low, core[3] - most), core[1] + 1), np.arange(core[3], min(high, core[1] + most) + 1),
        indexing="ij",
    )  # fmt: skip
    if x1.size == 0:
        return None
    total = sums[y2, x2] - sums[y1, x2] - sums[y2, x1] + sums[y1, x1]
    total[(x2 - x1 > most) | (y2 - y1 > most)] = -np.inf
    best = int(total.argmax())
    if total.flat[best] <= 0:
        return None
    return int(x1.flat[best]), int(y1.flat[best]), int(x2.flat[best]), int(y2.flat[best])


def _least_edge(clear: Float, known: Mask, core: tuple[int, int, int, int], whole: tuple[int, int, int, int]) -> float:
    """By what factor the outer third of what was gained at an end stands out from what lies beyond; the least one."""
    log = np.log(np.clip(clear, 0.3, 3 * STRONGEST))
    x1, y1, x2, y2 = whole
    edges: list[float] = []
    for axis, first, last in ((1, core[0], x1), (0, core[1], y1)):
        if last < first:
            third = max(1, -(-(first - last) // 3))
            edges.append(_apart(log, known, axis, whole, (last, last + third), (last - BEYOND, last)))
    for axis, first, last in ((1, core[2], x2), (0, core[3], y2)):
        if last > first:
            third = max(1, -(-(last - first) // 3))
            edges.append(_apart(log, known, axis, whole, (last - third, last), (last, last + BEYOND)))
    return min(edges, default=0.0)


def _apart(
    log: Float, known: Mask, axis: int, whole: tuple[int, int, int, int], inner: tuple[int, int], outer: tuple[int, int]
) -> float:
    """Factor between two bands of cells that lie across an axis; 0 where either is not known."""
    means: list[float] = []
    for first, past in (inner, outer):
        band = slice(max(first, 0), min(past, GRID))
        part = (slice(whole[1], whole[3]), band) if axis == 1 else (band, slice(whole[0], whole[2]))
        inside = log[part][known[part]]
        if len(inside) < LEAST_CELLS:
            return 0.0
        means.append(float(inside.mean()))
    return float(np.exp(means[0] - means[1]))
