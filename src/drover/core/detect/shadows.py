"""Cast shadows told from objects: a shadow darkens the ground evenly and leaves its colour.

A moving pixel is shadow when its brightness is a certain share of the background's and its colour difference
from grey has shrunk by the same share (Horprasert, Harwood and Davis 1999, on brightness and chromaticity
distortion; here in luma and chroma). A dark object on green ground fails the second test. Trousers and hair of the
ground's colour pass both; but a shadow's rim is soft, and limbs are not: where the share of light differs more from one
pixel to those around it than in any shadow of the clip, it is none.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.detect.bitmask import lowest_place
from drover.core.recipe import ShadowSettings

__all__ = ["ShadowFinder"]

CHROMA_RATE = 0.4  # 1/s
LIT = 1.15  # share of its light from which a pixel is no ground
LEARN_EVERY = 4  # frames: the colour of the ground changes slowly


class ShadowFinder:
    """Keeps the colour of the empty scene at half size and sorts moving pixels into object and shadow."""

    def __init__(self, settings: ShadowSettings, size: tuple[int, int]) -> None:
        self.settings = settings
        self._colour: NDArray[np.float32] | None = None
        self._time = 0.0
        self._seen = 0
        del size

    def at_work(self) -> NDArray[np.float32] | None:
        """A copy of the ground's colour as now known, for :meth:`set_colour`."""
        return None if self._colour is None else self._colour.copy()

    def set_colour(self, colour: NDArray[np.float32] | None) -> None:
        """Take the ground's colour as known."""
        self._colour = colour

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

        Without colour nothing is taken for shadow: brightness alone would cut dark objects away.
        """
        shadow[:] = 0
        if chroma is None or self._colour is None:
            return
        rule = self.settings
        _sort_pixels(
            grey,
            background,
            chroma,
            self._colour,
            moving,
            shadow,
            rule.darkest,
            rule.lightest,
            rule.colour_change,
            rule.sharpest,
        )


@njit(cache=True, nogil=True)
def _learn_colour(
    chroma: NDArray[np.uint8], colour: NDArray[np.float32], moving: NDArray[np.uint64], rate: np.float32
) -> None:  # pragma: no cover
    """Move the ground's colour toward the picture where nothing moves, and put back where it does."""
    _, height, width = chroma.shape
    before = np.empty(width, np.float32)
    for c in range(2):
        for y in range(height):
            row = min(2 * y, moving.shape[0] - 1)
            for x in range(width):
                before[x] = colour[c, y, x]
                colour[c, y, x] += rate * (np.float32(chroma[c, y, x]) - colour[c, y, x])
            for w in range(moving.shape[1]):
                bits = moving[row, w]
                if bits != 0:
                    for x in range(w * 32, min(w * 32 + 32, width)):
                        if (bits >> np.uint64((2 * x) & 63)) & np.uint64(1):
                            colour[c, y, x] = before[x]


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
    sharpest: float,
) -> None:  # pragma: no cover
    """Go through the moving pixels a mask word at a time, with the column sums of three rows made at once."""
    height = grey.shape[0]
    one, zero = np.uint64(1), np.uint64(0)
    now, then = np.zeros(66, np.float32), np.zeros(66, np.float32)
    wool, most = np.float32(lightest + 0.2), np.float32(change)
    rim = np.float32(sharpest)
    low, high, middle = np.float32(darkest), np.float32(lightest), np.float32(128.0)
    for y in range(height):
        cy = min(y >> 1, chroma.shape[1] - 1)
        for w in range(moving.shape[1]):
            bits = moving[y, w]
            dark = zero
            if bits != 0:
                first = w * 64
                left, summed = bits, False
                while left != zero:
                    bit = left & (~left + one)
                    left ^= bit
                    b = lowest_place(bit)
                    x = first + b
                    # Wool is brighter than the ground: most pixels are done here.
                    if np.float32(grey[y, x]) > wool * background[y, x]:
                        continue
                    if not summed:
                        _column_sums(grey, background, y, first - 1, now, then)
                        summed = True
                    below = then[b] + then[b + 1] + then[b + 2]
                    ratio = (now[b] + now[b + 1] + now[b + 2]) / max(below, np.float32(1.0))
                    if ratio < low or ratio > high:
                        continue
                    cx = min(x >> 1, chroma.shape[2] - 1)
                    off = np.float32(0.0)
                    for c in range(2):
                        expected = ratio * (colour[c, cy, cx] - middle)
                        off = max(off, abs(np.float32(chroma[c, cy, cx]) - middle - expected))
                    if off <= most and _step_of_light(grey, background, y, int(x), low) <= rim:
                        dark |= bit
            shadow[y, w] = dark
            moving[y, w] = bits & ~dark


@njit(cache=True, nogil=True, inline="always")
def _step_of_light(
    grey: NDArray[np.uint8], background: NDArray[np.float32], y: int, x: int, darkest: np.float32
) -> np.float32:  # pragma: no cover
    """How far the shares of light of the pixel and those around it lie apart, but for what is no shadow anyway."""
    low, high = np.float32(1.0), np.float32(0.0)
    for v in range(max(0, y - 1), min(grey.shape[0], y + 2)):
        for u in range(max(0, x - 1), min(grey.shape[1], x + 2)):
            share = np.float32(grey[v, u]) / max(background[v, u], np.float32(4.0))
            if darkest <= share <= _LIT:
                low, high = min(low, share), max(high, share)
    return high - low


@njit(cache=True, nogil=True)
def _column_sums(
    grey: NDArray[np.uint8],
    background: NDArray[np.float32],
    y: int,
    left: int,
    now: NDArray[np.float32],
    then: NDArray[np.float32],
) -> None:  # pragma: no cover
    """Sums over rows y - 1 .. y + 1 of the 66 columns from ``left`` on; 0 outside the picture."""
    height, width = grey.shape
    now[:] = 0
    then[:] = 0
    first, past = max(0, left), min(width, left + 66)
    for v in range(max(0, y - 1), min(height, y + 2)):
        greys, grounds = grey[v, first:past], background[v, first:past]
        a, b = now[first - left :], then[first - left :]
        for x in range(past - first):
            a[x] += np.float32(greys[x])
            b[x] += grounds[x]


_LIT = np.float32(LIT)
