"""Background models: the picture of the empty scene, and what differs from it."""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.recipe import BackgroundSettings

__all__ = ["RunningAverage", "mark_moving", "update_average"]


@njit(cache=True, nogil=True, fastmath=True)
def update_average(
    grey: NDArray[np.uint8],
    background: NDArray[np.float32],
    difference: NDArray[np.uint8],
    threshold: np.float32,
    rate: np.float32,
    busy_rate: np.float32,
) -> None:  # pragma: no cover
    """One step of the running average, in place.

    ``difference`` becomes the rounded absolute difference from the background as it was; the background moves
    toward the picture by ``rate``, or by ``busy_rate`` where the difference is over ``threshold``.
    """
    height, width = grey.shape
    for y in range(height):
        for x in range(width):
            delta = np.float32(grey[y, x]) - background[y, x]
            size = abs(delta)
            difference[y, x] = np.uint8(min(size + np.float32(0.5), np.float32(255.0)))
            share = busy_rate if size > threshold else rate
            background[y, x] += share * delta


@njit(cache=True, nogil=True)
def mark_moving(difference: NDArray[np.uint8], threshold: int, words: NDArray[np.uint64]) -> None:  # pragma: no cover
    """Set bit x % 64 of word x // 64 in each row where the difference is over the threshold."""
    height, width = difference.shape
    for y in range(height):
        for w in range(words.shape[1]):
            bits = np.uint64(0)
            base = w * 64
            for b in range(min(64, width - base)):
                bits |= np.uint64(difference[y, base + b] > threshold) << np.uint64(b)
            words[y, w] = bits


class RunningAverage:
    """Running average of the picture; slower where something moves, so that what stands is not learnt at once.

    The plain exponential average of each pixel (Wren et al. 1997, "Pfinder", eq. 6, with the mean only).
    """

    def __init__(self, settings: BackgroundSettings, shape: tuple[int, int]) -> None:
        self.settings = settings
        self.background = np.zeros(shape, np.float32)
        self.difference = np.zeros(shape, np.uint8)
        self.seen = 0
        self._start = 0.0
        self._time = 0.0

    def step(self, grey: NDArray[np.uint8], time: float) -> bool:
        """Take in one picture; False while the empty scene is still being learnt.

        Parameters
        ----------
        grey : (height, width) uint8
        time : float, s
        """
        if self.seen == 0:
            self._start, self._time = time, time
        elapsed = max(0.0, time - self._time)
        learning = self.seen == 0 or time - self._start < self.settings.warm_up - 1e-9
        if learning:
            rate = busy = 1.0 / (self.seen + 1)
        else:
            rate = 1.0 - math.exp(-self.settings.rate * elapsed)
            busy = 1.0 - math.exp(-self.settings.rate * self.settings.busy_share * elapsed)
        if self.seen == 0:
            self.background[:] = grey
            self.difference[:] = 0
        else:
            threshold = np.float32(self.settings.threshold)
            update_average(grey, self.background, self.difference, threshold, np.float32(rate), np.float32(busy))
        self.seen += 1
        self._time = time
        return not learning

    def state(self) -> tuple[NDArray[np.uint8], int, float, float]:
        """A small copy of the state, the background rounded to whole levels, for going back to."""
        return np.rint(self.background).astype(np.uint8), self.seen, self._start, self._time

    def restore(self, state: tuple[NDArray[np.uint8], int, float, float]) -> None:
        """Go back to an earlier :meth:`state`."""
        picture, self.seen, self._start, self._time = state
        self.background[:] = picture
