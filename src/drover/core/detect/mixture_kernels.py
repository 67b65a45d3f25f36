"""Pixel loops of the mixture of faces."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.detect.bitmask import lowest_place

__all__ = ["TURNS", "turns_at", "update_mixture"]

Grey = NDArray[np.uint8]
Float32 = NDArray[np.float32]
TURNS = 4  # pictures in which a pixel learns once, at most
MOST_AT_ONCE = 0.2  # share of a picture taken on in one step, from which pixels learn oftener
_EIGHT = np.float32(8.0)
_HALF = np.float32(0.5)
_MOST = np.float32(255.0)
_FAR = np.float32(1e9)
_NINE = np.float32(9.0)  # three standard deviations, squared
_THREE_SPREADS = np.float32(24.0)  # eighths: within three standard deviations a pixel matches a component
_NONE, _ONE = np.uint64(0), np.uint64(1)


def turns_at(rate: float) -> int:
    """In how many pictures a pixel learns once: fewer where pictures come slowly, and each says much."""
    return next((turns for turns in (TURNS, 2) if turns * rate <= MOST_AT_ONCE), 1)


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
    turns: int,
    first_row: int,
    past_row: int,
) -> np.float32:  # pragma: no cover
    """One step of the mixture, in place, for some rows.

    ``faces`` (height, width, components, 3) holds weight, mean and variance in order of weight, all of one pixel
    side by side in memory; mean and variance of the first live in ``mean`` and ``variance`` between steps. A pixel
    matches a component within three standard deviations. ``difference`` becomes the distance from the nearest
    component that belongs to the background.

    Most pixels match their first component and are done after a quick look. What is believed of a pixel changes slowly:
    each row learns once in ``turns`` frames (1, 2, 4, ...), by so many times the rate. Both looks take one row after
    the other, so that a row is still near at hand for the second.
    """
    width = grey.shape[1]
    odd = np.zeros(-(-width // 32) * 32, np.uint8)
    eights, places = odd.view(np.uint64), np.empty(odd.shape[0], np.int64)
    touched = np.float32(0.0)
    in_turn = min(rate * np.float32(turns), np.float32(1.0))
    busy_in_turn = min(busy_rate * np.float32(turns), np.float32(1.0))
    for y in range(first_row, past_row):
        due = (y + turn) % turns == 0
        _look_at_first(grey, mean, variance, count, difference, odd, y, in_turn, least_noise, in_noise, due)
        n = 0
        for four in range(0, eights.shape[0], 4):
            if eights[four] | eights[four + 1] | eights[four + 2] | eights[four + 3] == _NONE:
                continue
            for e in range(four, four + 4):
                left = eights[e]
                while left != _NONE:
                    low = left & (~left + _ONE)
                    left ^= low
                    places[n] = 8 * e + (lowest_place(low) >> 3)
                    n += 1
        # All of them are touched before any is worked on, so that the waits for memory run side by side.
        near = np.float32(0.0)
        for k in range(n):
            near += faces[y, places[k], 0, 0]
        touched += near
        row = faces[y]  # and the place in it: a view of every pixel's own would cost more than its step
        for k in range(n):
            x = places[k]
            value, many = np.float32(grey[y, x]), int(count[y, x])
            apart = value - mean[y, x]
            owner = 0 if many > 0 and apart * apart < _NINE * variance[y, x] else -1
            behind = owner == 0
            if many > 1 and owner < 0:
                nearest, owner, behind = _nearest_face(
                    value, row, x, many, mean[y, x], variance[y, x], background_share, in_noise
                )
                difference[y, x] = np.uint8(np.int32(min(nearest + _HALF, _MOST)))
            if due or many == 0:
                row[x, 0, 1], row[x, 0, 2] = mean[y, x], variance[y, x]
                step = in_turn if behind or many == 0 else busy_in_turn
                count[y, x] = _update_pixel(value, row, x, many, owner, step, pruning, least_noise, first_noise)
                mean[y, x], variance[y, x] = row[x, 0, 1], row[x, 0, 2]
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
    due: bool,
) -> None:  # pragma: no cover
    """One row of the first components; ``odd`` (width,) becomes 1 where a pixel has to be looked at in full."""
    now, middle, spread, faces, shown = grey[y], mean[y], variance[y], count[y], difference[y]
    # Plain loops with one thing to do each, bytes by way of 32-bit numbers: only so do they become wide instructions.
    for x in range(now.shape[0]):
        apart = abs(np.float32(now[x]) - middle[x])
        in_spreads = apart * _EIGHT / np.sqrt(spread[x])
        strange, many = in_spreads >= _THREE_SPREADS, faces[x] != 1
        # Where there is one face only, it is the nearest: what it was just said to be apart from it stands.
        odd[x] = np.uint8((strange & many) | (strange & due) | (many & due))
        shown[x] = np.uint8(np.int32(min((in_spreads if in_noise else apart) + _HALF, _MOST)))
    if not due:
        return
    for x in range(now.shape[0]):
        delta = np.float32(now[x]) - middle[x]
        square = delta * delta
        step = rate if (odd[x] == 0) & (square < _NINE * spread[x]) else np.float32(0.0)
        middle[x] += step * delta
        spread[x] = max(least_noise, spread[x] + step * (square - spread[x]))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _nearest_face(
    value: np.float32,
    faces: Float32,
    x: int,
    n: int,
    mean: np.float32,
    variance: np.float32,
    background_share: np.float32,
    in_noise: bool,
) -> tuple[np.float32, int, bool]:  # pragma: no cover
    """Distance to the nearest component that is background, the first that matches (or -1), and if that is background.

    The first component's ``mean`` and ``variance`` are given; where there is none the distance is 0.
    """
    nearest, before = _FAR if n > 0 else np.float32(0.0), np.float32(0.0)
    owner, owner_is_background = -1, False
    for k in range(n):
        middle, spread = (mean, variance) if k == 0 else (faces[x, k, 1], faces[x, k, 2])
        square = (value - middle) * (value - middle)
        behind = before < background_share
        before += faces[x, k, 0]
        if behind:
            nearest = min(nearest, square / spread if in_noise else square)
        if owner < 0 and square < _NINE * spread:
            owner, owner_is_background = k, behind
    return np.sqrt(nearest) * (_EIGHT if in_noise else np.float32(1.0)), owner, bool(owner_is_background)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _update_pixel(
    value: np.float32,
    faces: Float32,
    x: int,
    n: int,
    owner: int,
    step: np.float32,
    pruning: np.float32,
    least_noise: np.float32,
    first_noise: np.float32,
) -> int:  # pragma: no cover
    """Learn from one pixel by ``step``: its component ``owner``, or a new one where that is -1; how many there are."""
    most = faces.shape[1]
    total = np.float32(0.0)
    kept = 0
    for k in range(n):
        w = faces[x, k, 0] - step * (faces[x, k, 0] + pruning)
        if k == owner:
            w += step
            share = min(np.float32(1.0), step / max(w, np.float32(1e-6)))
            delta = value - faces[x, k, 1]
            faces[x, k, 1] += share * delta
            changed = faces[x, k, 2] + share * (delta * delta - faces[x, k, 2])
            faces[x, k, 2] = min(max(changed, least_noise), np.float32(5.0) * first_noise)
        if w > 0:
            faces[x, kept, 0], faces[x, kept, 1], faces[x, kept, 2] = w, faces[x, k, 1], faces[x, k, 2]
            kept += 1
            total += w
    if owner < 0:
        if kept == most:
            kept -= 1
            total -= faces[x, kept, 0]
        faces[x, kept, 0] = np.float32(1.0) if n == 0 else step
        faces[x, kept, 1], faces[x, kept, 2] = value, first_noise
        total += faces[x, kept, 0]
        kept += 1
    scale = np.float32(1.0) / total
    for k in range(kept):
        faces[x, k, 0] *= scale
    for k in range(kept - 1, 0, -1):
        if faces[x, k, 0] > faces[x, k - 1, 0]:
            for part in range(3):
                held = faces[x, k, part]
                faces[x, k, part] = faces[x, k - 1, part]
                faces[x, k - 1, part] = held
    return kept
