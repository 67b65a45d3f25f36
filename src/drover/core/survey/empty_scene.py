"""The empty scene and its noise, robust against whatever goes through it.

Of each pixel's samples, brought to one light, the shortest half is taken: its mean is the empty scene, its width the
noise (least median of squares, Rousseeuw and Leroy 1987, "Robust regression and outlier detection", chapter 4). What
is restless has wide tails as well: the upper quantile of the distance from the empty scene is noise too, as far as it
is not merely somebody who lingered. Neighbours are pooled, since what sways reaches a little beyond its place.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.both_cores import in_bands
from drover.core.detect.light import LightFollower
from drover.core.survey.samples import Samples
from drover.core.survey.shortest_half import middle_of, shortest_halves

__all__ = ["MOVES", "EmptyScene", "find_empty_scene", "in_one_light", "light_of"]

MOVES = 6.0  # standard deviations from the empty scene that a pixel must differ by to be looked at as moving
LINGERS = 2.0  # standard deviations more that restlessness may add: beyond that somebody stood there
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
    middle = middle_of(some)
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


def pooled(noise: Float32, reach: int) -> Float32:
    """Root mean square over (2 reach + 1) squared neighbours."""
    from scipy import ndimage  # here: a start without it is a fifth of a second shorter

    return np.sqrt(np.asarray(ndimage.uniform_filter(noise * noise, 2 * reach + 1, mode="nearest"), np.float32))
