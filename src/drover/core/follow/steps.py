"""What comes of following a thing in one picture."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

__all__ = ["FollowState", "FollowStep"]

Float = NDArray[np.float64]


class FollowState(IntEnum):
    """How the thing stands in a picture."""

    SEEN = 0
    HIDDEN = 1  # not seen; where it should be is a forecast
    LOST = 2  # looked for all over the picture


@dataclass(frozen=True)
class FollowStep:
    """``outline`` (4, 2) px, None where it is lost; ``sure`` 0..1; ``reason`` why it is not seen, in plain words.

    ``points`` (n, 2) px where its points are, ``agrees`` (n,) which of them fit the outline, ``size`` (n,) px.
    """

    outline: Float | None
    state: FollowState
    sure: float
    reason: str
    points: Float
    agrees: NDArray[np.bool_]
    size: Float
