"""How alike two looks are, and what a track remembers of its own.

A look is a row of histograms made by Detect, each of them of the same length; rows of zeros say that nobody looked.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["learn_looks", "look_changes", "look_distance", "look_distances", "path_looks", "rows_unlike"]

LEARN = 0.1  # share of a new look that goes into the memory, a frame
FULL = 0.3  # of 1 - cosine: two looks this far apart are as unlike as may be


@njit(cache=True, nogil=True)
def look_distance(a: NDArray[np.float32], i: int, b: NDArray[np.float32], j: int) -> float:  # pragma: no cover
    """How unlike row ``i`` of one table and row ``j`` of another look: 0 alike to 1; 0 too where either is unknown."""
    ab = aa = bb = 0.0
    for c in range(a.shape[1]):
        x, y = np.float64(a[i, c]), np.float64(b[j, c])
        ab += x * y
        aa += x * x
        bb += y * y
    if aa == 0.0 or bb == 0.0:
        return 0.0
    return min(_turned(ab, aa, bb) / FULL, 1.0)


@njit(cache=True, nogil=True)
def rows_unlike(
    look: NDArray[np.uint8], some: NDArray[np.int32], others: NDArray[np.int32]
) -> float:  # pragma: no cover
    """How unlike the mean looks of two lots of rows of a table are: 0 alike to 1."""
    sums = np.zeros((2, look.shape[1]), np.float32)
    for side, rows in enumerate((some, others)):
        for r in rows:
            for c in range(look.shape[1]):
                sums[side, c] += look[r, c]
    return look_distance(sums, 0, sums, 1)


@njit(cache=True, nogil=True)
def look_distances(
    a: NDArray[np.float32], i: NDArray[np.int64], b: NDArray[np.float32], j: NDArray[np.int64]
) -> NDArray[np.float64]:  # pragma: no cover
    """The same for many pairs of rows, (pairs,)."""
    out = np.empty(i.shape[0])
    for k in range(i.shape[0]):
        out[k] = look_distance(a, i[k], b, j[k])
    return out


@njit(cache=True, nogil=True)
def _turned(ab: float, aa: float, bb: float) -> float:  # pragma: no cover
    return max(1.0 - ab / np.sqrt(aa * bb), 0.0)


@njit(cache=True, nogil=True)
def learn_looks(
    memory: NDArray[np.float32], match: NDArray[np.int64], alone: NDArray[np.bool_], look: NDArray[np.float32]
) -> None:  # pragma: no cover
    """Let each track that has a detection to itself learn its look, in place."""
    for k in range(match.shape[0]):
        d = match[k]
        if d < 0 or not alone[k]:
            continue
        known = seen = False
        for c in range(look.shape[1]):
            known |= memory[k, c] > 0
            seen |= look[d, c] > 0
        if seen:
            share = np.float32(LEARN if known else 1.0)
            for c in range(look.shape[1]):
                memory[k, c] += share * (look[d, c] - memory[k, c])


@njit(cache=True, nogil=True)
def look_changes(
    start: NDArray[np.int64], row: NDArray[np.int64], detection: NDArray[np.int32], look: NDArray[np.uint8], span: int
) -> NDArray[np.float64]:  # pragma: no cover
    """How much each path's look changes at each of its rows, (rows,); 1 is as unlike as counts, more is possible.

    Compared are the mean looks of the ``span`` detections before the row and of the ``span`` from it on.
    """
    out = np.zeros(row.shape[0])
    sides = np.zeros((2, look.shape[1]), np.float32)
    for p in range(start.shape[0] - 1):
        seen = np.empty(start[p + 1] - start[p], np.int64)
        n = 0
        for k in range(start[p], start[p + 1]):
            if detection[row[k]] >= 0:
                seen[n] = k
                n += 1
        for at in range(span, n - span + 1):
            sides[:] = 0.0
            for step in range(-span, span):
                d = detection[row[seen[at + step]]]
                for c in range(look.shape[1]):
                    sides[0 if step < 0 else 1, c] += look[d, c]
            ab = aa = bb = 0.0
            for c in range(look.shape[1]):
                x, y = np.float64(sides[0, c]), np.float64(sides[1, c])
                ab, aa, bb = ab + x * y, aa + x * x, bb + y * y
            if aa > 0 and bb > 0:
                out[seen[min(at, n - 1)]] = _turned(ab, aa, bb) / FULL
    return out


@njit(cache=True, nogil=True)
def path_looks(
    start: NDArray[np.int64],
    row: NDArray[np.int64],
    detection: NDArray[np.int32],
    look: NDArray[np.uint8],
    at_start: bool,
    rows: int,
) -> NDArray[np.float32]:  # pragma: no cover
    """Mean look (paths, 32) over the first or last ``rows`` detections of every path; zero where there is none."""
    out = np.zeros((start.shape[0] - 1, look.shape[1]), np.float32)
    for p in range(start.shape[0] - 1):
        n = 0
        for step in range(start[p + 1] - start[p]):
            k = start[p] + step if at_start else start[p + 1] - 1 - step
            d = detection[row[k]]
            if d < 0:
                continue
            for c in range(look.shape[1]):
                out[p, c] += look[d, c]
            n += 1
            if n == rows:
                break
    return out
