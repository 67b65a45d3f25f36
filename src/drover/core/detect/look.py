"""How an object looks, in 32 numbers: histograms of brightness, colour and edges inside its blob.

Colour histograms tell things apart however they turn (Swain and Ballard 1991, "Color indexing"); histograms of edge
directions add their texture (after Dalal and Triggs 2005, one cell). Each pixel shares its vote between neighbouring
bins, so that a little more light does not move it from one into the next at once. Compared by the cosine.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.types import LOOK

__all__ = ["describe_blobs", "no_looks"]

GREYS, COLOURS, WAYS = 8, 4, 8
assert GREYS + COLOURS * COLOURS + WAYS == LOOK
COLOUR_STEP = 12.0  # levels of colour difference between neighbouring bins; farm colours lie near grey
ENOUGH = 400  # px of a blob that are looked at; a larger one is looked at in every n-th row
STEEP = 4.0  # levels of brightness a pixel that an edge has at least: less is noise

Look = NDArray[np.uint8]


def no_looks(rows: int = 0) -> Look:
    """Descriptors of boxes that were never looked at: all zero."""
    return np.zeros((rows, LOOK), np.uint8)


@njit(cache=True, nogil=True)
def describe_blobs(
    runs: NDArray[np.int16], run_count: NDArray[np.int64], grey: NDArray[np.uint8], chroma: NDArray[np.uint8]
) -> Look:  # pragma: no cover
    """Descriptors (blobs, 32) uint8 of blobs given as run lengths.

    Parameters
    ----------
    runs : (runs, 3) int16: y, first x, one past the last x
    run_count : (blobs,) int64
    grey : (height, width) uint8
    chroma : (2, height / 2, width / 2) uint8, or of no size where the footage has no colour
    """
    out = np.zeros((run_count.shape[0], LOOK), np.uint8)
    votes = np.zeros(LOOK)
    first = 0
    for b in range(run_count.shape[0]):
        past = first + run_count[b]
        pixels = 0
        for r in range(first, past):
            pixels += runs[r, 2] - runs[r, 1]
        every = max(1, pixels // ENOUGH)
        votes[:] = 0.0
        for r in range(first, past, every):
            _vote(votes, grey, chroma, runs[r, 0], runs[r, 1], runs[r, 2])
        _scaled(votes, 0, GREYS, out, b)
        _scaled(votes, GREYS, GREYS + COLOURS * COLOURS, out, b)
        _scaled(votes, GREYS + COLOURS * COLOURS, LOOK, out, b)
        first = past
    return out


@njit(cache=True, nogil=True)
def _vote(
    votes: NDArray[np.float64], grey: NDArray[np.uint8], chroma: NDArray[np.uint8], y: int, x1: int, x2: int
) -> None:  # pragma: no cover
    """Add one run's pixels to the histograms."""
    height, width = grey.shape
    for x in range(x1, x2):
        at = grey[y, x] / 256.0 * GREYS - 0.5
        low = int(np.floor(at))
        share = at - low
        votes[max(low, 0)] += 1.0 - share
        votes[min(low + 1, GREYS - 1)] += share
        if 0 < x < width - 1 and 0 < y < height - 1:
            gx = 0.5 * (np.float64(grey[y, x + 1]) - np.float64(grey[y, x - 1]))
            gy = 0.5 * (np.float64(grey[y + 1, x]) - np.float64(grey[y - 1, x]))
            steep = np.sqrt(gx * gx + gy * gy)
            if steep >= STEEP:
                # Directions without sense: dark on light and light on dark are one edge.
                turn = _half_turns(gx, gy) * WAYS
                way = int(turn) % WAYS
                share = turn - int(turn)
                votes[GREYS + COLOURS * COLOURS + way] += steep * (1.0 - share)
                votes[GREYS + COLOURS * COLOURS + (way + 1) % WAYS] += steep * share
        if chroma.shape[1] > 0 and x % 2 == 0 and y % 2 == 0:
            u = _colour_bin(chroma[0, min(y // 2, chroma.shape[1] - 1), min(x // 2, chroma.shape[2] - 1)])
            v = _colour_bin(chroma[1, min(y // 2, chroma.shape[1] - 1), min(x // 2, chroma.shape[2] - 1)])
            a, b = int(u), int(v)
            su, sv = u - a, v - b
            for i in range(2):
                for j in range(2):
                    bin_ = min(a + i, COLOURS - 1) * COLOURS + min(b + j, COLOURS - 1)
                    votes[GREYS + bin_] += (su if i else 1.0 - su) * (sv if j else 1.0 - sv)


@njit(cache=True, nogil=True, inline="always")
def _half_turns(gx: float, gy: float) -> float:  # pragma: no cover
    """Direction of an edge as a share of half a turn, 0 to under 1, to a thousandth.

    The arc tangent by a second-order term (Rajan et al. 2006, "Efficient approximations for the arctangent function").
    """
    if gy < 0 or (gy == 0 and gx < 0):
        gx, gy = -gx, -gy
    flat = abs(gx) >= gy
    t = gy / gx if flat else gx / gy
    turned = t * (0.25 + 0.0869 * (1.0 - abs(t)))
    turned = turned if flat else 0.5 - turned
    return turned + 1.0 if turned < 0 else turned


@njit(cache=True, nogil=True)
def _colour_bin(value: int) -> float:  # pragma: no cover
    """Place between 0 and COLOURS - 1 of a colour difference; grey lies in the middle."""
    return min(max((value - 128.0) / COLOUR_STEP + 0.5 * (COLOURS - 1), 0.0), COLOURS - 1.0)


@njit(cache=True, nogil=True)
def _scaled(votes: NDArray[np.float64], first: int, past: int, out: Look, b: int) -> None:  # pragma: no cover
    """Write one histogram at length 255, so that each weighs the same in the cosine."""
    length = 0.0
    for c in range(first, past):
        length += votes[c] * votes[c]
    if length > 0:
        for c in range(first, past):
            out[b, c] = np.uint8(votes[c] / np.sqrt(length) * 255.0 + 0.5)
