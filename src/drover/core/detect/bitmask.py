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
_ONES, _NONE = np.uint64(0xFFFFFFFFFFFFFFFF), np.uint64(0)


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
    if size <= 1:
        return words
    before, after = (size - 1) // 2, size // 2
    return _open(words, before, after, _tail_of(width, words.shape[1]))


def close_mask(words: Words, size: int, width: int) -> Words:
    """Dilate, then erode, by a box of ``size`` px: cracks narrower than that fill.

    As if the picture went on clear beyond its edge: otherwise what stands near the edge would be joined to it.
    """
    if size <= 1:
        return words
    before, after = (size - 1) // 2, size // 2
    return _close(words, before, after, _tail_of(width, words.shape[1]))


def _tail_of(width: int, count: int) -> np.uint64:
    """The bits of the last of ``count`` words that lie inside a picture of that width."""
    tail = width - (count - 1) * 64
    return np.uint64((1 << tail) - 1)


@njit(cache=True, nogil=True)
def _open(words: Words, before: int, after: int, tail: np.uint64) -> Words:  # pragma: no cover
    height, count = words.shape
    out = np.zeros((height, count), np.uint64)
    holds = np.zeros(height, np.bool_)
    line, room = np.empty(count + 2, np.uint64), np.empty(count, np.uint64)
    for y in range(height):
        if _holds_any(words[y]):
            _into_line(words[y], line, _ONES)
            line[count] |= ~tail
            holds[y] = _shrink_across(line, before, after, out[y])
            out[y, count - 1] &= tail
    thin = out.copy()
    for y in range(height):
        if holds[y]:
            # A row is kept where all rows around it hold something.
            for other in range(max(0, y - before), min(height, y + after + 1)):
                _and_into(out[other], thin[y])
    out[:] = 0
    for y in range(height):
        if holds[y] and _holds_any(thin[y]):
            _into_line(thin[y], line, _NONE)
            _grow_across(line, after, before, room)
            room[count - 1] &= tail
            for other in range(max(0, y - before), min(height, y + after + 1)):
                _or_into(room, out[other])
    return out


@njit(cache=True, nogil=True)
def _close(words: Words, before: int, after: int, tail: np.uint64) -> Words:  # pragma: no cover
    height, count = words.shape
    above = before + after
    # With room around for what grows over the edge.
    wide = np.zeros((height + 2 * above, count + 2), np.uint64)
    holds = np.zeros(height + 2 * above, np.bool_)
    line, room = np.zeros(count + 4, np.uint64), np.empty(count + 2, np.uint64)
    for y in range(height):
        if _holds_any(words[y]):
            _into_line(words[y], line[1:], _NONE)
            _grow_across(line, before, after, room)
            for other in range(y + above - after, y + above + before + 1):
                _or_into(room, wide[other])
                holds[other] = True
    out = np.zeros((height, count), np.uint64)
    for y in range(height):
        first, past = y + above - after, y + above + before + 1
        if not holds[first:past].all():
            continue
        _into_line(wide[first], line, _NONE)
        for other in range(first + 1, past):
            _and_into(wide[other], line[1:])
        if _shrink_across(line, after, before, room):
            for w in range(count):
                out[y, w] = room[w + 1]
            out[y, count - 1] &= tail
    return out


@njit(cache=True, nogil=True, inline="always")
def _holds_any(row: NDArray[np.uint64]) -> bool:  # pragma: no cover
    found = _NONE
    for w in range(row.shape[0]):
        found |= row[w]
    return found != _NONE


@njit(cache=True, nogil=True, inline="always")
def _into_line(row: NDArray[np.uint64], line: NDArray[np.uint64], outside: np.uint64) -> None:  # pragma: no cover
    """A row with one word more on either side."""
    line[0] = line[row.shape[0] + 1] = outside
    for w in range(row.shape[0]):
        line[w + 1] = row[w]


@njit(cache=True, nogil=True, inline="always")
def _or_into(row: NDArray[np.uint64], out: NDArray[np.uint64]) -> None:  # pragma: no cover
    for w in range(row.shape[0]):
        out[w] |= row[w]


@njit(cache=True, nogil=True, inline="always")
def _and_into(row: NDArray[np.uint64], out: NDArray[np.uint64]) -> None:  # pragma: no cover
    for w in range(row.shape[0]):
        out[w] &= row[w]


@njit(cache=True, nogil=True, inline="always")
def _grow_across(
    line: NDArray[np.uint64], before: int, after: int, out: NDArray[np.uint64]
) -> None:  # pragma: no cover
    """OR over x - before .. x + after, each under 64; ``line`` has one word more than ``out`` on either side."""
    for w in range(out.shape[0]):
        out[w] = line[w + 1]
    for s in range(1, before + 1):
        up, down = np.uint64(s), np.uint64(64 - s)
        for w in range(out.shape[0]):
            out[w] |= (line[w + 1] << up) | (line[w] >> down)
    for s in range(1, after + 1):
        up, down = np.uint64(64 - s), np.uint64(s)
        for w in range(out.shape[0]):
            out[w] |= (line[w + 1] >> down) | (line[w + 2] << up)


@njit(cache=True, nogil=True, inline="always")
def _shrink_across(
    line: NDArray[np.uint64], before: int, after: int, out: NDArray[np.uint64]
) -> bool:  # pragma: no cover
    """AND over x - before .. x + after, each under 64; whether anything is left."""
    for w in range(out.shape[0]):
        out[w] = line[w + 1]
    for s in range(1, before + 1):
        up, down = np.uint64(s), np.uint64(64 - s)
        for w in range(out.shape[0]):
            out[w] &= (line[w + 1] << up) | (line[w] >> down)
    for s in range(1, after + 1):
        up, down = np.uint64(64 - s), np.uint64(s)
        for w in range(out.shape[0]):
            out[w] &= (line[w + 1] >> down) | (line[w + 2] << up)
    return _holds_any(out)
