"""Boxes, polylines and outlines: plain geometry that every stage may use."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = [
    "box_area", "box_foot", "box_reference", "convex_hull", "inside_polygons", "overlap_matrix", "pair_overlap",
    "points_inside", "side_of_line",
    "simplify_outline", "trace_outlines",
]  # fmt: skip


@njit(cache=True, nogil=True, inline="always")
def pair_overlap(a: NDArray[np.floating], i: int, b: NDArray[np.floating], j: int) -> float:  # pragma: no cover
    """Overlap of box ``i`` of ``a`` with box ``j`` of ``b``, for loops that need only some pairs."""
    width = min(a[i, 2], b[j, 2]) - max(a[i, 0], b[j, 0])
    height = min(a[i, 3], b[j, 3]) - max(a[i, 1], b[j, 1])
    if width <= 0 or height <= 0:
        return 0.0
    shared = width * height
    mine = (a[i, 2] - a[i, 0]) * (a[i, 3] - a[i, 1])
    other = (b[j, 2] - b[j, 0]) * (b[j, 3] - b[j, 1])
    return shared / max(mine + other - shared, 1e-9)


@njit(cache=True, nogil=True)
def overlap_matrix(a: NDArray[np.float32], b: NDArray[np.float32]) -> NDArray[np.float64]:  # pragma: no cover
    """Overlap (intersection over union) of every box of ``a`` with every box of ``b``.

    Parameters
    ----------
    a, b : (n, 4), (m, 4) float, px
        Boxes x1, y1, x2, y2.

    Returns
    -------
    (n, m) float64, fraction; 0 where the union is empty
    """
    out = np.zeros((a.shape[0], b.shape[0]))
    for i in range(a.shape[0]):
        for j in range(b.shape[0]):
            out[i, j] = pair_overlap(a, i, b, j)
    return out


def inside_polygons(
    points: NDArray[np.float64], polygons: tuple[tuple[tuple[float, float], ...], ...]
) -> NDArray[np.bool_]:
    """Which points (n, 2) lie in at least one polygon, by the even-odd rule; both in the same units."""
    inside = np.zeros(len(points), np.bool_)
    x, y = np.ascontiguousarray(points[:, 0], np.float64), np.ascontiguousarray(points[:, 1], np.float64)
    for polygon in polygons:
        inside |= points_inside(x, y, np.asarray(polygon, np.float64))
    return inside


@njit(cache=True, nogil=True)
def points_inside(
    x: NDArray[np.float64], y: NDArray[np.float64], corners: NDArray[np.float64]
) -> NDArray[np.bool_]:  # pragma: no cover
    """Which points lie in a polygon (n, 2), by the even-odd rule; all in the same units."""
    out = np.zeros(x.shape[0], np.bool_)
    low_x, high_x = corners[:, 0].min(), corners[:, 0].max()
    low_y, high_y = corners[:, 1].min(), corners[:, 1].max()
    n = corners.shape[0]
    for i in range(x.shape[0]):
        if x[i] < low_x or x[i] > high_x or y[i] < low_y or y[i] > high_y:
            continue
        odd = False
        for s in range(n):
            x1, y1 = corners[s, 0], corners[s, 1]
            x2, y2 = corners[(s + 1) % n, 0], corners[(s + 1) % n, 1]
            if (y1 <= y[i]) != (y2 <= y[i]) and x[i] < x1 + (y[i] - y1) / (y2 - y1) * (x2 - x1):
                odd = not odd
        out[i] = odd
    return out


def convex_hull(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Corners (n, 2) of the convex hull of points (m, 2), in order (monotone chain, Andrew 1979)."""
    order = sorted(set(map(tuple, np.asarray(points, np.float64).tolist())))
    if len(order) <= 2:
        return np.array(order).reshape(-1, 2)

    def half(ordered: list[tuple[float, ...]]) -> list[tuple[float, ...]]:
        out: list[tuple[float, ...]] = []
        for x, y in ordered:
            while len(out) >= 2:
                (ax, ay), (bx, by) = out[-2], out[-1]
                if (bx - ax) * (y - ay) - (by - ay) * (x - ax) > 0:
                    break
                out.pop()
            out.append((x, y))
        return out[:-1]

    return np.array(half(order) + half(order[::-1]))


