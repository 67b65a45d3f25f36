"""One step of the usual case, all in one pass: a running average over a scene and a noise that are known, with colour.

Brightness and both colours could be stepped one after the other and their differences joined; done together the
picture is gone through once, and each row is still near at hand for what comes next.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.detect.background import BackgroundModel, RunningAverage, cut_of
from drover.core.detect.colour import ColourModel, in_pairs

__all__ = ["step_known"]

Grey = NDArray[np.uint8]
Float32 = NDArray[np.float32]
_HALF = np.float32(0.5)
_MOST = np.float32(255.0)
_MIDDLE = np.float32(128.0)


def step_known(
    model: BackgroundModel, colour: ColourModel, grey: Grey, chroma: Grey | None, gain: float, time: float
) -> bool:
    """Step both models and join their differences where all of it is known; False, and nothing done, elsewhere.

    ``chroma`` (2, height / 2, width / 2); ``gain`` as in :meth:`ColourModel.step`. The differences are those that
    stepping the models one by one gives. But nothing of a pixel is learnt where all of it together says that something
    is there: who stands still with a coat nearly as bright as the ground, and nearly of its colour, would go into it
    plane by plane, and leave a ghost.
    """
    other = colour.model
    if chroma is None or not isinstance(model, RunningAverage) or not isinstance(other, RunningAverage):
        return False
    if not (model.all_known and other.all_known and other.background().shape[0] == 2 * chroma.shape[1]):
        return False
    rate, busy = model.paces(time)
    other.paces(time)
    update_both(
        grey, model.background(), model.known_scale(), chroma, colour.room_for(chroma), other.background(),
        other.known_scale(), model.difference, np.float32(colour.factor(gain)), np.float32(cut_of(model.settings)),
        np.float32(rate), np.float32(busy),
    )  # fmt: skip
    return True


@njit(cache=True, nogil=True, fastmath=True)
def update_both(
    grey: Grey,
    background: Float32,
    scale: Float32,
    chroma: Grey,
    seen: Grey,
    ground: Float32,
    ground_scale: Float32,
    difference: Grey,
    factor: np.float32,
    cut: np.float32,
    rate: np.float32,
    busy_rate: np.float32,
) -> None:  # pragma: no cover
    """All of the picture and its colour, in place.

    ``difference`` becomes the root of the squares of the differences in brightness and both colours, each in eighths
    of its noise; every background moves toward its picture by ``rate``, or by ``busy_rate`` where that is over
    ``cut``, in colours where it is for any of the pixels that one of theirs covers. Colours are brought to the
    background's light by ``factor`` and kept in ``seen``; ``seen``, ``ground`` and ``ground_scale`` are
    (2 x half height, half width).
    """
    height, width = grey.shape
    half, across = chroma.shape[1], chroma.shape[2]
    squares = np.empty(across, np.float32)
    twice = np.empty(2 * max(across, width // 2 + 1), np.float32)
    moves = np.zeros(twice.shape[0], np.uint8)
    pairs = moves.view(np.uint16)
    for r in range(half):
        squares[:] = 0
        for p in range(2):
            row = p * half + r
            _colour_row(chroma[p, r], seen[row], ground[row], ground_scale[row], squares, factor)
        in_pairs(squares, twice)
        moves[:] = 0
        for y in range(2 * r, height if r == half - 1 else 2 * r + 2):
            _grey_row(grey[y], background[y], scale[y], difference[y], twice, moves, cut, rate, busy_rate)
        for p in range(2):
            row = p * half + r
            _learn_row(seen[row], ground[row], pairs, rate, busy_rate)


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _colour_row(
    now: Grey, kept: Grey, ground: Float32, steps: Float32, squares: Float32, factor: np.float32
) -> None:  # pragma: no cover
    """A row of one colour plane; its squared difference is added to ``squares``."""
    # By way of 32-bit whole numbers: a float straight to a byte is taken through 64 bits, twice as slow.
    for u in range(now.shape[0]):
        light = (np.float32(now[u]) - _MIDDLE) * factor + (_MIDDLE + _HALF)
        value = np.int32(min(max(light, np.float32(0.0)), _MOST))
        kept[u] = np.uint8(value)
        shown = abs(np.float32(value) - ground[u]) * steps[u]
        whole = np.float32(np.int32(min(shown + _HALF, _MOST)))
        squares[u] += whole * whole


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _grey_row(
    now: Grey,
    background: Float32,
    steps: Float32,
    difference: Grey,
    squares: Float32,
    moves: Grey,
    cut: np.float32,
    rate: np.float32,
    busy_rate: np.float32,
) -> None:  # pragma: no cover
    """A row of brightness, joined with the ``squares`` of the colours; ``moves`` becomes 1 where that is over."""
    for x in range(now.shape[0]):
        delta = np.float32(now[x]) - background[x]
        shown = abs(delta) * steps[x]
        whole = np.float32(np.int32(min(shown + _HALF, _MOST)))
        size = np.sqrt(whole * whole + squares[x])
        difference[x] = np.uint8(np.int32(min(size + _HALF, _MOST)))
        background[x] += (busy_rate if size > cut else rate) * delta
        moves[x] |= np.uint8(size > cut)


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _learn_row(
    seen: Grey, ground: Float32, moves: NDArray[np.uint16], rate: np.float32, busy_rate: np.float32
) -> None:  # pragma: no cover
    """A row of one colour plane goes into its ground; ``moves`` says of two pixels side by side whether any moves."""
    for u in range(seen.shape[0]):
        ground[u] += (busy_rate if moves[u] > 0 else rate) * (np.float32(seen[u]) - ground[u])
