"""Which blobs are objects: fragments joined, sizes held against limits that may grow toward the camera."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.detect.blobs import Blobs
from drover.core.recipe import SizeSettings

__all__ = ["depth_factors", "join_fragments", "size_fits", "sizes_near_by"]

LARGEST_FRAGMENT = 0.5  # of the area of the blob it is joined to
MOST_BLOBS = 400  # above that a frame is flooded and nothing is joined


def depth_factors(foot: NDArray[np.floating], settings: SizeSettings, size: tuple[int, int]) -> NDArray[np.float64]:
    """By how much the limits are to be multiplied for a blob with its foot at each y (px), (n,) float64.

    That is how much smaller than at the near box an object looks there, and how much wider or narrower the picture of
    ``size`` (width, height) px is than the frames that the limits are given for.
    """
    frame = size[0] / settings.for_width
    if settings.near_box is None or settings.far_box is None:
        return np.full(len(foot), frame)
    near, far, height = settings.near_box, settings.far_box, size[1]
    near_foot, far_foot = near[3] * height, far[3] * height
    near_tall, far_tall = (near[3] - near[1]) * height, (far[3] - far[1]) * height
    if abs(near_foot - far_foot) < 1.0:
        return np.full(len(foot), frame)
    tall = far_tall + (np.asarray(foot, np.float64) - far_foot) * (near_tall - far_tall) / (near_foot - far_foot)
    return frame * np.clip(tall / near_tall, 0.02, 4.0)


def sizes_near_by(
    box: NDArray[np.floating], settings: SizeSettings, size: tuple[int, int]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Widths and heights (px) that boxes (n, 4) would have at the near box, which is where the limits hold."""
    factor = depth_factors(box[:, 3], settings, size)
    return (box[:, 2] - box[:, 0]) / factor, (box[:, 3] - box[:, 1]) / factor


def size_fits(blobs: Blobs, settings: SizeSettings, size: tuple[int, int]) -> NDArray[np.bool_]:
    """Which blobs lie within the limits on width, height, area and width over height."""
    factor = depth_factors(blobs.box[:, 3], settings, size)
    wide, tall = blobs.box[:, 2] - blobs.box[:, 0], blobs.box[:, 3] - blobs.box[:, 1]
    aspect = wide / np.maximum(tall, 1e-6)
    return np.asarray(
        (wide >= settings.least_width * factor)
        & (wide <= settings.most_width * factor)
        & (tall >= settings.least_height * factor)
        & (tall <= settings.most_height * factor)
        & (blobs.area >= settings.least_area * factor**2)
        & (blobs.area <= settings.most_area * factor**2)
        & (aspect >= settings.least_aspect)
        & (aspect <= settings.most_aspect)
    )


def join_fragments(blobs: Blobs, settings: SizeSettings, size: tuple[int, int]) -> Blobs:
    """Join each small blob to the nearest larger one within the joining distance.

    Only pieces of at most half the larger one's area are joined, so that two objects side by side stay two.
    """
    n = len(blobs.box)
    if settings.join_within <= 0 or not 2 <= n <= MOST_BLOBS:
        return blobs
    reach = settings.join_within * depth_factors(blobs.box[:, 3], settings, size)
    owner = nearest_larger(blobs.box, blobs.area, reach)
    group, count = _groups(owner)
    if count == n:
        return blobs
    box, sums = _joined(blobs.box, blobs.area, blobs.contrast, group, count)
    run_count, runs = _runs_in_order(blobs.runs, blobs.run_count, group, count)
    area, contrast = sums[:, 0], sums[:, 1] / np.maximum(sums[:, 0], 1)
    return Blobs(box, area.astype(np.float32), contrast.astype(np.float32), run_count, runs)


@njit(cache=True, nogil=True)
def _groups(owner: NDArray[np.int64]) -> tuple[NDArray[np.int64], int]:  # pragma: no cover
    """The group of each blob, by following owners to one that owns itself, and how many there are."""
    n, count = owner.shape[0], 0
    name, group = np.full(n, -1, np.int64), np.empty(n, np.int64)
    for k in range(n):
        if owner[k] == k:
            name[k] = count
            count += 1
    for k in range(n):
        last = k
        while owner[last] != last:
            last = owner[last]
        group[k] = name[last]
    return group, count


@njit(cache=True, nogil=True)
def _runs_in_order(
    runs: NDArray[np.int16], run_count: NDArray[np.int64], group: NDArray[np.int64], count: int
) -> tuple[NDArray[np.int64], NDArray[np.int16]]:  # pragma: no cover
    """How many runs each group has, and the runs group by group, each in order of row and column."""
    place, many = np.empty(runs.shape[0], np.int64), np.zeros(count, np.int64)
    r = 0
    for k in range(run_count.shape[0]):
        many[group[k]] += run_count[k]
        for _ in range(run_count[k]):
            place[r] = (group[k] << 32) | (np.int64(runs[r, 0]) << 16) | np.int64(runs[r, 1])
            r += 1
    order, out = np.argsort(place), np.empty_like(runs)
    for r in range(order.shape[0]):
        out[r] = runs[order[r]]
    return many, out


@njit(cache=True, nogil=True)
def nearest_larger(
    box: NDArray[np.float32], area: NDArray[np.float32], reach: NDArray[np.float64]
) -> NDArray[np.int64]:  # pragma: no cover
    """For each blob the nearest one at least twice its area within that one's reach (px); itself where none is."""
    n = box.shape[0]
    owner = np.arange(n)
    for k in range(n):
        best = np.inf
        for j in range(n):
            if area[k] > LARGEST_FRAGMENT * area[j]:
                continue
            dx = max(0.0, max(box[k, 0], box[j, 0]) - min(box[k, 2], box[j, 2]))
            dy = max(0.0, max(box[k, 1], box[j, 1]) - min(box[k, 3], box[j, 3]))
            gap = np.sqrt(dx * dx + dy * dy)
            if gap <= reach[j] and gap < best:
                best = gap
                owner[k] = j
    return owner


@njit(cache=True, nogil=True)
def _joined(
    box: NDArray[np.float32],
    area: NDArray[np.float32],
    contrast: NDArray[np.float32],
    group: NDArray[np.int64],
    count: int,
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:  # pragma: no cover
    """Box around each group, and its summed pixels and summed difference."""
    out, sums = np.empty((count, 4), np.float32), np.zeros((count, 2))
    out[:, :2] = np.inf
    out[:, 2:] = -np.inf
    for k in range(box.shape[0]):
        g = group[k]
        for side in range(2):
            out[g, side] = min(out[g, side], box[k, side])
            out[g, side + 2] = max(out[g, side + 2], box[k, side + 2])
        sums[g, 0] += area[k]
        sums[g, 1] += area[k] * contrast[k]
    return out, sums
