"""Cast shadows told from animals: a shadow darkens the ground evenly and leaves its colour.

A moving pixel is shadow when its brightness is a certain share of the background's and its colour difference
from grey has shrunk by the same share (Horprasert, Harwood and Davis 1999, on brightness and chromaticity
distortion; here in luma and chroma). A dark animal on green ground fails the second test.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.recipe import ShadowSettings

__all__ = ["ShadowFinder"]

CHROMA_RATE = 0.4  # 1/s
LEARN_EVERY = 4  # frames: the colour of the ground changes slowly


class ShadowFinder:
    """Keeps the colour of the empty scene at half size and sorts moving pixels into animal and shadow."""

    def __init__(self, settings: ShadowSettings, size: tuple[int, int]) -> None:
        self.settings = settings
        self._colour: NDArray[np.float32] | None = None
        self._time = 0.0
        self._seen = 0
        del size

    def learn(self, chroma: NDArray[np.uint8] | None, moving: NDArray[np.uint64], time: float, *, first: bool) -> None:
        """Take the colour of the ground from what does not move; chroma is (2, height / 2, width / 2) uint8."""
        if chroma is None:
            return
        if self._colour is None or self._colour.shape != chroma.shape:
            self._colour = chroma.astype(np.float32)
        self._seen += 1
        if not first and self._seen % LEARN_EVERY:
            return
        elapsed, self._time = max(0.0, time - self._time), time
        rate = 1.0 / self._seen if first else 1.0 - math.exp(-CHROMA_RATE * elapsed)
        _learn_colour(chroma, self._colour, moving, np.float32(rate))

    def sort(
        self,
        grey: NDArray[np.uint8],
        background: NDArray[np.float32],
        chroma: NDArray[np.uint8] | None,
        moving: NDArray[np.uint64],
        shadow: NDArray[np.uint64],
    ) -> None:
        """Move the shadow's pixels from ``moving`` to ``shadow``, both packed masks, in place.

        Without colour nothing is taken for shadow: brightness alone would cut dark animals away.
        """
        shadow[:] = 0
        if chroma is None or self._colour is None:
            return
        rule = self.settings
        _sort_pixels(
            grey, background, chroma, self._colour, moving, shadow, rule.darkest, rule.lightest, rule.colour_change
        )


@njit(cache=True, nogil=True)
def _learn_colour(
    chroma: NDArray[np.uint8], colour: NDArray[np.float32], moving: NDArray[np.uint64], rate: np.float32
) -> None:  # pragma: no cover
    _, height, width = chroma.shape
    for c in range(2):
        for y in range(height):
            row = min(2 * y, moving.shape[0] - 1)
            for x in range(width):
                word = moving[row, x >> 5]
                if word != 0 and (word >> np.uint64((2 * x) & 63)) & np.uint64(1):
                    continue
                colour[c, y, x] += rate * (np.float32(chroma[c, y, x]) - colour[c, y, x])


@njit(cache=True, nogil=True)
def _sort_pixels(
    grey: NDArray[np.uint8],
    background: NDArray[np.float32],
    chroma: NDArray[np.uint8],
    colour: NDArray[np.float32],
    moving: NDArray[np.uint64],
    shadow: NDArray[np.uint64],
    darkest: float,
    lightest: float,
    change: float,
) -> None:  # pragma: no cover
    height, width = grey.shape
    for y in range(height):
        for w in range(moving.shape[1]):
            bits = moving[y, w]
            dark = np.uint64(0)
            if bits != 0:
                for b in range(min(64, width - w * 64)):
                    if not (bits >> np.uint64(b)) & np.uint64(1):
                        continue
                    x = w * 64 + b
                    # Wool is brighter than the ground: most pixels are done here.
                    if grey[y, x] > (lightest + 0.2) * background[y, x]:
                        continue
                    now, then = 0.0, 0.0
                    for v in range(max(0, y - 1), min(height, y + 2)):
                        for u in range(max(0, x - 1), min(width, x + 2)):
                            now += grey[v, u]
                            then += background[v, u]
                    ratio = now / max(then, 1.0)
                    if ratio < darkest or ratio > lightest:
                        continue
                    cy, cx = min(y >> 1, chroma.shape[1] - 1), min(x >> 1, chroma.shape[2] - 1)
                    off = 0.0
                    for c in range(2):
                        expected = ratio * (colour[c, cy, cx] - 128.0)
                        off = max(off, abs(chroma[c, cy, cx] - 128.0 - expected))
                    if off > change:
                        continue
                    dark |= np.uint64(1) << np.uint64(b)
            shadow[y, w] = dark
            moving[y, w] = bits & ~dark
