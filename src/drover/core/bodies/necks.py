"""A blob of two that always go together, cut where it is thin: a lamb beside its mother, two on a leash.

How far each pixel lies from the blob's outside shows thick places; where two of them are joined by a neck that is much
thinner than either, there are two bodies (the saddles of a distance map, by which grains that touch are told apart;
Beucher and Lantuéjoul 1979, "Use of watersheds in contour detection"). Heads and limbs are far thinner than a body,
and who meets somebody else is soon alone again: what counts is what is seen most of the time, of those that are larger
than a body usually is there. Where most things of a clip look so, that is how they are made.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.bodies.followed import rows_by_life
from drover.core.bodies.shared import cut_into
from drover.core.bodies.size_field import SizeField
from drover.core.geometry import box_area
from drover.core.kernel_parts import read_only, root_of
from drover.core.types import Detections, Tracks

__all__ = ["parts_of", "split_necks"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
THIN = 0.4  # of the thinner of two bodies' half width, that a neck has at most
STOUT = 0.45  # of the thicker one's half width, that the thinner has at least: heads and limbs have less
ALL_WIDTHS = 0.4  # log ratio, at the median: tractors with trailers go where people walk
LARGER = 1.25  # times the box of one body at a place
LEAST_TIME = 1.2  # s seen
AROUND = 0.6  # of the pictures of so long, in which they are seen to show a neck
MOSTLY = 0.4  # of its life that something shows one,
USUAL = 0.5  # and of what is followed that may do so, for it to say anything
MOST = 4  # bodies
ACROSS = 64  # px to which a large blob is made smaller for this
BESIDE, SLANTED = 3, 4  # thirds of a px to a neighbour


def split_necks(found: Detections, tracks: Tracks, times: NDArray[np.float64], field: SizeField | None) -> Detections:
    """Detections with the blobs of those that go together cut at their necks; ``times`` s of the frames.

    ``tracks`` were linked from ``found``; ``field`` says how large one body is at a place.
    """
    if field is None or not _of_one_size(field) or len(tracks) == 0 or len(found.runs) == 0:
        return found
    held = rows_by_life(tracks, len(found))
    fixed, step = found.frozen(), float(np.median(np.diff(times)))
    lives = np.split(held, np.flatnonzero(np.diff(tracks.identity[held])) + 1)
    lives = [rows for rows in lives if len(rows) * step >= LEAST_TIME]
    shown = [_bodies_in(fixed, tracks.detection[rows].astype(np.int64), field) for rows in lives]
    mostly = [np.mean([len(boxes) > 1 for boxes in each]) >= MOSTLY for each in shown]
    if not lives or np.mean(mostly) > USUAL:
        return found
    cut: list[tuple[int, Float]] = []
    for rows, each in zip(lives, shown, strict=True):
        stays = _for_a_while(np.array([len(boxes) > 1 for boxes in each]), times[tracks.frame[rows]], step)
        cut += [(int(tracks.detection[rows[k]]), each[k]) for k in np.flatnonzero(stays)]
    if not cut:
        return found
    cut.sort(key=lambda one: one[0])
    blob = np.repeat([one for one, _ in cut], [len(boxes) for _, boxes in cut])
    box = np.concatenate([boxes for _, boxes in cut]).astype(np.float32)
    return cut_into(found, blob, box, found.look[blob] if len(found.look) else found.look)


def _of_one_size(field: SizeField) -> bool:
    """Whether what is larger than a body at a place is more than one: not where all widths share it."""
    return field.says_something and field.width_spread <= ALL_WIDTHS


def _bodies_in(fixed: Detections, blobs: Int, field: SizeField) -> list[Float]:
    """Boxes of the bodies in each blob of a life; none where it is no larger than one."""
    box = fixed.box[blobs]
    wide, tall = field.of(box)
    large = box_area(box) >= LARGER * wide * tall
    return [_parts(fixed, blob) if ok else np.zeros((0, 4)) for blob, ok in zip(blobs.tolist(), large, strict=True)]


def _for_a_while(several: NDArray[np.bool_], when: Float, step: float) -> NDArray[np.bool_]:
    """Which pictures of a life, ``step`` s apart, show several bodies, as most do for some time around."""
    total = np.concatenate([[0], np.cumsum(several)])
    begin = np.clip(when - LEAST_TIME / 2, when[0], max(when[0], when[-1] - LEAST_TIME))
    first, past = np.searchsorted(when, begin), np.searchsorted(when, begin + LEAST_TIME, side="right")
    return several & (total[past] - total[first] >= AROUND * LEAST_TIME / step)


def _parts(fixed: Detections, blob: int) -> Float:
    return parts_of(read_only(fixed.runs[fixed.run_start[blob] : fixed.run_start[blob + 1]]))


@njit(cache=True, nogil=True)
def parts_of(runs: NDArray[np.int16]) -> Float:  # pragma: no cover
    """Boxes (n, 4) px of the bodies that the blob with these runs shows, one where it has no neck; none of no runs."""
    if runs.shape[0] == 0:
        return np.zeros((0, 4))
    x0, x1 = np.int64(runs[:, 1].min()), np.int64(runs[:, 2].max())
    y0, y1 = np.int64(runs[:, 0].min()), np.int64(runs[:, 0].max()) + 1
    step = max(1, max(x1 - x0, y1 - y0) // ACROSS)
    mask = np.zeros(((y1 - y0 - 1) // step + 3, (x1 - x0 - 1) // step + 3), np.bool_)
    for r in range(runs.shape[0]):
        if (runs[r, 0] - y0) % step == 0:
            first, past = (runs[r, 1] - x0 + step - 1) // step, (runs[r, 2] - x0 + step - 1) // step
            mask[(runs[r, 0] - y0) // step + 1, first + 1 : past + 1] = True
    depth = _depth(mask)
    body = _bodies(depth.ravel(), mask.shape[1])
    out, heads, n = np.zeros((MOST, 4)), np.zeros(MOST, np.int64), 0
    for k in range(body.shape[0]):
        if body[k] < 0:
            continue
        at = 0
        while at < n and heads[at] != body[k]:
            at += 1
        if at == MOST:
            continue
        x, y = (k % mask.shape[1] - 1) * step + x0, (k // mask.shape[1] - 1) * step + y0
        if at == n:
            heads[n], n = body[k], n + 1
            out[at, 0], out[at, 1] = x, y
        out[at, 0] = min(out[at, 0], x)
        out[at, 2], out[at, 3] = max(out[at, 2], min(x + step, x1)), max(out[at, 3], min(y + step, y1))
    return out[:n].copy()


@njit(cache=True, nogil=True)
def _depth(mask: NDArray[np.bool_]) -> Int:  # pragma: no cover
    """Thirds of px from each pixel to the nearest outside; the mask's rim is outside (Borgefors 1986, chamfer 3-4)."""
    tall, wide = mask.shape
    out = np.zeros((tall, wide), np.int64)
    for y in range(1, tall - 1):
        for x in range(1, wide - 1):
            if mask[y, x]:
                straight = min(out[y - 1, x], out[y, x - 1]) + BESIDE
                out[y, x] = min(straight, min(out[y - 1, x - 1], out[y - 1, x + 1]) + SLANTED)
    for y in range(tall - 2, 0, -1):
        for x in range(wide - 2, 0, -1):
            if mask[y, x]:
                straight = min(out[y + 1, x], out[y, x + 1]) + BESIDE
                out[y, x] = min(out[y, x], min(straight, min(out[y + 1, x + 1], out[y + 1, x - 1]) + SLANTED))
    return out