def box_area(box: NDArray[np.floating]) -> NDArray[np.float64]:
    """Area of each box (n, 4) px, (n,) float64, px²."""
    return (box[:, 2:] - box[:, :2]).prod(axis=1, dtype=np.float64)


def box_foot(box: NDArray[np.float32]) -> NDArray[np.float64]:
    """Foot of each box: the middle of its bottom edge, (n, 2) float64, px."""
    return box_reference(box, "foot")


def box_reference(box: NDArray[np.float32], reference: str) -> NDArray[np.float64]:
    """Reference point of each box: the middle of a side, or of the box.

    Parameters
    ----------
    box : (n, 4) float, px
    reference : "foot" (bottom), "centre", "top", "left" or "right"

    Returns
    -------
    (n, 2) float64, px
    """
    wide = np.asarray(box, np.float64)
    x = {"left": wide[:, 0], "right": wide[:, 2]}.get(reference, (wide[:, 0] + wide[:, 2]) / 2)
    y = {"foot": wide[:, 3], "top": wide[:, 1]}.get(reference, (wide[:, 1] + wide[:, 3]) / 2)
    return np.column_stack([x, y])


def side_of_line(x: float, y: float, start: tuple[float, float], end: tuple[float, float]) -> float:
    """Side of the directed line start -> end on which (x, y) lies; forward is from negative to positive."""
    return (end[0] - start[0]) * (y - start[1]) - (end[1] - start[1]) * (x - start[0])


def trace_outlines(runs: NDArray[np.int16]) -> list[NDArray[np.float32]]:
    """Outer outlines of a blob's pieces, along its pixel edges, in the order of their first runs.

    Walks each boundary with the blob on the right hand, from the top-left corner of the piece's first run;
    the walk turns left where it may, so pixels joined only at a corner stay one outline.

    Parameters
    ----------
    runs : (n, 3) int16
        y, first x, one past the last x; sorted by y, then x.

    Returns
    -------
    list of (points, 2) float32, px; corners only, closed implicitly; empty for an empty blob
    """
    if len(runs) == 0:
        return []
    points, starts = _walk_boundaries(runs)
    return [points[a:b] for a, b in pairwise(starts.tolist())]


@njit(cache=True, nogil=True)
def _walk_boundaries(runs: NDArray[np.int16]) -> tuple[NDArray[np.float32], NDArray[np.int64]]:  # pragma: no cover
    """Corners of the outer boundaries of all pieces, clockwise on screen, and where each begins."""
    y0, x0 = np.int64(runs[:, 0].min()) - 1, np.int64(runs[:, 1].min()) - 1
    mask = np.zeros((runs[:, 0].max() - y0 + 2, runs[:, 2].max() - x0 + 1), np.uint8)
    for k in range(len(runs)):
        mask[runs[k, 0] - y0, runs[k, 1] - x0 : runs[k, 2] - x0] = 1
    out = np.empty((4 * len(runs) + 4, 2), np.float32)  # a run has two ends, each with two corners
    starts = np.zeros(len(runs) + 1, np.int64)
    pieces, count = 0, 0
    stack = np.empty((mask.size, 2), np.int64)
    for k in range(len(runs)):
        x, y = runs[k, 1] - x0, runs[k, 0] - y0
        if mask[y, x] != 1:
            continue
        starts[pieces], pieces = count, pieces + 1
        count = _walk_boundary(mask, x, y, out, count)
        _mark_piece(mask, x, y, stack)
    out[:count, 0] += x0
    out[:count, 1] += y0
    starts[pieces] = count
    return out[:count], starts[: pieces + 1]


