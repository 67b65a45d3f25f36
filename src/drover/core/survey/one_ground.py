"""Where the ground becomes another between two pictures of one place: a lamp is switched on, a camera set otherwise.

What light alone does, a factor undoes. Here most of the picture differs from the one before even so, by more than any
noise, and nothing that comes later is as it was.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.changed_ground import FLOODED
from drover.core.survey.empty_scene import LEAST_COLOUR, LEAST_GREY, MOVES

__all__ = ["count_of_one_ground"]

EVERY = 8  # px of the colour planes both ways
Grey = NDArray[np.uint8]
Look = tuple[NDArray[np.float32], NDArray[np.float32] | None]


def count_of_one_ground(greys: Sequence[Grey], chromas: Sequence[Grey | None]) -> int:
    """How many of some pictures, in order of time, come before the ground is another; all of them where it stays.

    ``greys`` (height, width), ``chromas`` (2, height / 2, width / 2) or None. A first picture that stands alone
    does not count: a camera has not found its light yet.
    """
    looks = [_coarse(grey, chroma) for grey, chroma in zip(greys, chromas, strict=True)]
    for k in range(2, len(looks)):
        if _is_other(looks[k - 1], looks[k]):
            later = all(_is_other(looks[k - 1], look) for look in looks[k:])
            return k if later else len(looks)
    return len(looks)


def _coarse(grey: Grey, chroma: Grey | None) -> Look:
    small = grey[:: 2 * EVERY, :: 2 * EVERY].astype(np.float32)
    if chroma is None:
        return small, None
    return small, chroma[:, ::EVERY, ::EVERY].astype(np.float32)[:, : small.shape[0], : small.shape[1]] - 128.0


def _is_other(one: Look, other: Look) -> bool:
    """Whether most of the picture differs by more than noise once both are in one light."""
    gain = max(float(np.median(other[0] / np.maximum(one[0], 4.0))), 0.05)
    differs = np.abs(other[0] / gain - one[0]) > MOVES * LEAST_GREY
    if one[1] is not None and other[1] is not None:
        rows, columns = one[1].shape[1:]
        tint = np.abs(other[1] / gain - one[1]) > MOVES * LEAST_COLOUR
        differs[:rows, :columns] |= tint.any(axis=0)
    return float(differs.mean()) > FLOODED
