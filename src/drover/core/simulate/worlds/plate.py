"""Grounds painted once: textures of several grain sizes, joints, gradients."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

__all__ = ["Picture", "ground", "mask_of", "noise_field", "soft"]

Picture = NDArray[np.float32]


def noise_field(rng: np.random.Generator, size: tuple[int, int], cell: float) -> Picture:
    """Smooth noise of standard deviation 1 over (height, width), its grains about ``cell`` px across."""
    height, width = size
    rows, columns = max(2, int(height / cell) + 3), max(2, int(width / cell) + 3)
    coarse = rng.normal(0, 1, (rows, columns))
    y, x = np.meshgrid(np.linspace(0, rows - 2.01, height), np.linspace(0, columns - 2.01, width), indexing="ij")
    field = ndimage.map_coordinates(coarse, [y, x], order=1)
    return (field / max(float(field.std()), 1e-6)).astype(np.float32)


def ground(
    rng: np.random.Generator,
    size: tuple[int, int],
    colour: tuple[float, float, float],
    *,
    rough: float = 8.0,
    tint: float = 3.0,
    slope: float = 20.0,
    joints: float = 0.0,
) -> Picture:
    """A ground (height, width, 3): its colour, grain of ``rough`` levels, patches of other ``tint``, a ``slope``.

    ``joints`` px is the distance of the joints of a paving, 0 for none.
    """
    height, width = size
    unit = height / 360.0
    grain = sum(noise_field(rng, size, cell * unit) * share for cell, share in ((1.3, 0.5), (4, 0.45), (18, 0.5)))
    out = np.empty((height, width, 3), np.float32)
    light = np.linspace(-0.5, 0.5, height, dtype=np.float32)[:, None] * np.float32(slope)
    patches = [noise_field(rng, size, 60 * unit) for _ in range(3)]
    for c in range(3):
        out[..., c] = colour[c] + np.float32(rough) * grain + light + np.float32(tint) * patches[c]
    if joints > 0:
        out *= _joints(size, joints * unit)[..., None]
    return np.clip(out, 2, 250)


def _joints(size: tuple[int, int], apart: float) -> Picture:
    height, width = size
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    row = np.floor(y / apart)
    off = np.abs((x / apart + 0.5 * (row % 2)) % 1.0 - 0.5), np.abs((y / apart) % 1.0 - 0.5)
    line = np.minimum(0.5 - off[0], 0.5 - off[1]) * apart
    return (1.0 - 0.22 * np.clip(1.3 - line, 0, 1)).astype(np.float32)


def mask_of(size: tuple[int, int], corners: list[tuple[float, float]], blur: float = 2.0) -> Picture:
    """A polygon, corners in fractions, as (height, width) 0..1 with a soft rim of ``blur`` px."""
    from drover.core.geometry import points_inside

    height, width = size
    y, x = np.mgrid[0:height, 0:width]
    points = np.asarray(corners, np.float64) * (width, height)
    inside = points_inside((x + 0.5).ravel(), (y + 0.5).ravel(), points).reshape(size)
    return soft(inside.astype(np.float32), blur)


def soft(picture: Picture, sigma: float) -> Picture:
    """Blurred by a Gaussian."""
    return np.asarray(ndimage.gaussian_filter(picture, sigma), np.float32) if sigma > 0 else picture
