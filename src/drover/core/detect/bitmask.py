"""Masks with 64 pixels to a word: opening and closing by shifting whole words.

Erosion and dilation by a box are sliding AND and OR; on packed words 64 pixels take one operation
(van den Boomgaard and van Balen 1992, "Methods for fast morphological image transforms using bitmapped
binary images").
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["Words", "close_mask", "lowest_place", "open_mask", "unpack", "words_for"]

Words = NDArray[np.uint64]
_ONES = np.uint64(0xFFFFFFFFFFFFFFFF)


# Place of a single set bit, by a product that has another top six bits for each (Leiserson et al. 1998).
_SPREAD = np.uint64(0x03F79D71B4CB0A89)
_PLACES = np.zeros(64, np.uint8)
for _k in range(64):
    _PLACES[((0x03F79D71B4CB0A89 << _k) & 0xFFFFFFFFFFFFFFFF) >> 58] = _k


@njit(cache=True, nogil=True, inline="always")
def lowest_place(bit: np.uint64) -> np.int64:  # pragma: no cover
    """Place (0..63) of the one bit that is set in a word."""
    return np.int64(_PLACES[(bit * _SPREAD) >> np.uint64(58)])


def words_for(height: int, width: int) -> Words:
    """An empty mask of that size: (height, ceil(width / 64)) uint64."""
    return np.zeros((height, (width + 63) // 64), np.uint64)


def unpack(words: Words, width: int) -> NDArray[np.uint8]:
    """Packed mask to (height, width) uint8 of 0 and 1."""
    octets = words.astype("<u8").view(np.uint8)
    return np.unpackbits(octets, axis=1, bitorder="little")[:, :width]


def open_mask(words: Words, size: int, width: int) -> Words:
    """Erode, then dilate, by a box of ``size`` px: specks thinner than that go. Beyond the edge counts as set."""
    return words if size <= 1 else _slide(_slide(words, size, width, False, False), size, width, True, True)


def close_mask(words: Words, size: int, width: int) -> Words:
    """Dilate, then erode, by a box of ``size`` px: cracks narrower than that fill.

    Works on a padded copy, as if the picture went on clear beyond its edge: otherwise what stands near the
    edge would be joined to it.
    """
    if size <= 1:
        return words
    height, count = words.shape
    padded = np.zeros((height + 2 * size, count + 2), np.uint64)
    padded[size:-size, 1:-1] = words
    wide = (count + 2) * 64
    closed = _slide(_slide(padded, size, wide, True, False), size, wide, False, True)[size:-size, 1:-1].copy()
    tail = width - (count - 1) * 64
    if tail < 64:
        closed[:, -1] &= np.uint64((1 << tail) - 1)
    return closed


def _slide(words: Words, size: int, width: int, grow: bool, mirrored: bool) -> Words:
    before, after = (size - 1) // 2, size // 2
    if mirrored:
        before, after = after, before
    return slide_box(words, before, after, width, grow)


@njit(cache=True, nogil=True)
def slide_box(words: Words, before: int, after: int, width: int, grow: bool) -> Words:  # pragma: no cover
    """OR (grow) or AND of the mask over x - before .. x + after and the same in y; both under 64.

    Most words of a mask are empty: only those that hold something are worked on.
    """
    tail = np.uint64(width - (words.shape[1] - 1) * 64)
    tail_mask = _ONES if tail == np.uint64(64) else (np.uint64(1) << tail) - np.uint64(1)
    if grow:
        return _spread_down(_spread_across(words, before, after, tail_mask), before, after)
    return _shrunk_down(_shrunk_across(words, before, after, tail_mask), before, after)


@njit(cache=True, nogil=True)
def _spread_across(words: Words, before: int, after: int, tail_mask: np.uint64) -> Words:  # pragma: no cover
    """OR along the rows: each word into itself and its two neighbours."""
    height, count = words.shape
    out = np.zeros_like(words)
    for y in range(height):
        for w in range(count):
            here = words[y, w]
            if here == np.uint64(0):
                continue
            own, left, right = here, np.uint64(0), np.uint64(0)
            for s in range(1, before + 1):
                own |= here << np.uint64(s)
                right |= here >> np.uint64(64 - s)
            for s in range(1, after + 1):
                own |= here >> np.uint64(s)
                left |= here << np.uint64(64 - s)
            out[y, w] |= own
            if w > 0:
                out[y, w - 1] |= left
            if w + 1 < count:
                out[y, w + 1] |= right
        out[y, count - 1] &= tail_mask
    return out


@njit(cache=True, nogil=True)
def _spread_down(words: Words, before: int, after: int) -> Words:  # pragma: no cover
    """OR along the columns."""
    height, count = words.shape
    out = np.zeros_like(words)
    for y in range(height):
        for w in range(count):
            if words[y, w] != np.uint64(0):
                for other in range(max(0, y - after), min(height, y + before + 1)):
                    out[other, w] |= words[y, w]
    return out


@njit(cache=True, nogil=True)
def _shrunk_across(words: Words, before: int, after: int, tail_mask: np.uint64) -> Words:  # pragma: no cover
    """AND along the rows; beyond the edge counts as set."""
    height, count = words.shape
    out = np.zeros_like(words)
    for y in range(height):
        for w in range(count):
            if words[y, w] == np.uint64(0):
                continue
            here = words[y, w] | ~tail_mask if w == count - 1 else words[y, w]
            left = words[y, w - 1] if w > 0 else _ONES
            right = words[y, w + 1] if w + 1 < count else _ONES
            if w + 1 == count - 1:
                right |= ~tail_mask
            kept = here
            for s in range(1, before + 1):
                kept &= (here << np.uint64(s)) | (left >> np.uint64(64 - s))
            for s in range(1, after + 1):
                kept &= (here >> np.uint64(s)) | (right << np.uint64(64 - s))
            out[y, w] = kept & tail_mask if w == count - 1 else kept
    return out


@njit(cache=True, nogil=True)
def _shrunk_down(words: Words, before: int, after: int) -> Words:  # pragma: no cover
    """AND along the columns; beyond the edge counts as set."""
    height, count = words.shape
    out = np.zeros_like(words)
    for y in range(height):
        for w in range(count):
            kept = words[y, w]
            if kept != np.uint64(0):
                for other in range(max(0, y - before), min(height, y + after + 1)):
                    kept &= words[other, w]
                out[y, w] = kept
    return out
