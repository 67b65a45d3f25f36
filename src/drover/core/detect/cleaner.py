"""From the difference picture to blobs: threshold, shadows, opening, closing, holes, fragments."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.both_cores import at_once
from drover.core.detect.background import cut_of
from drover.core.detect.background_kernels import mark_both
from drover.core.detect.bitmask import Words, close_mask, open_mask, unpack, words_for
from drover.core.detect.blobs import Blobs, fill_holes, find_blobs, words_of
from drover.core.detect.hysteresis import held_together
from drover.core.detect.shadows import ShadowFinder
from drover.core.detect.size_rules import join_fragments
from drover.core.recipe import DetectSettings

__all__ = ["Cleaner"]

SPECK = 4.0  # px: blobs under this are noise whatever the size rules say


class Cleaner:
    """Holds the masks of one frame on their way to blobs: ``raw``, ``shadow`` and ``clean``, packed."""

    def __init__(self, settings: DetectSettings, size: tuple[int, int]) -> None:
        self.settings = settings
        self.width, self.height = size
        self.raw, self.shadow = words_for(self.height, self.width), words_for(self.height, self.width)
        self._strong = words_for(self.height, self.width)
        self.clean: Words = self.raw

    def clear(self) -> None:
        """Nothing moves."""
        self.raw[:] = 0
        self.shadow[:] = 0
        self.clean = self.raw

    def mark(self, difference: NDArray[np.uint8]) -> None:
        """Mark the pixels over the threshold."""
        rule = self.settings.background
        cut = float(cut_of(rule))
        low, high = (np.uint8(min(max(level, 0.0), 255.0)) for level in (cut * rule.weak_share, cut))
        mark_both(difference, low, high, self.raw, self._strong)
        self.shadow[:] = 0

    def share(self) -> float:
        """What share of the picture is marked, 0..1."""
        return int(np.bitwise_count(self._strong).sum()) / (self.width * self.height)

    def take_shadows(
        self,
        finder: ShadowFinder,
        grey: NDArray[np.uint8],
        background: NDArray[np.float32],
        chroma: NDArray[np.uint8] | None,
    ) -> None:
        """Sort shadow from the raw mask; in mode "keep" it stays in the mask as well."""
        finder.sort(grey, background, chroma, self.raw, self.shadow)
        if self.settings.shadow.mode == "keep":
            self.raw |= self.shadow

    def blobs(self, difference: NDArray[np.uint8]) -> Blobs:
        """Clean the raw mask and cut it into blobs, fragments joined; sizes are not judged yet."""
        rule = self.settings.cleanup
        if self.settings.background.weak_share < 1.0:
            self.clean, strong = at_once(
                lambda: self._filled(self.raw, rule.fill_holes), lambda: self._filled(self._strong & self.raw, 0)
            )
            found = held_together(self.clean, strong, difference, SPECK)
            self.clean = words_of(found.runs, self.height, self.width)
        else:
            self.clean = self._filled(self.raw, rule.fill_holes)
            found = find_blobs(self.clean, difference, least_area=SPECK)
        return join_fragments(found, self.settings.size, (self.width, self.height))

    def _filled(self, words: Words, holes: int) -> Words:
        """A mask opened, closed, and with holes up to a size filled."""
        rule = self.settings.cleanup
        closed = close_mask(open_mask(words, rule.opening, self.width), rule.closing, self.width)
        return fill_holes(closed, self.width, holes) if holes > 0 else closed

    def unpacked(self, words: Words) -> NDArray[np.uint8]:
        """A packed mask as (height, width) uint8 of 0 and 1."""
        return unpack(words, self.width)
