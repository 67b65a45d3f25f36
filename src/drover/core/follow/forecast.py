"""Where a thing that is hidden should be: its middle and size by a Kalman filter of constant speed.

Kalman 1960, "A new approach to linear filtering and prediction problems", with white acceleration (Bar-Shalom, Li and
Kirubarajan 2001, "Estimation with applications to tracking and navigation", section 6.3.2), for each coordinate alone.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["Forecast"]

Float = NDArray[np.float64]
JERKY = 3.0  # sizes/s^2, how its speed changes
SEEN = 0.01  # sizes by which it is seen wrong
CALM = 1.0  # s after which an unseen speed has mostly died away


class Forecast:
    """Middle (2,) px and logarithm of the size, each with its speed; (3, 2) state, one (2, 2) covariance for all."""

    def __init__(self, middle: Float, size: float) -> None:
        self._state = np.array([[middle[0], 0.0], [middle[1], 0.0], [np.log(max(size, 1.0)), 0.0]])
        self._spread = np.diag([SEEN**2, 4.0])

    def predict(self, interval: float, *, unseen: bool = False) -> tuple[Float, float]:
        """Go on by ``interval`` s; the middle and the size expected then. An ``unseen`` thing slows down."""
        step = np.array([[1.0, interval], [0.0, np.exp(-interval / CALM) if unseen else 1.0]])
        self._state = self._state @ step.T
        drift = JERKY**2 * np.array([[interval**3 / 3, interval**2 / 2], [interval**2 / 2, interval]])
        self._spread = step @ self._spread @ step.T + drift
        return self.middle, self.size

    def take(self, middle: Float, size: float) -> None:
        """Take in where it was seen."""
        noise = SEEN**2
        gain = self._spread[:, 0] / (self._spread[0, 0] + noise)
        off = np.array([middle[0], middle[1], np.log(max(size, 1.0))]) - self._state[:, 0]
        self._state = self._state + off[:, None] * gain[None]
        self._spread = self._spread - np.outer(gain, self._spread[0])

    @property
    def middle(self) -> Float:
        """(2,) px."""
        return self._state[:2, 0].copy()

    @property
    def size(self) -> float:
        """px."""
        return float(np.exp(self._state[2, 0]))

    @property
    def doubt(self) -> float:
        """Standard deviation of the middle, in sizes."""
        return float(np.sqrt(self._spread[0, 0]))