@njit(cache=True, nogil=True)
def _mark_piece(mask: NDArray[np.uint8], x: int, y: int, stack: NDArray[np.int64]) -> None:  # pragma: no cover
    """Set a piece of a mask, with all that touches it by edge or corner, to 2."""
    stack[0, 0], stack[0, 1], depth = x, y, 1
    mask[y, x] = 2
    while depth > 0:
        depth -= 1
        cx, cy = stack[depth, 0], stack[depth, 1]
        for ny in range(cy - 1, cy + 2):
            for nx in range(cx - 1, cx + 2):
                if mask[ny, nx] == 1:
                    mask[ny, nx] = 2
                    stack[depth, 0], stack[depth, 1] = nx, ny
                    depth += 1


@njit(cache=True, nogil=True)
def _walk_boundary(
    mask: NDArray[np.uint8], x: int, y: int, out: NDArray[np.float32], count: int
) -> int:  # pragma: no cover
    """Append the corners of one piece's outer boundary to ``out``; returns how many there are then."""
    # Directions: 0 east, 1 south, 2 west, 3 north; the vertex (x, y) is the pixel's top-left corner.
    step_x = np.array([1, 0, -1, 0])
    step_y = np.array([0, 1, 0, -1])
    start_x, start_y = x, y
    out[count, 0], out[count, 1] = x, y
    count, direction = count + 1, 0
    while count < len(out):
        x += step_x[direction]
        y += step_y[direction]
        if x == start_x and y == start_y:
            break
        # Pixels around vertex (x, y): the one ahead on the right must stay inside, the left one outside.
        if direction == 0:
            right, left = mask[y, x], mask[y - 1, x]
        elif direction == 1:
            right, left = mask[y, x - 1], mask[y, x]
        elif direction == 2:
            right, left = mask[y - 1, x - 1], mask[y, x - 1]
        else:
            right, left = mask[y - 1, x], mask[y - 1, x - 1]
        turned = direction
        if right == 0 and left == 0:
            turned = (direction + 1) % 4
        elif left != 0:
            turned = (direction + 3) % 4
        if turned != direction:
            out[count, 0], out[count, 1] = x, y
            count += 1
            direction = turned
    return count


def simplify_outline(points: NDArray[np.float32], tolerance: float) -> NDArray[np.float32]:
    """Fewer corners for a closed outline, none of the others farther off than ``tolerance`` px.

    Ramer 1972 and Douglas and Peucker 1973, on the two halves between the first corner and the one farthest
    from it.

    Parameters
    ----------
    points : (n, 2) float32, px
    tolerance : float, px

    Returns
    -------
    (m, 2) float32, px, a subset in the same order
    """
    if len(points) < 5:
        return points
    return points[_kept_corners(np.ascontiguousarray(points, np.float64), tolerance)]


@njit(cache=True, nogil=True)
def _kept_corners(points: NDArray[np.float64], tolerance: float) -> NDArray[np.bool_]:  # pragma: no cover
    n = points.shape[0]
    keep = np.zeros(n, np.bool_)
    far, most = 0, -1.0
    for k in range(n):
        d = (points[k, 0] - points[0, 0]) ** 2 + (points[k, 1] - points[0, 1]) ** 2
        if d > most:
            far, most = k, d
    keep[0] = keep[far] = True
    stack = np.empty((2 * n + 4, 2), np.int64)
    stack[0], stack[1] = (0, far), (far, n)
    depth = 2
    while depth > 0:
        depth -= 1
        first, last = stack[depth]
        ax, ay = points[first]
        bx, by = points[last % n]
        length = np.sqrt((bx - ax) ** 2 + (by - ay) ** 2)
        worst, place = tolerance, -1
        for k in range(first + 1, last):
            px, py = points[k]
            if length == 0:
                d = np.sqrt((px - ax) ** 2 + (py - ay) ** 2)
            else:
                d = abs((bx - ax) * (py - ay) - (by - ay) * (px - ax)) / length
            if d > worst:
                worst, place = d, k
        if place >= 0:
            keep[place] = True
            stack[depth], stack[depth + 1] = (first, place), (place, last)
            depth += 2
    return keep
