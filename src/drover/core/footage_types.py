"""Footage as values: a clip's description, and one decoded picture."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

__all__ = ["ClipInfo", "Frame"]

Float = NDArray[np.float64]


@dataclass(frozen=True)
class ClipInfo:
    """What is known of a clip before any picture of it is decoded.

    ``times`` is (frames,) float64 in seconds from the first frame, strictly rising; ``notes`` are plain
    lines a user should see, for instance that the file is cut off.
    """

    path: str
    width: int
    height: int
    rate: float
    times: Float
    fingerprint: str
    notes: tuple[str, ...] = ()

    @property
    def frame_count(self) -> int:
        """Number of frames that can be read."""
        return len(self.times)

    @property
    def duration(self) -> float:
        """Seconds from the first frame to the end of the last."""
        return float(self.times[-1]) + 1.0 / self.rate if len(self.times) else 0.0

    def frame_at(self, time: float) -> int:
        """Number of the frame on screen at ``time`` seconds, held inside the clip."""
        last = int(np.searchsorted(self.times, time + 1e-9, side="right")) - 1
        return min(max(last, 0), self.frame_count - 1)


@dataclass(frozen=True)
class Frame:
    """One decoded picture.

    Each plane is made when somebody asks: most stages never look at all of them. ``own_size`` (width, height) px is
    what it came in, before it was brought to the size of its footage and turned; None where nobody knows.
    """

    index: int
    time: float
    make_grey: Callable[[], NDArray[np.uint8]] = field(repr=False)
    make_rgb: Callable[[], NDArray[np.uint8]] = field(repr=False)
    make_chroma: Callable[[], NDArray[np.uint8] | None] = field(repr=False, default=lambda: None)
    own_size: tuple[int, int] | None = None

    @cached_property
    def grey(self) -> NDArray[np.uint8]:
        """(height, width) uint8, full range."""
        return self.make_grey()

    @cached_property
    def rgb(self) -> NDArray[np.uint8]:
        """(height, width, 3) uint8."""
        return self.make_rgb()

    @cached_property
    def chroma(self) -> NDArray[np.uint8] | None:
        """(2, height / 2, width / 2) uint8 colour differences, 128 is grey; None where the footage has none so."""
        return self.make_chroma()
