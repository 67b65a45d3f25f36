"""The empty scene and its noise, robust against whatever goes through it.

Of each pixel's samples, brought to one light, the shortest half is taken: its mean is the empty scene, its width the
noise (least median of squares, Rousseeuw and Leroy 1987, "Robust regression and outlier detection", chapter 4). What
is restless has wide tails as well: the upper quantile of the distance from the empty scene is noise too, as far as it
is not merely somebody who lingered. Neighbours are pooled, since what sways reaches a little beyond its place.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.detect.bands import in_bands
from drover.core.detect.light import LightFollower
from drover.core.survey.samples import Samples

__all__ = ["MOVES", "EmptyScene", "find_empty_scene", "in_one_light", "light_of"]

MOVES = 6.0  # standard deviations from the empty scene that a pixel must differ by to be looked at as moving
HALF_NORMAL = 0.6745  # half width of the middle half of a normal distribution, in standard deviations
SHRINKS = 0.9  # of the shortest half, which is shorter than the middle one by chance
QUANTILE, AT_QUANTILE = 0.8, 1.28  # share of distances, and where it lies for a normal distribution
LINGERS = 2.0  # standard deviations more that restlessness may add: beyond that somebody stood there
APART = 4.0  # standard deviations between two faces of a pixel
LEAST_SHARE = 0.15  # of the samples that a second face has
OF_SOME = 9  # pictures that are looked at for a first guess of the scene
POOL = 3  # px each way that noise is pooled over
LEAST_GREY, LEAST_COLOUR = 1.5, 1.2  # levels: quantisation and coding hide smaller noise

Float32 = NDArray[np.float32]


@dataclass(frozen=True)
class EmptyScene:
    """Picture and noise of the empty scene.

    ``grey``, ``noise`` (height, width) float32 levels; ``chroma``, ``chroma_noise`` (2, height / 2, width / 2) float32
    or None; ``restless`` (height, width) float32, by how much a place is less quiet than the sensor alone, levels.
    """

    grey: Float32
    noise: Float32
    chroma: Float32 | None
    chroma_noise: Float32 | None
    restless: Float32


def light_of(samples: Samples) -> NDArray[np.float64]:
    """By what factor each picture is lighter than the middle one of them, (n,); the median over places."""
    small = samples.grey[:, ::8, ::8].astype(np.float64)
    middle = np.maximum(np.median(small, axis=0), 4.0)
    return np.maximum(np.median(small / middle, axis=(1, 2)), 0.05)


def find_empty_scene(samples: Samples) -> EmptyScene:
    """The empty scene of some pictures."""
    gain = light_of(samples).astype(np.float32)
    grey, noise, tail = _planes(samples.grey, gain, np.float32(0.0), LEAST_GREY)
    chroma = chroma_noise = None
    if samples.chroma is not None:
        n, _, rows, columns = samples.chroma.shape
        flat = samples.chroma.reshape(n, 2 * rows, columns)
        colour, spread, _ = _planes(flat, gain, np.float32(128.0), LEAST_COLOUR)
        chroma, chroma_noise = colour.reshape(2, rows, columns), spread.reshape(2, rows, columns)
    return EmptyScene(grey, noise, chroma, chroma_noise, tail)


def in_one_light(samples: Samples) -> Samples:
    """Pictures brought to the light of the middle one of some of them, place by place: clouds are no noise."""
    shots = samples.grey
    some = shots[np.linspace(0, len(shots) - 1, OF_SOME).round().astype(int)]
    middle = np.median(some, axis=0).astype(np.float32)
    height, width = middle.shape
    return replace(
        samples, grey=np.stack([LightFollower((width, height), 1.0).even(shot, middle)[0] for shot in shots])
    )


def _planes(
    shots: NDArray[np.uint8], gain: Float32, zero: np.float32, least: float
) -> tuple[Float32, Float32, Float32]:
    height, width = shots.shape[1:]
    middle, sigma, tail = (np.empty((height, width), np.float32) for _ in range(3))
    in_bands(shortest_halves, height, shots, np.float32(1.0) / gain, zero, least, middle, sigma, tail)
    calm = np.maximum(sigma, np.float32(least))
    both = np.maximum(calm, np.minimum(tail, calm * np.float32(1.0 + LINGERS)))
    excess: Float32 = np.maximum(tail - calm, 0.0).astype(np.float32)
    return middle, pooled(both.astype(np.float32), POOL), excess


@njit(cache=True, nogil=True)
def shortest_halves(
    shots: NDArray[np.uint8],
    factor: Float32,
    zero: np.float32,
    least: float,
    middle: Float32,
    sigma: Float32,
    tail: Float32,
    first_row: int,
    past_row: int,
) -> None:  # pragma: no cover
    """Mean and width of the shortest half of each pixel's samples, and the quantile of their distances, for some rows.

    ``factor`` (n,) brings each picture to one light, about the level ``zero``; ``least`` is the smallest noise, levels.
    """
    n = shots.shape[0]
    values, away, when = np.empty(n, np.float32), np.empty(n, np.float32), np.empty(n, np.int64)
    for y in range(first_row, past_row):
        for x in range(shots.shape[2]):
            for k in range(n):
                value = (np.float32(shots[k, y, x]) - zero) * factor[k] + zero
                place = k
                while place > 0 and values[place - 1] > value:
                    values[place], when[place] = values[place - 1], when[place - 1]
                    place -= 1
                values[place], when[place] = value, k
            mean, spread = shortest_half(values, 0, n)
            mean, spread, other, wide = longest_seen(values, when, mean, spread, np.float32(least))
            middle[y, x], sigma[y, x] = mean, spread
            # Whoever stood there for a while has a face of its own: that is no restlessness.
            m = 0
            for k in range(n):
                if abs(values[k] - other) <= wide:
                    continue
                far = abs(values[k] - mean)
                place = m
                while place > 0 and away[place - 1] > far:
                    away[place] = away[place - 1]
                    place -= 1
                away[place] = far
                m += 1
            tail[y, x] = away[min(int(QUANTILE * (m - 1) + 0.5), m - 1)] / np.float32(AT_QUANTILE) if m > 0 else spread


@njit(cache=True, nogil=True)
def shortest_half(values: Float32, first: int, past: int) -> tuple[np.float32, np.float32]:  # pragma: no cover
    """Mean of the shortest half of rising values from ``first`` to ``past``, and the noise that its width tells."""
    half = (past - first) // 2 + 1
    best, width = first, np.float32(1e9)
    for k in range(first, past - half + 1):
        if values[k + half - 1] - values[k] < width:
            best, width = k, values[k + half - 1] - values[k]
    total = np.float32(0.0)
    for k in range(best, best + half):
        total += values[k]
    return total / np.float32(half), np.float32(SHRINKS * 0.5 / HALF_NORMAL) * width


@njit(cache=True, nogil=True)
def longest_seen(
    values: Float32, when: NDArray[np.int64], mean: np.float32, spread: np.float32, least: np.float32
) -> tuple[np.float32, np.float32, np.float32, np.float32]:  # pragma: no cover
    """Of two faces that a pixel has the one seen over the longer time: mean and noise; and where the other one lies.

    The other is given by its level and its half width, which is below 0 where there is none.

    Whatever stands somewhere for a while is seen in one stretch; the ground is seen before it and after. ``values``
    (n,) rise, ``when`` (n,) are their places in time.
    """
    n = values.shape[0]
    reach = APART * max(spread, least)
    low, high = 0, n
    while low < n and values[low] < mean - reach:
        low += 1
    while high > 0 and values[high - 1] > mean + reach:
        high -= 1
    # The other face lies below or above, whichever has more.
    first, past = (0, low) if low >= n - high else (high, n)
    count = past - first
    if count < max(4, int(LEAST_SHARE * n)):
        return mean, spread, mean, np.float32(-1.0)
    other, noise = shortest_half(values, first, past)
    if noise > APART * max(spread, least):
        return mean, spread, mean, np.float32(-1.0)
    spans = np.zeros(2, np.int64)
    for face in range(2):
        at, wide = (mean, reach) if face == 0 else (other, APART * max(noise, least))
        begins, ends = n, -1
        for k in range(n):
            if abs(values[k] - at) <= wide:
                begins, ends = min(begins, when[k]), max(ends, when[k])
        spans[face] = ends - begins
    if spans[1] > spans[0] + 1:
        return other, noise, mean, np.float32(reach)
    return mean, spread, other, np.float32(APART * max(noise, least))


def pooled(noise: Float32, reach: int) -> Float32:
    """Root mean square over (2 reach + 1) squared neighbours."""
    from scipy import ndimage  # here: a start without it is a fifth of a second shorter

    return np.sqrt(np.asarray(ndimage.uniform_filter(noise * noise, 2 * reach + 1, mode="nearest"), np.float32))
