"""Pixel loops of the background models."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = [
    "difference_from_before",
    "mark_moving",
    "mark_strong",
    "update_average",
    "update_known",
    "update_median",
    "update_mixture",
]

Grey = NDArray[np.uint8]
Float32 = NDArray[np.float32]
TURNS = 4  # frames between two full looks at what changes slowly
_EIGHT = np.float32(8.0)
_HALF = np.float32(0.5)
_MOST = np.float32(255.0)


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


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def update_mixture(
    grey: Grey,
    mean: Float32,
    variance: Float32,
    faces: Float32,
    count: Grey,
    difference: Grey,
    rate: np.float32,
    busy_rate: np.float32,
    pruning: np.float32,
    background_share: np.float32,
    least_noise: np.float32,
    first_noise: np.float32,
    in_noise: bool,
    turn: int,
    first_row: int,
    past_row: int,
) -> np.float32:  # pragma: no cover
    """One step of the mixture, in place, for some rows.

    ``faces`` (height, width, components, 3) holds weight, mean and variance in order of weight, all of one pixel
    side by side in memory; mean and variance of the first live in ``mean`` and ``variance`` between steps. A pixel
    matches a component within three standard deviations. ``difference`` becomes the distance from the nearest
    component that belongs to the background.

    Most pixels match their first component and are done after a quick look; a pixel is looked at in full when it
    does not match, or has more components and its turn has come. Both looks take one row after the other, so that
    a row is still near at hand for the second.
    """
    width = grey.shape[1]
    odd = np.zeros(-(-width // 8) * 8, np.uint8)
    eights, places = odd.view(np.uint64), np.empty(odd.shape[0] + 1, np.int64)
    last, touched = faces.shape[2] - 1, np.float32(0.0)
    for y in range(first_row, past_row):
        _look_at_first(grey, mean, variance, count, difference, odd, y, rate, least_noise, in_noise, turn)
        n = 0
        for e in range(eights.shape[0]):
            if eights[e] != 0:
                for x in range(8 * e, min(8 * e + 8, width)):
                    places[n] = x
                    n += odd[x]
        # All of them are touched before any is worked on, so that the waits for memory run side by side.
        near = np.float32(0.0)
        for k in range(n):
            near += faces[y, places[k], 0, 0] + faces[y, places[k], last, 2]
        touched += near
        for k in range(n):
            x = places[k]
            faces[y, x, 0, 1], faces[y, x, 0, 2] = mean[y, x], variance[y, x]
            many, nearest = _update_pixel(
                np.float32(grey[y, x]), faces[y, x], int(count[y, x]), rate, busy_rate, pruning, background_share,
                least_noise, first_noise, in_noise,
            )  # fmt: skip
            count[y, x], difference[y, x] = many, nearest
            mean[y, x], variance[y, x] = faces[y, x, 0, 1], faces[y, x, 0, 2]
    return touched


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _look_at_first(
    grey: Grey,
    mean: Float32,
    variance: Float32,
    count: Grey,
    difference: Grey,
    odd: Grey,
    y: int,
    rate: np.float32,
    least_noise: np.float32,
    in_noise: bool,
    turn: int,
) -> None:  # pragma: no cover
    """One row of the first components; ``odd`` (width,) becomes 1 where a pixel has to be looked at in full."""
    now, middle, spread, faces, shown = grey[y], mean[y], variance[y], count[y], difference[y]
    nine, shift = np.float32(9.0), (TURNS - (y + turn) % TURNS) % TURNS
    # Plain loops with one thing to do each, bytes by way of 32-bit numbers: only so do they become wide instructions.
    for x in range(now.shape[0]):
        delta = np.float32(now[x]) - middle[x]
        due = (faces[x] != 1) & ((np.int32(x) + np.int32(shift)) & np.int32(TURNS - 1) == 0)
        odd[x] = np.uint8((delta * delta >= nine * spread[x]) | due)
    if in_noise:
        for x in range(now.shape[0]):
            size = abs(np.float32(now[x]) - middle[x]) * _EIGHT / np.sqrt(spread[x])
            shown[x] = np.uint8(np.int32(min(size + _HALF, _MOST)))
    else:
        for x in range(now.shape[0]):
            shown[x] = np.uint8(np.int32(min(abs(np.float32(now[x]) - middle[x]) + _HALF, _MOST)))
    for x in range(now.shape[0]):
        step = rate if odd[x] == 0 else np.float32(0.0)
        delta = np.float32(now[x]) - middle[x]
        middle[x] += step * delta
        spread[x] = max(least_noise, spread[x] + step * (delta * delta - spread[x]))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _update_pixel(
    value: np.float32,
    faces: Float32,
    n: int,
    rate: np.float32,
    busy_rate: np.float32,
    pruning: np.float32,
    background_share: np.float32,
    least_noise: np.float32,
    first_noise: np.float32,
    in_noise: bool,
) -> tuple[int, np.uint8]:  # pragma: no cover
    """One step of one pixel's mixture, in full: how many components it has now, and its difference."""
    most = faces.shape[0]
    nearest, before = np.float32(1e9), np.float32(0.0)
    owner, owner_is_background = -1, False
    for k in range(n):
        delta = value - faces[k, 1]
        behind = before < background_share
        before += faces[k, 0]
        if behind:
            nearest = min(nearest, _shown(abs(delta), faces[k, 2], in_noise))
        if owner < 0 and delta * delta < np.float32(9.0) * faces[k, 2]:
            owner, owner_is_background = k, behind
    difference = np.uint8(min(nearest + _HALF, _MOST)) if n > 0 else np.uint8(0)
    step = rate if owner_is_background or n == 0 else busy_rate
    if owner == 0 and n > 1:
        step = min(step * np.float32(TURNS), np.float32(1.0))  # it comes this way only once in so many frames
    total = np.float32(0.0)
    kept = 0
    for k in range(n):
        w = faces[k, 0] - step * (faces[k, 0] + pruning)
        if k == owner:
            w += step
            share = min(np.float32(1.0), step / max(w, np.float32(1e-6)))
            delta = value - faces[k, 1]
            faces[k, 1] += share * delta
            changed = faces[k, 2] + share * (delta * delta - faces[k, 2])
            faces[k, 2] = min(max(changed, least_noise), np.float32(5.0) * first_noise)
        if w > 0:
            faces[kept, 0], faces[kept, 1], faces[kept, 2] = w, faces[k, 1], faces[k, 2]
            kept += 1
            total += w
    if owner < 0:
        if kept == most:
            kept -= 1
            total -= faces[kept, 0]
        faces[kept, 0] = np.float32(1.0) if n == 0 else step
        faces[kept, 1], faces[kept, 2] = value, first_noise
        total += faces[kept, 0]
        kept += 1
    scale = np.float32(1.0) / total
    for k in range(kept):
        faces[k, 0] *= scale
    for k in range(kept - 1, 0, -1):
        if faces[k, 0] > faces[k - 1, 0]:
            for part in range(3):
                held = faces[k, part]
                faces[k, part] = faces[k - 1, part]
                faces[k - 1, part] = held
    return kept, difference


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


@njit(cache=True, nogil=True)
def mark_strong(
    difference: Grey, threshold: np.uint8, weak: NDArray[np.uint64], strong: NDArray[np.uint64]
) -> None:  # pragma: no cover
    """Of the pixels set in ``weak`` set in ``strong`` those whose difference is over a higher threshold."""
    height, width = difference.shape
    for y in range(height):
        for w in range(weak.shape[1]):
            bits = weak[y, w]
            if bits == 0:
                strong[y, w] = bits
                continue
            over = np.uint64(0)
            for x in range(64 * w, min(64 * w + 64, width)):
                over |= np.uint64(difference[y, x] > threshold) << np.uint64(x & 63)
            strong[y, w] = over & bits
