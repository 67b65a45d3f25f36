"""Pictures of a clip from which it is surveyed."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

__all__ = ["Samples"]


@dataclass(frozen=True)
class Samples:
    """``grey`` (n, height, width) uint8, ``chroma`` (n, 2, height / 2, width / 2) uint8 or None, ``time`` (n,) s.

    ``frame`` (n,) are their numbers in the clip, where they come from one.
    """

    grey: NDArray[np.uint8]
    chroma: NDArray[np.uint8] | None
    time: NDArray[np.float64]
    frame: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))

    def __len__(self) -> int:
        return len(self.time)
