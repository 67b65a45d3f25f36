"""What a survey measured, small enough to be kept beside the detections and shown: pictures and curves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.survey.empty_scene import EmptyScene
from drover.core.survey.samples import Samples

__all__ = ["RESTLESS_STEPS", "SurveyView", "noise_by_level", "small_mean", "view_of"]

Float32 = NDArray[np.float32]
ACROSS = 240  # px that a kept picture is wide at most
RESTLESS_STEPS = 16.0  # steps of the restless map to a level
BIN = 16  # levels of brightness to a point of the noise curve
LEAST_SHARE = 0.004  # of the picture that must be so bright before anything is said of it
PAIRS, BLOCK = 8, 16  # pairs of pictures that are held against each other, px of a block
CALM = 0.25  # quantile of the blocks of one brightness that shows the sensor's noise: leaves and water lie above


@dataclass(frozen=True)
class SurveyView:
    """Pictures and curves of a survey.

    ``empty`` (rows, columns) uint8 is the empty scene, small; ``restless`` (rows, columns) uint8 by how much each place
    is less quiet than the sensor alone, in sixteenths of a level; ``noise`` (n, 2) float32 brightness and the noise of
    quiet pixels there, levels; ``light`` (n, 2) float32 time s and light of the pictures that were looked at, 1 for the
    usual one.
    """

    empty: NDArray[np.uint8]
    restless: NDArray[np.uint8]
    noise: Float32
    light: Float32


def view_of(samples: Samples, empty: EmptyScene, gain: NDArray[np.float64]) -> SurveyView:
    """What is shown of pictures in one light and their empty scene; ``gain`` (n,) is the light they were taken in."""
    picture = np.clip(np.rint(small_mean(empty.grey)), 0, 255).astype(np.uint8)
    restless = np.clip(np.rint(small_mean(empty.restless) * RESTLESS_STEPS), 0, 255).astype(np.uint8)
    light = np.column_stack([samples.time, gain]).astype(np.float32)
    return SurveyView(picture, restless, noise_by_level(samples, empty), light)


def small_mean(plane: Float32) -> Float32:
    """A plane at ``ACROSS`` px of width or less: means of whole cells; what fills none at the rim is left out."""
    side = max(1, -(-plane.shape[1] // ACROSS))
    rows, columns = max(1, plane.shape[0] // side), max(1, plane.shape[1] // side)
    part = plane[: rows * side, : columns * side]
    return part.reshape(rows, part.shape[0] // rows, columns, part.shape[1] // columns).mean(axis=(1, 3))


def noise_by_level(samples: Samples, empty: EmptyScene) -> Float32:
    """Brightness and the noise of quiet places there, (n, 2) float32 levels, where enough of the picture is so bright.

    The noise of a camera grows with the light (Healey and Kondepudy 1994, "Radiometric CCD camera calibration and noise
    estimation"); clipped whites have none. Two pictures of a still place differ by noise alone, by twice its variance:
    taken block by block, the middle one of some pairs, and of blocks of one brightness the calmer ones (the lower
    envelope of Liu et al. 2006, "Noise estimation from a single image").
    """
    level = _of_blocks(empty.grey)
    if level.size == 0 or len(samples) < 2:
        return np.zeros((0, 2), np.float32)
    chosen = np.unique(np.linspace(0, len(samples) - 2, PAIRS).round().astype(int)).tolist()
    apart = (samples.grey[k].astype(np.int16) - samples.grey[k + 1] for k in chosen)
    noise = np.sqrt(np.median([_of_blocks((step * step).astype(np.float32)) for step in apart], axis=0) / 2)
    place = np.clip(level // BIN, 0, 255 // BIN).astype(np.int64)
    out = [
        (level[place == k].mean(), np.quantile(noise[place == k], CALM))
        for k in range(256 // BIN)
        if (place == k).mean() >= LEAST_SHARE
    ]
    return np.array(out, np.float32).reshape(-1, 2)


def _of_blocks(plane: Float32) -> Float32:
    """Means of whole blocks."""
    rows, columns = plane.shape[0] // BLOCK, plane.shape[1] // BLOCK
    return plane[: rows * BLOCK, : columns * BLOCK].reshape(rows, BLOCK, columns, BLOCK).mean(axis=(1, 3))