@njit(cache=True, nogil=True)
def _bodies(depth: Int, wide: int) -> Int:  # pragma: no cover
    """The head of the body that each pixel belongs to, -1 for none; ``depth`` line after line, ``wide`` px each.

    From the deepest pixels outward each joins what it touches; two that meet are one, unless their neck is thin.
    """
    order = np.argsort(-depth)
    parent, deepest = np.full(depth.shape[0], -1, np.int64), depth.copy()
    least = STOUT * depth[order[0]]
    around = np.array([-wide - 1, -wide, -wide + 1, -1, 1, wide - 1, wide, wide + 1])
    for k in order:
        if depth[k] == 0:
            break
        best = k
        for a in around:
            if parent[k + a] >= 0:
                head = root_of(parent, k + a)
                if best == k or deepest[head] > deepest[best]:
                    best = head
        parent[k] = best
        for a in around:
            if parent[k + a] < 0:
                continue
            one, other = root_of(parent, k), root_of(parent, k + a)
            thinner = min(deepest[one], deepest[other])
            if one == other or (thinner >= least and depth[k] <= THIN * thinner):
                continue
            if deepest[other] > deepest[one]:
                one, other = other, one
            parent[other] = one
    out = np.full(depth.shape[0], -1, np.int64)
    for k in range(depth.shape[0]):
        if parent[k] >= 0:
            head = root_of(parent, k)
            if deepest[head] >= least:
                out[k] = head
    return out
