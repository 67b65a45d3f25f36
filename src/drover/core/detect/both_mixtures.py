"""One step of two mixtures, of brightness and of colour, band by band.

Stepped one after the other each would go through the whole picture, and their differences through it once more; band
by band, what one has just written is still near at hand for the next.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

import numpy as np
from numpy.typing import NDArray

from drover.core.both_cores import in_bands
from drover.core.detect.background import BackgroundModel, Mixture
from drover.core.detect.colour import ColourModel, join_differences
from drover.core.detect.mixture_kernels import update_mixture

__all__ = ["step_mixtures"]


def step_mixtures(
    model: BackgroundModel,
    colour: ColourModel,
    grey: NDArray[np.uint8],
    chroma: NDArray[np.uint8] | None,
    gain: float,
    time: float,
) -> bool | None:
    """Step both and join their differences, as one by one they would be; None, and nothing done, where they cannot.

    False while the empty scene is learnt; ``chroma`` and ``gain`` as in :meth:`ColourModel.step`.
    """
    other = colour.model
    if chroma is None or not (isinstance(model, Mixture) and isinstance(other, Mixture)) or not model.in_noise:
        return None
    planes = colour.planes_of(chroma, gain)
    if len(other.difference) != len(planes):
        return None
    ready, mine = model.work_on(grey, time)
    both_ready, theirs = other.work_on(planes, time)
    half, height = len(planes) // 2, len(grey)

    update = cast("Callable[..., object]", update_mixture)

    def band(first: int, past: int) -> None:
        update(*mine, 2 * first, height if past == half else 2 * past)
        update(*theirs, first, past)
        update(*theirs, first + half, past + half)
        if both_ready:
            join_differences(other.difference, model.difference, first, past)

    in_bands(band, half)
    return ready
