"""Connected components on run lengths, in one pass over the mask.

Each row's runs are joined to the runs they touch in the row above by union-find
(He, Chao and Suzuki 2008, "A run-based two-scan labeling algorithm").
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.detect.bitmask import lowest_place, words_for
from drover.core.kernel_parts import root_of

__all__ = ["Blobs", "blobs_of", "fill_holes", "find_blobs", "take_blobs", "words_of"]


@dataclass(frozen=True)
class Blobs:
    """Blobs of one frame in order of their first pixel.

    ``box`` (n, 4) float32 px; ``area`` (n,) float32 px; ``contrast`` (n,) float32, mean difference in grey
    levels; ``run_count`` (n,) int64; ``runs`` (m, 3) int16, those of the first blob first.
    """

    box: NDArray[np.float32]
    area: NDArray[np.float32]
    contrast: NDArray[np.float32]
    run_count: NDArray[np.int64]
    runs: NDArray[np.int16]


def find_blobs(words: NDArray[np.uint64], difference: NDArray[np.uint8], *, least_area: float = 0.0) -> Blobs:
    """Cut blobs (joined by sides or corners) from a packed mask; specks under ``least_area`` px are left out.

    Parameters
    ----------
    words : (height, words) uint64, see :mod:`drover.core.detect.bitmask`
    difference : (height, width) uint8, what the contrast is measured in
    """
    runs = find_runs(words, difference.shape[1])
    label, count = join_runs(runs, True)
    return blobs_of(runs, label, count, difference, least_area=least_area)


def blobs_of(
    runs: NDArray[np.int32],
    label: NDArray[np.int64],
    count: int,
    difference: NDArray[np.uint8],
    *,
    least_area: float = 0.0,
) -> Blobs:
    """Blobs of labelled runs; those under ``least_area`` px are left out."""
    return Blobs(*_gathered(runs, label, measure(runs, label, count, difference), least_area))


@njit(cache=True, nogil=True)
def _gathered(
    runs: NDArray[np.int32], label: NDArray[np.int64], facts: NDArray[np.float64], least_area: float
) -> tuple[
    NDArray[np.float32], NDArray[np.float32], NDArray[np.float32], NDArray[np.int64], NDArray[np.int16]
]:  # pragma: no cover
    """Columns of :class:`Blobs` from labelled runs and what was measured of them; small ones are left out."""
    count, n, m = facts.shape[0], 0, 0
    many = np.zeros(count, np.int64)
    for k in range(runs.shape[0]):
        many[label[k]] += 1
    at = np.full(count, -1, np.int64)  # where the next run of each goes
    box, area, contrast = np.empty((count, 4), np.float32), np.empty(count, np.float32), np.empty(count, np.float32)
    run_count = np.empty(count, np.int64)
    for g in range(count):
        if facts[g, 4] >= least_area:
            for side in range(4):
                box[n, side] = facts[g, side]
            area[n], contrast[n] = facts[g, 4], facts[g, 5] / max(facts[g, 4], 1.0)
            run_count[n], at[g] = many[g], m
            n += 1
            m += many[g]
    kept = np.empty((m, 3), np.int16)
    for k in range(runs.shape[0]):
        place = at[label[k]]
        if place >= 0:
            kept[place, 0], kept[place, 1], kept[place, 2] = runs[k, 0], runs[k, 1], runs[k, 2]
            at[label[k]] += 1
    return box[:n], area[:n], contrast[:n], run_count[:n], kept


def take_blobs(blobs: Blobs, keep: NDArray[np.bool_]) -> Blobs:
    """Only some of the blobs."""
    return Blobs(
        blobs.box[keep], blobs.area[keep], blobs.contrast[keep], blobs.run_count[keep],
        blobs.runs[np.repeat(keep, blobs.run_count)],
    )  # fmt: skip


def words_of(runs: NDArray[np.int16], height: int, width: int) -> NDArray[np.uint64]:
    """A packed mask of runs (n, 3)."""
    out = words_for(height, width)
    set_runs(runs, out)
    return out


@njit(cache=True, nogil=True)
def set_runs(runs: NDArray[np.int16], words: NDArray[np.uint64]) -> None:  # pragma: no cover
    """Set the pixels of runs (n, 3) in a packed mask, in place."""
    for r in range(runs.shape[0]):
        y = runs[r, 0]
        for x in range(runs[r, 1], runs[r, 2]):
            words[y, x >> 6] |= np.uint64(1) << np.uint64(x & 63)


def fill_holes(words: NDArray[np.uint64], width: int, most: int) -> NDArray[np.uint64]:
    """Fill gaps inside blobs of up to ``most`` px; gaps are joined by sides only and do not touch the edge."""
    if most <= 0:
        return words
    rows = np.flatnonzero(words.any(axis=1))
    if len(rows) == 0:
        return words
    # One clear row above and below, so that what is open there counts as open.
    first, past = max(0, int(rows[0]) - 1), min(len(words), int(rows[-1]) + 2)
    out = words.copy()
    part = out[first:past]
    runs = find_runs(~part, width)
    label, count = join_runs(runs, False)
    _fill_small(runs, label, count, part, width, most)
    return out


@njit(cache=True, nogil=True)
def _fill_small(
    runs: NDArray[np.int32], label: NDArray[np.int64], count: int, out: NDArray[np.uint64], width: int, most: int
) -> None:  # pragma: no cover
    area = np.zeros(count, np.int64)
    bottom = out.shape[0] - 1
    for k in range(runs.shape[0]):
        y, x0, x1 = runs[k]
        area[label[k]] += most + 1 if y == 0 or y == bottom or x0 == 0 or x1 == width else x1 - x0
    for k in range(runs.shape[0]):
        if area[label[k]] <= most:
            for x in range(runs[k, 1], runs[k, 2]):
                out[runs[k, 0], x >> 6] |= np.uint64(1) << np.uint64(x & 63)


@njit(cache=True, nogil=True)
def find_runs(words: NDArray[np.uint64], width: int) -> NDArray[np.int32]:  # pragma: no cover
    """Runs of set bits as (n, 3) int32: y, first x, one past the last x. Bits past ``width`` are not looked at.

    Only the places where a bit differs from the one before it are visited; they are counted first, since a table
    that grows inside the loop makes it ten times slower.
    """
    one, top, zero = np.uint64(1), np.uint64(63), np.uint64(0)
    out = np.empty(((_changes(words) + words.shape[0]) // 2 + 1, 3), np.int32)
    n = 0
    for y in range(words.shape[0]):
        row = words[y]
        carry = zero
        start = -1
        for w in range(row.shape[0]):
            bits = row[w]
            change = bits ^ ((bits << one) | carry)
            carry = bits >> top
            while change != zero:
                low = change & (~change + one)
                change ^= low
                x = w * 64 + lowest_place(low)
                if x >= width:
                    break
                if start < 0:
                    start = x
                    continue
                out[n, 0], out[n, 1], out[n, 2] = y, start, x
                n += 1
                start = -1
        if start >= 0:
            out[n, 0], out[n, 1], out[n, 2] = y, start, width
            n += 1
    return out[:n].copy()


@njit(cache=True, nogil=True)
def _changes(words: NDArray[np.uint64]) -> int:  # pragma: no cover
    """How often a bit differs from the one before it, over all rows."""
    one, top, zero = np.uint64(1), np.uint64(63), np.uint64(0)
    n = 0
    for y in range(words.shape[0]):
        row = words[y]
        carry = zero
        for w in range(row.shape[0]):
            bits = row[w]
            change = bits ^ ((bits << one) | carry)
            carry = bits >> top
            while change != zero:
                change &= change - one
                n += 1
    return n


@njit(cache=True, nogil=True)
def join_runs(runs: NDArray[np.int32], corners: bool) -> tuple[NDArray[np.int64], int]:  # pragma: no cover
    """Label of each run, in order of first appearance, and how many there are; ``corners`` join too."""
    slack = 0 if corners else 1
    n = runs.shape[0]
    parent = np.arange(n)
    above, above_end, here = 0, 0, 0
    while here < n:
        y = runs[here, 0]
        end = here
        while end < n and runs[end, 0] == y:
            end += 1
        if above_end > above and runs[above, 0] == y - 1:
            a = above
            for k in range(here, end):
                while a < above_end and runs[a, 2] < runs[k, 1] + slack:
                    a += 1
                j = a
                while j < above_end and runs[j, 1] + slack <= runs[k, 2]:
                    p, q = root_of(parent, j), root_of(parent, k)
                    parent[max(p, q)] = min(p, q)
                    j += 1
        above, above_end, here = here, end, end
    label = np.empty(n, np.int64)
    count = 0
    for k in range(n):
        root = root_of(parent, k)
        if root == k:
            label[k] = count
            count += 1
        else:
            label[k] = label[root]
    return label, count


@njit(cache=True, nogil=True)
def measure(
    runs: NDArray[np.int32], label: NDArray[np.int64], count: int, difference: NDArray[np.uint8]
) -> NDArray[np.float64]:  # pragma: no cover
    """Per label: x1, y1, x2, y2, pixels, summed difference."""
    out = np.zeros((count, 6))
    out[:, 0:2] = 1e9
    out[:, 2:4] = -1e9
    for k in range(runs.shape[0]):
        y, x0, x1 = runs[k]
        row = out[label[k]]
        row[0], row[1] = min(row[0], x0), min(row[1], y)
        row[2], row[3] = max(row[2], x1), max(row[3], y + 1)
        row[4] += x1 - x0
        for x in range(x0, x1):
            row[5] += difference[y, x]
    return out
