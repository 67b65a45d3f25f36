"""Colour beside brightness: the same background model on the two colour planes.

The planes, at half size, lie one under the other as a picture of their own, so that every model works on them
as it is. A thing as bright as the ground but of another colour is found this way.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.both_cores import in_bands
from drover.core.detect.background import BackgroundModel, ModelState, make_model
from drover.core.recipe import BackgroundSettings

__all__ = ["ColourModel", "in_pairs"]


class ColourModel:
    """Background of the colour planes; chroma is (2, height / 2, width / 2) uint8, 128 is grey."""

    def __init__(self, settings: BackgroundSettings, keep_still: float) -> None:
        self._settings, self._keep_still = settings, keep_still
        self._model: BackgroundModel | None = None
        self._state: ModelState | None = None
        self._seen, self._own = np.zeros((0, 0), np.uint8), False

    def step(self, chroma: NDArray[np.uint8] | None, gain: float, time: float, difference: NDArray[np.uint8]) -> None:
        """Take in the colour of a picture and raise ``difference`` where colour says more than brightness.

        ``gain`` is by how much the light is stronger than the background's: colours are as much stronger.
        """
        if chroma is None:
            return
        planes = self.planes_of(chroma, gain)
        if self._model is None:
            self._model = make_model(self._settings, planes.shape, self._keep_still)
            if self._state is not None and self._state.picture.shape == planes.shape:
                self._model.restore(self._state)
        if self._model.step(planes, time):
            if self._settings.threshold_in == "noise":
                in_bands(join_differences, len(planes) // 2, self._model.difference, difference)
            else:
                raise_difference(self._model.difference, np.float32(self._settings.colour_weight), difference)

    def planes_of(self, chroma: NDArray[np.uint8], gain: float) -> NDArray[np.uint8]:
        """The planes of a picture one under the other, in the background's light."""
        planes = chroma.reshape(-1, chroma.shape[2])
        if self.factor(gain) != 1.0:
            planes = _calm(planes, np.float32(1.0 / gain))
        self._seen, self._own = planes, False
        return planes

    def take_settings(self, settings: BackgroundSettings) -> None:
        """Go on by settings of another threshold."""
        self._settings = settings
        if self._model is not None:
            self._model.settings = settings

    @property
    def model(self) -> BackgroundModel | None:
        """The model of the planes, one under the other; None before the first picture."""
        return self._model

    def factor(self, gain: float) -> float:
        """By what colours are multiplied to be in the background's light; 1 where it makes no difference."""
        return 1.0 / gain if abs(gain - 1.0) > 0.004 else 1.0

    def room_for(self, chroma: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """Where the planes of this picture in the background's light are to be written, one under the other."""
        shape = (2 * chroma.shape[1], chroma.shape[2])
        if self._seen.shape != shape or not self._own:
            self._seen, self._own = np.empty(shape, np.uint8), True
        return self._seen

    def begin(self, chroma: NDArray[np.float32], noise: NDArray[np.float32]) -> None:
        """Take the colour of the empty scene and its noise, (2, height / 2, width / 2), as measured before."""
        planes = chroma.reshape(-1, chroma.shape[2])
        self._model = make_model(self._settings, planes.shape, self._keep_still)
        self._model.begin(planes, noise.reshape(planes.shape))

    def absorb(self, runs: NDArray[np.int16]) -> None:
        """Take these pixels (of the full picture) for background."""
        if self._model is None or len(runs) == 0:
            return
        half = len(self._seen) // 2
        small = runs[runs[:, 0] % 2 == 0] // np.int16(2)
        small = small[small[:, 0] < half]
        small[:, 2] = np.minimum(small[:, 2] + 1, self._seen.shape[1])
        lower = small + np.array([half, 0, 0], np.int16)
        self._model.absorb(np.concatenate([small, lower]), self._seen)

    def state(self) -> ModelState | None:
        """A small copy of the state; None before the first picture."""
        return self._model.state() if self._model is not None else None

    def restore(self, state: ModelState | None) -> None:
        """Go back to an earlier state."""
        self._state = state
        if self._model is not None and state is not None:
            self._model.restore(state)


@njit(cache=True, nogil=True, fastmath=True)
def _calm(planes: NDArray[np.uint8], factor: np.float32) -> NDArray[np.uint8]:  # pragma: no cover
    """Colours brought to the background's light."""
    out = np.empty_like(planes)
    for y in range(planes.shape[0]):
        for u in range(planes.shape[1]):
            light = (np.float32(planes[y, u]) - np.float32(128.0)) * factor + np.float32(128.5)
            out[y, u] = np.uint8(np.int32(min(max(light, np.float32(0.0)), np.float32(255.0))))
    return out


@njit(cache=True, nogil=True, fastmath=True)
def join_differences(
    colour: NDArray[np.uint8], difference: NDArray[np.uint8], first_row: int, past_row: int
) -> None:  # pragma: no cover
    """One measure of difference: the root of the squares of brightness and both colours, all in eighths of their noise.

    In place, for some rows of the colours and what they cover; ``colour`` is (2 x half height, half width),
    ``difference`` (height, width).
    """
    half, across = colour.shape[0] // 2, colour.shape[1]
    height, width = difference.shape
    squares = np.empty(across, np.float32)
    twice = np.empty(2 * max(across, width // 2 + 1), np.float32)
    for r in range(first_row, past_row):
        for u in range(across):
            a, b = np.float32(colour[r, u]), np.float32(colour[r + half, u])
            squares[u] = a * a + b * b
        in_pairs(squares, twice)
        for y in range(2 * r, height if r == half - 1 else 2 * r + 2):
            for x in range(width):
                own = np.float32(difference[y, x])
                size = np.sqrt(own * own + twice[x])
                difference[y, x] = np.uint8(np.int32(min(size + np.float32(0.5), np.float32(255.0))))


@njit(cache=True, nogil=True, inline="always")
def in_pairs(values: NDArray[np.float32], twice: NDArray[np.float32]) -> None:  # pragma: no cover
    """Every value twice, and the last one on to the end; as pairs, since single stores two apart are slow."""
    bits, pairs = values.view(np.uint32), twice.view(np.uint64)
    for u in range(values.shape[0]):
        one = np.uint64(bits[u])
        pairs[u] = one | (one << np.uint64(32))
    twice[2 * values.shape[0] :] = values[values.shape[0] - 1]


@njit(cache=True, nogil=True)
def raise_difference(
    colour: NDArray[np.uint8], weight: np.float32, difference: NDArray[np.uint8]
) -> None:  # pragma: no cover
    """The larger of the difference in brightness and ``weight`` times that in either colour plane, in place.

    ``colour`` is (2 x half height, half width), ``difference`` (height, width).
    """
    half, width = colour.shape[0] // 2, colour.shape[1]
    for y in range(difference.shape[0]):
        row = min(y >> 1, half - 1)
        for x in range(difference.shape[1]):
            u = min(x >> 1, width - 1)
            apart = np.float32(max(colour[row, u], colour[row + half, u])) * weight
            difference[y, x] = max(difference[y, x], np.uint8(min(apart, np.float32(255.0))))
