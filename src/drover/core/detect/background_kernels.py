"""Pixel loops of the background models."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = [
    "difference_from_before",
    "mark_both",
    "mark_moving",
    "update_average",
    "update_known",
    "update_median",
]

Grey = NDArray[np.uint8]
Float32 = NDArray[np.float32]
TURNS = 4  # frames between two full looks at what changes slowly
_EIGHT = np.float32(8.0)
_HALF = np.float32(0.5)
_MOST = np.float32(255.0)
_NONE = np.uint64(0)
_SIDE_BY_SIDE = np.uint64(0x0102040810204080)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _shown(size, variance, in_noise):  # type: ignore[no-untyped-def]  # pragma: no cover
    """A difference as the difference picture holds it, still a float."""
    return size * _EIGHT / np.sqrt(variance) if in_noise else size


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def update_average(
    grey: Grey,
    background: Float32,
    noise: Float32,
    difference: Grey,
    cut: np.float32,
    rate: np.float32,
    busy_rate: np.float32,
    noise_rate: np.float32,
    least_noise: np.float32,
    in_noise: bool,
    turn: int,
) -> None:  # pragma: no cover
    """One step of the running average, in place.

    ``difference`` becomes the distance from the background as it was; the background moves toward the picture
    by ``rate``, or by ``busy_rate`` where the difference is over ``cut``. ``noise`` (levels squared) follows the
    squared difference where nothing moves, in every fourth row: noise does not change from frame to frame.
    """
    height, width = grey.shape
    for y in range(height):
        # Three plain loops, each with a bound on every byte: only so are they turned into wide instructions.
        learns = noise_rate if (y + turn) % TURNS == 0 else np.float32(0.0)
        if in_noise:
            for x in range(width):
                delta = np.float32(grey[y, x]) - background[y, x]
                shown = abs(delta) * _EIGHT / np.sqrt(noise[y, x])
                difference[y, x] = np.uint8(np.int32(min(shown + _HALF, _MOST)))
                background[y, x] += (busy_rate if shown > cut else rate) * delta
                learnt = max(least_noise, noise[y, x] + learns * (delta * delta - noise[y, x]))
                noise[y, x] = noise[y, x] if shown > cut else learnt
        elif learns > 0:
            for x in range(width):
                delta = np.float32(grey[y, x]) - background[y, x]
                size = abs(delta)
                difference[y, x] = np.uint8(np.int32(min(size + _HALF, _MOST)))
                background[y, x] += (busy_rate if size > cut else rate) * delta
                learnt = max(least_noise, noise[y, x] + learns * (delta * delta - noise[y, x]))
                noise[y, x] = noise[y, x] if size > cut else learnt
        else:
            for x in range(width):
                delta = np.float32(grey[y, x]) - background[y, x]
                size = abs(delta)
                difference[y, x] = np.uint8(np.int32(min(size + _HALF, _MOST)))
                background[y, x] += (busy_rate if size > cut else rate) * delta


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def update_known(
    grey: Grey,
    background: Float32,
    scale: Float32,
    difference: Grey,
    cut: np.float32,
    rate: np.float32,
    busy_rate: np.float32,
) -> None:  # pragma: no cover
    """One step of the running average where the noise is known, in place; ``scale`` is eight over the noise."""
    height, width = grey.shape
    for y in range(height):
        for x in range(width):
            delta = np.float32(grey[y, x]) - background[y, x]
            shown = abs(delta) * scale[y, x]
            difference[y, x] = np.uint8(np.int32(min(shown + _HALF, _MOST)))
            background[y, x] += (busy_rate if shown > cut else rate) * delta


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def update_median(
    grey: Grey,
    background: Float32,
    noise: Float32,
    difference: Grey,
    cut: np.float32,
    pace: np.float32,
    busy_pace: np.float32,
    noise_rate: np.float32,
    least_noise: np.float32,
    in_noise: bool,
) -> None:  # pragma: no cover
    """One step of the approximate median, in place: as the average, but by at most ``pace`` levels."""
    height, width = grey.shape
    for y in range(height):
        for x in range(width):
            delta = np.float32(grey[y, x]) - background[y, x]
            size = abs(delta)
            shown = _shown(size, noise[y, x], in_noise)
            difference[y, x] = np.uint8(np.int32(min(shown + _HALF, _MOST)))
            busy = shown > cut
            most = busy_pace if busy else pace
            background[y, x] += min(max(delta, -most), most)
            learnt = max(least_noise, noise[y, x] + noise_rate * (size * size - noise[y, x]))
            noise[y, x] = noise[y, x] if busy else learnt


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def difference_from_before(
    grey: Grey,
    before: Grey,
    older: Grey,
    noise: Float32,
    difference: Grey,
    cut: np.float32,
    noise_rate: np.float32,
    least_noise: np.float32,
    in_noise: bool,
) -> None:  # pragma: no cover
    """Smaller of the differences from two earlier pictures; give the same one twice for two-frame difference."""
    height, width = grey.shape
    for y in range(height):
        for x in range(width):
            now = np.float32(grey[y, x])
            size = min(abs(now - np.float32(before[y, x])), abs(now - np.float32(older[y, x])))
            shown = _shown(size, noise[y, x], in_noise)
            difference[y, x] = np.uint8(np.int32(min(shown + _HALF, _MOST)))
            learnt = max(least_noise, noise[y, x] + noise_rate * (size * size - noise[y, x]))
            noise[y, x] = noise[y, x] if shown > cut else learnt


def mark_moving(difference: Grey, threshold: float, words: NDArray[np.uint64]) -> None:
    """Set bit x % 64 of word x // 64 in each row where the difference is over the threshold."""
    level = np.uint8(min(max(threshold, 0.0), 255.0))
    mark_both(difference, level, level, words, words)


@njit(cache=True, nogil=True)
def mark_both(
    difference: Grey,
    low: np.uint8,
    high: np.uint8,
    weak: NDArray[np.uint64],
    strong: NDArray[np.uint64],
) -> None:  # pragma: no cover
    """Set the bits of ``weak`` where the difference is over ``low`` and of ``strong`` where it is over ``high``."""
    over = np.zeros(64 * weak.shape[1], np.uint8)
    eights = over.view(np.uint64)
    for y in range(difference.shape[0]):
        if _pack_row(difference[y], low, over, eights, weak[y]):
            _pack_row(difference[y], high, over, eights, strong[y])
        else:
            strong[y] = 0


@njit(cache=True, nogil=True, inline="always")
def _pack_row(
    row: Grey, level: np.uint8, over: Grey, eights: NDArray[np.uint64], words: NDArray[np.uint64]
) -> bool:  # pragma: no cover
    """A mask of one row; whether anything is set. One product brings the lowest bits of eight bytes side by side."""
    for x in range(row.shape[0]):
        over[x] = np.uint8(row[x] > level)
    anything = _NONE
    for w in range(words.shape[0]):
        bits = _NONE
        for k in range(8):
            bits |= ((eights[8 * w + k] * _SIDE_BY_SIDE) >> np.uint64(56)) << np.uint64(8 * k)
        words[w] = bits
        anything |= bits
    return anything != _NONE
