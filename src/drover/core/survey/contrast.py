"""How clearly what moves stands out from the empty scene."""

from __future__ import annotations

import numpy as np

from drover.core.survey.empty_scene import MOVES, EmptyScene, light_of
from drover.core.survey.samples import Samples

__all__ = ["movers_contrast"]

LEAST_PIXELS = 200  # that move, over all pictures at half size, before anything is said


def movers_contrast(samples: Samples, empty: EmptyScene) -> float:
    """Median difference, in standard deviations of brightness, of the pixels that move; infinite where too few do."""
    gain = light_of(samples)
    ground, noise = empty.grey[::2, ::2], empty.noise[::2, ::2]
    found = []
    for k in range(0, len(samples), 2):
        away = np.abs(samples.grey[k, ::2, ::2] / np.float32(gain[k]) - ground) / noise
        found.append(away[away > MOVES])
    moving = np.concatenate(found)
    return float(np.median(moving)) if len(moving) >= LEAST_PIXELS else float("inf")
