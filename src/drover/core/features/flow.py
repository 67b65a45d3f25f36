"""Points followed from one picture into another: small patches laid over it until they fit.

Lucas and Kanade 1981, "An iterative image registration technique", from coarse to fine over halved pictures (Bouguet
2001, "Pyramidal implementation of the Lucas Kanade feature tracker"). The slopes are those of the patch and not of the
picture that it is laid over (Baker and Matthews 2004, "Lucas-Kanade 20 years on", section 3.2), so that a patch that is
sought in many pictures is prepared once. Means are taken out, so that light may change. What is followed forward is
followed back (Kalal, Mikolajczyk and Matas 2010, "Forward-backward error"): a point that does not come home was lost.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.features.pyramid import Grey

__all__ = ["HALF", "Flow", "Patches", "follow_points", "seek", "take_patches"]

HALF = 7  # px each way from the middle of a patch
SIDE = 2 * HALF + 1
STEPS = 12  # at each size of the picture
ENOUGH = 0.02  # px of a step under which a patch lies still
LEAST_TEXTURE = 4.0  # levels squared a pixel: the lesser eigenvalue under which a patch could lie anywhere
NO_TURN = 0.08  # px at the rim of a patch under which it is as good as not turned
HOME = 0.7  # px from where it began within which a point must come back

Float = NDArray[np.float64]
Float32 = NDArray[np.float32]


@dataclass(frozen=True)
class Patches:
    """Patches of points, prepared: ``place`` (n, 2) px of the full picture; for each of the ``levels`` sizes, largest
    first, the patch and its slopes (levels, n, 3, side, side) float32 and the inverse of their squares (levels, n, 3).
    ``firm`` (levels, n) is false where a patch has too little texture or lies over the rim.
    """

    place: Float
    picture: Float32
    inverse: Float32
    firm: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.place)

    @property
    def levels(self) -> int:
        """In how many sizes."""
        return len(self.picture)

    def take(self, rows: NDArray[np.int64] | NDArray[np.bool_]) -> Patches:
        """Only some of them."""
        return Patches(self.place[rows], self.picture[:, rows], self.inverse[:, rows], self.firm[:, rows])


@dataclass(frozen=True)
class Flow:
    """``place`` (n, 2) px where the points are now; ``found`` (n,); ``misfit`` (n,) by how much patches differ, in
    their own contrast: 0 alike, 1 and more nothing in common.
    """

    place: Float
    found: NDArray[np.bool_]
    misfit: Float32


def take_patches(pictures: list[Grey], place: Float) -> Patches:
    """Prepare the patches of points ``place`` (n, 2) px in a picture and its halves, largest first."""
    n = len(place)
    picture = np.zeros((len(pictures), n, 3, SIDE, SIDE), np.float32)
    inverse, firm = np.zeros((len(pictures), n, 3), np.float32), np.zeros((len(pictures), n), np.bool_)
    where = np.ascontiguousarray(place, np.float64)
    for level, grey in enumerate(pictures):
        _cut_patches(grey, where / 2**level, picture[level], inverse[level], firm[level])
    return Patches(where, picture, inverse, firm)


def seek(
    patches: Patches,
    pictures: list[Grey],
    guess: Float,
    slope: Float | None = None,
    *,
    rows: NDArray[np.int64] | None = None,
    coarse: int = -1,
) -> Flow:
    """Where patches, or only those of some ``rows``, lie in another picture and its halves.

    ``guess`` (n, 2) px is where to begin, ``slope`` (2, 2) how the patches are turned and zoomed there; ``coarse`` the
    smallest size to begin with, the smallest there is if -1.
    """
    turned = np.ascontiguousarray(np.eye(2) if slope is None else slope, np.float64)
    if np.abs(turned - np.eye(2)).max() * HALF < NO_TURN:
        turned = np.eye(2)
    which = np.arange(len(guess)) if rows is None else rows
    place = np.array(guess, np.float64, order="C")
    found, misfit = np.ones(len(place), np.bool_), np.zeros(len(place), np.float32)
    top = min(patches.levels, len(pictures)) - 1 if coarse < 0 else min(coarse, patches.levels - 1, len(pictures) - 1)
    for level in range(top, -1, -1):
        _lay(
            pictures[level], patches.picture[level], patches.inverse[level], patches.firm[level], which,
            turned, 0.5**level, place, found, misfit, level == 0,
        )  # fmt: skip
    return Flow(place, found, misfit)


def follow_points(
    before: list[Grey], after: list[Grey], place: Float, *, guess: Float | None = None, slope: Float | None = None
) -> Flow:
    """Points ``place`` (n, 2) px of a picture in the one ``after`` it, those left out that do not come home again."""
    there = seek(take_patches(before, place), after, place if guess is None else guess, slope)
    back_slope = None if slope is None else np.asarray(np.linalg.inv(slope), np.float64)
    back = seek(take_patches(after, there.place), before, place, back_slope)
    home = np.hypot(*(back.place - place).T) <= HOME
    return Flow(there.place, there.found & back.found & home, there.misfit)


@njit(cache=True, nogil=True, fastmath=True)
def _cut_patches(
    grey: Grey, place: Float, picture: Float32, inverse: Float32, firm: NDArray[np.bool_]
) -> None:  # pragma: no cover
    height, width = grey.shape
    wide = np.empty((SIDE + 2, SIDE + 2), np.float32)
    for k in range(len(place)):
        left, top = place[k, 0] - 0.5 - HALF - 1, place[k, 1] - 0.5 - HALF - 1
        if not (0 <= left < width - SIDE - 3 and 0 <= top < height - SIDE - 3):
            continue
        x0, y0 = int(left), int(top)
        fx, fy = np.float32(left - x0), np.float32(top - y0)
        for i in range(SIDE + 2):
            row, below = grey[y0 + i], grey[y0 + i + 1]
            for j in range(SIDE + 2):
                a = row[x0 + j] + fx * (np.float32(row[x0 + j + 1]) - np.float32(row[x0 + j]))
                b = below[x0 + j] + fx * (np.float32(below[x0 + j + 1]) - np.float32(below[x0 + j]))
                wide[i, j] = a + fy * (b - a)
        mean = np.float32(0)
        xx, xy, yy = np.float32(0), np.float32(0), np.float32(0)
        for i in range(SIDE):
            for j in range(SIDE):
                dx = np.float32(0.5) * (wide[i + 1, j + 2] - wide[i + 1, j])
                dy = np.float32(0.5) * (wide[i + 2, j + 1] - wide[i, j + 1])
                picture[k, 0, i, j], picture[k, 1, i, j], picture[k, 2, i, j] = wide[i + 1, j + 1], dx, dy
                mean += wide[i + 1, j + 1]
                xx += dx * dx
                xy += dx * dy
                yy += dy * dy
        picture[k, 0] -= mean / np.float32(SIDE * SIDE)
        whole = xx * yy - xy * xy
        least = 0.5 * (xx + yy) - np.sqrt(0.25 * (xx - yy) ** 2 + xy * xy)
        if least < LEAST_TEXTURE * SIDE * SIDE or whole <= 0:
            continue
        inverse[k, 0], inverse[k, 1], inverse[k, 2] = yy / whole, -xy / whole, xx / whole
        firm[k] = True


@njit(cache=True, nogil=True, fastmath=True)
def _lay(
    grey: Grey,
    picture: Float32,
    inverse: Float32,
    firm: NDArray[np.bool_],
    which: NDArray[np.int64],
    slope: Float,
    scale: float,
    place: Float,
    found: NDArray[np.bool_],
    misfit: Float32,
    last: bool,
) -> None:  # pragma: no cover
    """Move ``place`` until each patch fits, in place; where it cannot at the ``last`` size, ``found`` turns false."""
    height, width = grey.shape
    a, b, c, d = (np.float32(slope[0, 0]), np.float32(slope[0, 1]), np.float32(slope[1, 0]), np.float32(slope[1, 1]))
    seen = np.empty((SIDE, SIDE), np.float32)
    reach = HALF * max(abs(a) + abs(b), abs(c) + abs(d)) + 1.0
    most_step = 2.0 * HALF
    for n in range(len(place)):
        k = which[n]
        if not firm[k]:
            if last:
                found[n] = False
            continue
        x, y = place[n, 0] * scale - 0.5, place[n, 1] * scale - 0.5
        begun_x, begun_y = x, y
        inside, off = True, np.float32(0)
        for _ in range(STEPS):
            if not (reach <= x < width - 1 - reach and reach <= y < height - 1 - reach):
                inside = False
                break
            mean = _sampled(grey, x, y, a, b, c, d, seen)
            right, down, off = np.float32(0), np.float32(0), np.float32(0)
            for i in range(SIDE):
                for j in range(SIDE):
                    apart = seen[i, j] - mean - picture[k, 0, i, j]
                    right += picture[k, 1, i, j] * apart
                    down += picture[k, 2, i, j] * apart
                    off += apart * apart
            step_x = inverse[k, 0] * right + inverse[k, 1] * down
            step_y = inverse[k, 1] * right + inverse[k, 2] * down
            x -= a * step_x + b * step_y
            y -= c * step_x + d * step_y
            if abs(step_x) < ENOUGH and abs(step_y) < ENOUGH:
                break
        strayed = abs(x - begun_x) > most_step or abs(y - begun_y) > most_step
        if inside and not strayed:
            place[n, 0], place[n, 1] = (x + 0.5) / scale, (y + 0.5) / scale
            misfit[n] = np.sqrt(off / max(_energy(picture[k, 0]), np.float32(1e-6)))
        elif last:
            found[n] = False


@njit(cache=True, nogil=True, fastmath=True)
def _energy(patch: Float32) -> np.float32:  # pragma: no cover
    """The sum of the squares of a patch without its mean."""
    total = np.float32(0)
    for i in range(SIDE):
        for j in range(SIDE):
            total += patch[i, j] * patch[i, j]
    return total


@njit(cache=True, nogil=True, fastmath=True)
def _sampled(
    grey: Grey, x: float, y: float, a: np.float32, b: np.float32, c: np.float32, d: np.float32, seen: Float32
) -> np.float32:  # pragma: no cover
    """The picture under a patch, turned and zoomed, into ``seen``; its mean."""
    total = np.float32(0)
    if a == 1 and b == 0 and c == 0 and d == 1:
        x0, y0 = int(x) - HALF, int(y) - HALF
        fx, fy = np.float32(x - int(x)), np.float32(y - int(y))
        for i in range(SIDE):
            row, below = grey[y0 + i, x0 : x0 + SIDE + 1], grey[y0 + i + 1, x0 : x0 + SIDE + 1]
            for j in range(SIDE):
                p = row[j] + fx * (np.float32(row[j + 1]) - np.float32(row[j]))
                q = below[j] + fx * (np.float32(below[j + 1]) - np.float32(below[j]))
                seen[i, j] = p + fy * (q - p)
                total += seen[i, j]
        return total / np.float32(SIDE * SIDE)
    for i in range(SIDE):
        for j in range(SIDE):
            u, v = np.float32(j - HALF), np.float32(i - HALF)
            px, py = x + a * u + b * v, y + c * u + d * v
            x0, y0 = int(px), int(py)
            fx, fy = np.float32(px - x0), np.float32(py - y0)
            p = grey[y0, x0] + fx * (np.float32(grey[y0, x0 + 1]) - np.float32(grey[y0, x0]))
            q = grey[y0 + 1, x0] + fx * (np.float32(grey[y0 + 1, x0 + 1]) - np.float32(grey[y0 + 1, x0]))
            seen[i, j] = p + fy * (q - p)
            total += seen[i, j]
    return total / np.float32(SIDE * SIDE)
