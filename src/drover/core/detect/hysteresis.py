"""Blobs of what is weakly seen, held together by what is strongly seen.

A second, lower threshold finds all of a body, and noise besides; what hangs together with something over the first
threshold is kept (Canny 1986, "A computational approach to edge detection", hysteresis). Where a weak bridge joins two
strong bodies that stand side by side the blob is cut between them; strong parts one above the other are one body.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.detect.blobs import Blobs, blobs_of, find_runs, join_runs
from drover.core.kernel_parts import longer, root_of

__all__ = ["held_together"]

Int = NDArray[np.int64]
LEAST_STRONG = 0.12  # share of a blob that must be over the threshold itself
LEAST_CORE = 0.2  # of the largest strong part of a blob, from which another is a body of its own
STACKED = 0.5  # of the narrower of two parts that must lie over the other for both to be one body


def held_together(
    weak: NDArray[np.uint64], strong: NDArray[np.uint64], difference: NDArray[np.uint8], least_area: float
) -> Blobs:
    """Blobs of the packed mask ``weak`` that hold enough of the packed mask ``strong``, cut between bodies."""
    width = difference.shape[1]
    runs = find_runs(weak, width)
    label, count = join_runs(runs, True)
    core_runs = find_runs(strong & weak, width)
    core_label, cores = join_runs(core_runs, True)
    area, box = core_facts(core_runs, core_label, cores)
    home = homes(runs, label, core_runs, core_label, cores)
    total = np.bincount(label, weights=runs[:, 2] - runs[:, 1], minlength=count)
    held = np.bincount(home, weights=area, minlength=count) if cores else np.zeros(count)
    keep = held >= np.maximum(least_area, LEAST_STRONG * total)
    body = bodies(area, box, home, count)
    cut_runs, cut_label, number = cut_between(runs, label, keep, home, body, box)
    return blobs_of(cut_runs, cut_label, number, difference, least_area=least_area)


@njit(cache=True, nogil=True)
def core_facts(runs: NDArray[np.int32], label: Int, count: int) -> tuple[NDArray[np.float64], Int]:  # pragma: no cover
    """Pixels and box x1, y1, x2, y2 of each strong part."""
    area, box = np.zeros(count), np.zeros((count, 4), np.int64)
    box[:, :2] = 1 << 30
    for r in range(runs.shape[0]):
        k = label[r]
        y, x0, x1 = runs[r]
        area[k] += x1 - x0
        box[k, 0], box[k, 1] = min(box[k, 0], x0), min(box[k, 1], y)
        box[k, 2], box[k, 3] = max(box[k, 2], x1), max(box[k, 3], y + 1)
    return area, box


@njit(cache=True, nogil=True)
def homes(
    runs: NDArray[np.int32], label: Int, core_runs: NDArray[np.int32], core_label: Int, cores: int
) -> Int:  # pragma: no cover
    """The weak blob that each strong part lies in; both tables of runs are in order."""
    out = np.zeros(cores, np.int64)
    at = 0
    for r in range(core_runs.shape[0]):
        y, x0 = core_runs[r, 0], core_runs[r, 1]
        while runs[at, 0] < y or (runs[at, 0] == y and runs[at, 2] <= x0):
            at += 1
        out[core_label[r]] = label[at]
    return out


@njit(cache=True, nogil=True)
def bodies(area: NDArray[np.float64], box: Int, home: Int, count: int) -> Int:  # pragma: no cover
    """The body that each strong part belongs to, by its first part; -1 for parts too small to be one of their own."""
    n = area.shape[0]
    largest = np.zeros(count)
    for k in range(n):
        largest[home[k]] = max(largest[home[k]], area[k])
    big = np.flatnonzero(area >= LEAST_CORE * largest[home])
    parent = np.arange(n)
    # Parts in order of their blob: only those of one blob are held against each other.
    order = big[np.argsort(home[big], kind="mergesort")]
    for i in range(order.shape[0]):
        for j in range(i + 1, order.shape[0]):
            a, b = order[i], order[j]
            if home[a] != home[b]:
                break
            over = min(box[a, 2], box[b, 2]) - max(box[a, 0], box[b, 0])
            if over >= STACKED * min(box[a, 2] - box[a, 0], box[b, 2] - box[b, 0]):
                p, q = root_of(parent, a), root_of(parent, b)
                parent[max(p, q)] = min(p, q)
    out = np.full(n, -1, np.int64)
    for k in order:
        out[k] = root_of(parent, k)
    return out


@njit(cache=True, nogil=True)
def cut_between(
    runs: NDArray[np.int32], label: Int, keep: NDArray[np.bool_], home: Int, body: Int, box: Int
) -> tuple[NDArray[np.int32], Int, int]:  # pragma: no cover
    """Runs of the blobs kept, those of several bodies cut so that each pixel goes to the body nearest along the row.

    Returns the runs, the new label of each, and how many labels there are.
    """
    count = keep.shape[0]
    n = body.shape[0]
    # The bodies of each blob, and their boxes.
    first, many = np.full(count, -1, np.int64), np.zeros(count, np.int64)
    chain = np.full(n, -1, np.int64)
    span = box.copy()
    for k in range(n - 1, -1, -1):
        if body[k] < 0:
            continue
        if body[k] == k:
            chain[k], first[home[k]] = first[home[k]], k
            many[home[k]] += 1
        else:
            head = body[k]
            span[head, 0], span[head, 2] = min(span[head, 0], box[k, 0]), max(span[head, 2], box[k, 2])
    number, names = 0, np.full(max(n, 1), -1, np.int64)
    plain = np.full(count, -1, np.int64)
    for b in range(count):
        if not keep[b]:
            continue
        if many[b] < 2:
            plain[b] = number
            number += 1
            continue
        k = first[b]
        while k >= 0:
            names[k] = number
            number += 1
            k = chain[k]
    room, m = runs.shape[0] + 64, 0
    out, tags = np.empty((room, 3), np.int32), np.empty(room, np.int64)
    for r in range(runs.shape[0]):
        b = label[r]
        if not keep[b]:
            continue
        start, past = runs[r, 1], runs[r, 2]
        if m + (past - start) + 1 > room:
            room = 2 * room + (past - start)
            out, tags = longer(out, room), longer(tags, room)
        if many[b] < 2:
            out[m, 0], out[m, 1], out[m, 2], tags[m] = runs[r, 0], start, past, plain[b]
            m += 1
            continue
        tag = -1
        for x in range(start, past):
            best, nearest = -1, 1e18
            k = first[b]
            while k >= 0:
                middle = 0.5 * (span[k, 0] + span[k, 2])
                away = max(span[k, 0] - x, x + 1 - span[k, 2], 0) * 1e4 + abs(x + 0.5 - middle)
                if away < nearest:
                    best, nearest = k, away
                k = chain[k]
            if names[best] != tag:
                tag = names[best]
                out[m, 0], out[m, 1], tags[m] = runs[r, 0], x, tag
                m += 1
            out[m - 1, 2] = x + 1
    return out[:m].copy(), tags[:m].copy(), number
