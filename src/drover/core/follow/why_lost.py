"""Why a thing is not seen any more, as far as the pictures tell."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.features.pyramid import Grey

__all__ = ["Looks", "looks_of", "why_lost"]

Float = NDArray[np.float64]
SMALL = 22.0  # px, the root of the outline's area
FLAT = 0.3  # of its shape that is left when it is turned away
BLURRED = 0.45  # of the sharpness that is left
LIGHT = 0.35  # by which share the light changed


@dataclass(frozen=True)
class Looks:
    """Brightness and sharpness of a part of a picture, levels."""

    light: float
    sharp: float


def looks_of(grey: Grey, outline: Float) -> Looks:
    """How a picture looks in the box round an outline, as far as it lies inside."""
    low = np.clip(np.floor(outline.min(axis=0)), 0, (grey.shape[1] - 8, grey.shape[0] - 8)).astype(int)
    high = np.minimum(np.maximum(np.ceil(outline.max(axis=0)).astype(int), low + 8), (grey.shape[1], grey.shape[0]))
    part = grey[low[1] : high[1], low[0] : high[0]].astype(np.float32)
    steps = np.abs(np.diff(part, axis=1)).mean() + np.abs(np.diff(part, axis=0)).mean()
    return Looks(float(part.mean()), float(steps))


def why_lost(outline: Float, reference: Float, before: Looks, now: Looks, size: tuple[int, int]) -> str:
    """A reason in plain words: the thing was last seen with ``outline`` (4, 2) px; ``reference`` is its own shape."""
    middle = outline.mean(axis=0)
    if not (0 <= middle[0] < size[0] and 0 <= middle[1] < size[1]):
        return "it left the picture"
    sides = np.hypot(*np.diff(outline, axis=0, append=outline[:1]).T)
    own = np.hypot(*np.diff(reference, axis=0, append=reference[:1]).T)
    x, y = outline.T
    area = 0.5 * abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1)))
    if np.sqrt(area) < SMALL:
        return f"too small: {np.sqrt(area):.0f} px"
    shape = (sides[0] + sides[2]) / max(sides[1] + sides[3], 1e-6) * (own[1] + own[3]) / max(own[0] + own[2], 1e-6)
    if min(shape, 1 / max(shape, 1e-6)) < FLAT:
        return "turned away"
    if abs(now.light - before.light) > LIGHT * max(before.light, 1.0) and abs(now.light - before.light) > 25:
        return "the light changed"
    if now.sharp < BLURRED * before.sharp:
        return "blurred, or hidden by something plain"
    return "hidden"
