"""The ground's measure: four points and the distances between them make metres of pixels.

The four points are laid out in the plane so that they fit the measured distances best (least squares); the
homography between picture and plane is then solved from the four pairs (Hartley and Zisserman 2003, 4.1). With both
diagonals measured there is one distance more than needed, and how badly they fit says how far to trust it all.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import DroverError
from drover.core.geometry import box_foot
from drover.core.recipe import GroundSettings
from drover.core.types import Tracks

__all__ = ["Ground", "ground_of", "path_lengths", "solve_homography", "speeds"]

Float = NDArray[np.float64]
PAIRS = ((0, 1), (1, 2), (2, 3), (3, 0), (0, 2), (1, 3))
HALF_WINDOW = 0.24  # s before and after over which a speed is taken


@dataclass(frozen=True)
class Ground:
    """A measure of the ground: ``matrix`` (3, 3) takes px to m.

    ``corners`` (4, 2) m is where the four points lie; ``misfit`` m is by how much the measured distances differ from
    theirs, ``misfit_px`` how far off that would put a point in the picture; both are NaN where nothing is over to
    check by.
    """

    matrix: Float
    corners: Float
    misfit: float
    misfit_px: float

    def metres(self, points: Float) -> Float:
        """Points (n, 2) px of the picture on the ground, (n, 2) m; NaN beyond the horizon."""
        return _mapped(self.matrix, points)


def ground_of(settings: GroundSettings, size: tuple[int, int]) -> Ground | None:
    """The measure that the settings give for a picture of ``size`` px; None where there is none.

    Raises
    ------
    DroverError
        When the points lie on one line, or the distances cannot belong together.
    """
    if not settings.points:
        return None
    pixels = np.asarray(settings.points, np.float64) * np.asarray(size, np.float64)
    measured = np.asarray(settings.distances, np.float64)
    corners = _layout(pixels, measured)
    matrix = solve_homography(pixels, corners)
    used = [k for k in range(6) if measured[k] > 0]
    misfit = misfit_px = float("nan")
    if len(used) == 6:
        got = np.array([np.linalg.norm(corners[a] - corners[b]) for a, b in PAIRS])
        misfit = float(np.abs(got - measured).max())
        misfit_px = _in_pixels(matrix, corners, misfit)
    return Ground(matrix, corners, misfit, misfit_px)


def _layout(pixels: Float, measured: Float) -> Float:
    """The four points in the plane, m: the first at the origin, the second along x."""
    side = measured[0]
    diagonal = measured[4] if measured[4] > 0 else float(np.hypot(side, measured[1]))
    # The picture seen from above keeps the order of the corners: start from a square of about the right size.
    along, aside = pixels[1] - pixels[0], pixels[3] - pixels[0]
    turn = np.sign(along[0] * aside[1] - along[1] * aside[0]) or 1.0
    start = np.array([side, diagonal / 1.5, turn * diagonal / 1.5, 0.0, turn * measured[3]])
    used = [k for k in range(6) if measured[k] > 0]

    def placed(free: Float) -> Float:
        return np.array([[0.0, 0.0], [free[0], 0.0], [free[1], free[2]], [free[3], free[4]]])

    def off(free: Float) -> Float:
        at = placed(free)
        return np.array([np.linalg.norm(at[a] - at[b]) - measured[k] for k, (a, b) in enumerate(PAIRS) if k in used])

    from scipy.optimize import least_squares  # here: it takes longer to load than most programs to start

    solved = least_squares(off, start)
    if np.abs(solved.fun).max() > 0.25 * measured.max():
        raise DroverError("the six distances cannot belong to four points on flat ground; measure them again")
    return placed(solved.x)


def solve_homography(source: Float, target: Float) -> Float:
    """The (3, 3) matrix that takes four or more points (n, 2) to others, at least squares of the algebraic error.

    Raises
    ------
    DroverError
        When the points do not span a plane.
    """
    rows = []
    for (x, y), (u, v) in zip(source.tolist(), target.tolist(), strict=True):
        rows.append([x, y, 1, 0, 0, 0, -u * x, -u * y, -u])
        rows.append([0, 0, 0, x, y, 1, -v * x, -v * y, -v])
    scale = np.array([1e-3, 1e-3, 1, 1e-3, 1e-3, 1, 1e-3, 1e-3, 1])
    table = np.asarray(rows, np.float64) * scale
    _, singular, right = np.linalg.svd(table)
    if len(singular) > 7 and singular[7] < 1e-9 * singular[0]:
        raise DroverError("the four points lie on one line; the ground's measure needs a four-cornered area")
    matrix = (right[-1] * scale).reshape(3, 3)
    centre = matrix[2] @ np.array([*source.mean(axis=0), 1.0])
    return matrix / (centre if abs(centre) > 1e-12 else 1.0)


def _mapped(matrix: Float, points: Float) -> Float:
    homogeneous = np.column_stack([points, np.ones(len(points))]) @ matrix.T
    with np.errstate(divide="ignore", invalid="ignore"):
        out = homogeneous[:, :2] / homogeneous[:, 2:]
    # The four points lie before the camera, where the third number is positive.
    out[homogeneous[:, 2] <= 1e-9] = np.nan
    return out


def _in_pixels(matrix: Float, corners: Float, misfit: float) -> float:
    """How far in the picture a point of the ground moves, at most, when it is shifted by the misfit."""
    back = np.asarray(np.linalg.inv(matrix), np.float64)
    shifted = [_mapped(back, corners + np.array(way) * misfit) for way in ((1, 0), (0, 1))]
    plain = _mapped(back, corners)
    return float(max(np.nanmax(np.linalg.norm(one - plain, axis=1)) for one in shifted))


def speeds(tracks: Tracks, times: Float, ground: Ground) -> Float:
    """Speed of every row's foot over the ground, (rows,) m/s, over half a second about it; NaN where unknown."""
    paths = tracks.paths
    at = ground.metres(box_foot(tracks.lying[paths.row]))
    when = times[paths.frame]
    out = np.full(len(tracks), np.nan)
    for k in range(len(paths.identity)):
        part = slice(int(paths.start[k]), int(paths.start[k + 1]))
        t, p = when[part], at[part]
        low = np.searchsorted(t, t - HALF_WINDOW - 1e-9)
        high = np.minimum(np.searchsorted(t, t + HALF_WINDOW + 1e-9, side="right") - 1, len(t) - 1)
        span = t[high] - t[low]
        with np.errstate(divide="ignore", invalid="ignore"):
            speed = np.where(span > 0, np.linalg.norm(p[high] - p[low], axis=1) / span, np.nan)
        out[paths.row[part]] = speed
    return out


def path_lengths(tracks: Tracks, times: Float, ground: Ground) -> dict[int, tuple[float, float, float]]:
    """Of each identity the way over the ground in m, its mean speed and its top speed in m/s.

    The way is taken once a quarter of a second, so that a box's jitter does not add to it.
    """
    paths, speed = tracks.paths, speeds(tracks, times, ground)
    out = {}
    for k, who in enumerate(paths.identity.tolist()):
        rows = paths.row[paths.start[k] : paths.start[k + 1]]
        when = times[tracks.frame[rows]]
        marks = np.unique(np.searchsorted(when, np.arange(when[0], when[-1] + HALF_WINDOW, HALF_WINDOW)))
        marks = np.unique(np.append(marks[marks < len(rows)], len(rows) - 1))
        at = ground.metres(box_foot(tracks.lying[rows[marks]]))
        way = float(np.nansum(np.linalg.norm(np.diff(at, axis=0), axis=1)))
        known = speed[rows][np.isfinite(speed[rows])]
        lasted = float(when[-1] - when[0])
        out[who] = way, way / lasted if lasted > 0 else 0.0, float(known.max(initial=0.0))
    return out
