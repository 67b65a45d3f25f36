"""Pixel loops of the background models."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = [
    "difference_from_before",
    "look_at_first",
    "mark_moving",
    "update_average",
    "update_median",
    "update_mixture",
]

Grey = NDArray[np.uint8]
Float32 = NDArray[np.float32]
TURNS = 4  # frames between two full looks at what changes slowly
_EIGHT = np.float32(8.0)
_HALF = np.float32(0.5)
_MOST = np.float32(255.0)


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _shown(size, variance, in_noise):  # type: ignore[no-untyped-def]  # pragma: no cover
    """A difference as the difference picture holds it, still a float."""
    return size * _EIGHT / np.sqrt(variance) if in_noise else size


@njit(cache=True, nogil=True, fastmath=True)
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
                difference[y, x] = np.uint8(min(shown + _HALF, _MOST))
                background[y, x] += (busy_rate if shown > cut else rate) * delta
                learnt = max(least_noise, noise[y, x] + learns * (delta * delta - noise[y, x]))
                noise[y, x] = noise[y, x] if shown > cut else learnt
        elif learns > 0:
            for x in range(width):
                delta = np.float32(grey[y, x]) - background[y, x]
                size = abs(delta)
                difference[y, x] = np.uint8(min(size + _HALF, _MOST))
                background[y, x] += (busy_rate if size > cut else rate) * delta
                learnt = max(least_noise, noise[y, x] + learns * (delta * delta - noise[y, x]))
                noise[y, x] = noise[y, x] if size > cut else learnt
        else:
            for x in range(width):
                delta = np.float32(grey[y, x]) - background[y, x]
                size = abs(delta)
                difference[y, x] = np.uint8(min(size + _HALF, _MOST))
                background[y, x] += (busy_rate if size > cut else rate) * delta


@njit(cache=True, nogil=True, fastmath=True)
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
            difference[y, x] = np.uint8(min(shown + _HALF, _MOST))
            busy = shown > cut
            most = busy_pace if busy else pace
            background[y, x] += min(max(delta, -most), most)
            learnt = max(least_noise, noise[y, x] + noise_rate * (size * size - noise[y, x]))
            noise[y, x] = noise[y, x] if busy else learnt


@njit(cache=True, nogil=True, fastmath=True)
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
            difference[y, x] = np.uint8(min(shown + _HALF, _MOST))
            learnt = max(least_noise, noise[y, x] + noise_rate * (size * size - noise[y, x]))
            noise[y, x] = noise[y, x] if shown > cut else learnt


@njit(cache=True, nogil=True, fastmath=True)
def look_at_first(
    grey: Grey,
    mean: Float32,
    variance: Float32,
    count: Grey,
    difference: Grey,
    odd: Grey,
    rate: np.float32,
    least_noise: np.float32,
    in_noise: bool,
    turn: int,
    first_row: int,
    past_row: int,
) -> None:  # pragma: no cover
    """The mixture's first component, (height, width) each: most pixels match it and are done here.

    ``odd`` becomes 1 where a pixel has to be looked at in full: it does not match, or it has more components and
    its turn has come.
    """
    width = grey.shape[1]
    nine, zero = np.float32(9.0), np.float32(0.0)
    for y in range(first_row, past_row):
        greys, means, spreads = grey[y], mean[y], variance[y]
        counts, shown, odds = count[y], difference[y], odd[y]
        for x in range(width):
            delta = np.float32(greys[x]) - means[x]
            matches = delta * delta < nine * spreads[x]
            shown[x] = np.uint8(min(_shown(abs(delta), spreads[x], in_noise) + _HALF, _MOST))
            due = (counts[x] != 1) & ((x + turn) % TURNS == 0)
            odds[x] = np.uint8((not matches) | due)
        for x in range(width):
            step = zero if odds[x] else rate
            delta = np.float32(greys[x]) - means[x]
            means[x] += step * delta
            spreads[x] = max(least_noise, spreads[x] + step * (delta * delta - spreads[x]))


@njit(cache=True, nogil=True, fastmath=True)
def update_mixture(
    grey: Grey,
    weight: Float32,
    mean: Float32,
    variance: Float32,
    count: Grey,
    difference: Grey,
    odd: Grey,
    rate: np.float32,
    busy_rate: np.float32,
    pruning: np.float32,
    background_share: np.float32,
    least_noise: np.float32,
    first_noise: np.float32,
    in_noise: bool,
    first_row: int,
    past_row: int,
) -> None:  # pragma: no cover
    """One step of the mixture in full, in place, for the ``odd`` pixels of some rows.

    Components lie in order of weight, (components, height, width). A pixel matches a component within three
    standard deviations. ``difference`` becomes the distance from the nearest component that belongs to the
    background.
    """
    for y in range(first_row, past_row):
        for x in range(grey.shape[1]):
            if odd[y, x]:
                _update_pixel(
                    y, x, np.float32(grey[y, x]), weight, mean, variance, count, difference, rate, busy_rate,
                    pruning, background_share, least_noise, first_noise, in_noise,
                )  # fmt: skip


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _update_pixel(
    y: int,
    x: int,
    value: np.float32,
    weight: Float32,
    mean: Float32,
    variance: Float32,
    count: Grey,
    difference: Grey,
    rate: np.float32,
    busy_rate: np.float32,
    pruning: np.float32,
    background_share: np.float32,
    least_noise: np.float32,
    first_noise: np.float32,
    in_noise: bool,
) -> None:  # pragma: no cover
    """One step of one pixel's mixture, in full."""
    most, n = weight.shape[0], int(count[y, x])
    nearest, before = np.float32(1e9), np.float32(0.0)
    owner, owner_is_background = -1, False
    for k in range(n):
        delta = value - mean[k, y, x]
        behind = before < background_share
        before += weight[k, y, x]
        if behind:
            nearest = min(nearest, _shown(abs(delta), variance[k, y, x], in_noise))
        if owner < 0 and delta * delta < np.float32(9.0) * variance[k, y, x]:
            owner, owner_is_background = k, behind
    difference[y, x] = np.uint8(min(nearest + _HALF, _MOST)) if n > 0 else np.uint8(0)
    step = rate if owner_is_background or n == 0 else busy_rate
    if owner == 0 and n > 1:
        step = min(step * np.float32(TURNS), np.float32(1.0))  # it comes this way only once in so many frames
    total = np.float32(0.0)
    kept = 0
    for k in range(n):
        w = weight[k, y, x] - step * (weight[k, y, x] + pruning)
        if k == owner:
            w += step
            share = min(np.float32(1.0), step / max(w, np.float32(1e-6)))
            delta = value - mean[k, y, x]
            mean[k, y, x] += share * delta
            changed = variance[k, y, x] + share * (delta * delta - variance[k, y, x])
            variance[k, y, x] = min(max(changed, least_noise), np.float32(5.0) * first_noise)
        if w > 0:
            weight[kept, y, x], mean[kept, y, x], variance[kept, y, x] = w, mean[k, y, x], variance[k, y, x]
            kept += 1
            total += w
    if owner < 0:
        if kept == most:
            kept -= 1
            total -= weight[kept, y, x]
        weight[kept, y, x] = np.float32(1.0) if n == 0 else step
        mean[kept, y, x], variance[kept, y, x] = value, first_noise
        total += weight[kept, y, x]
        kept += 1
    for k in range(kept):
        weight[k, y, x] /= total
    for k in range(kept - 1, 0, -1):
        if weight[k, y, x] > weight[k - 1, y, x]:
            for plane in (weight, mean, variance):
                held = plane[k, y, x]
                plane[k, y, x] = plane[k - 1, y, x]
                plane[k - 1, y, x] = held
    count[y, x] = kept


def mark_moving(
    difference: Grey, threshold: float, words: NDArray[np.uint64], over: NDArray[np.bool_] | None = None
) -> None:
    """Set bit x % 64 of word x // 64 in each row where the difference is over the threshold.

    ``over`` (height, width) bool is room to work in, for those who call this for every frame.
    """
    moves = np.greater(difference, np.uint8(min(max(threshold, 0.0), 255.0)), out=over)
    octets = np.packbits(moves, axis=1, bitorder="little")
    words[:, -1] = 0
    words.view(np.uint8)[:, : octets.shape[1]] = octets
