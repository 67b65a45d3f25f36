"""How large things are by place: near and far differ, and a part of a body is known by being too small there.

Heights and widths of what was followed are taken as straight lines in the level of the foot, which is what a level
ground under an upright camera gives (Hoiem, Efros and Hebert 2006, "Putting objects in perspective", eq. 2). The line
goes through the upper part of what was seen, since parts of bodies are among it: a regression quantile (Koenker and
Bassett 1978), found by weights made anew in each round.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.types import Tracks, TrackState

__all__ = ["SizeField", "fit_size_field"]

Float = NDArray[np.float64]
QUANTILE = 0.7  # of what was seen that lies under the line
ROUNDS = 30
CLOSE = 0.5  # px off the line under which nothing weighs more
LEAST_ROWS = 50
MOST_ROWS = 20_000  # are enough
STEEPEST = 0.8  # px that a body grows for each px that it stands lower
WIDE_SPREAD = 0.5  # log ratio, at the median, from which things of all sizes share a place and a field says nothing


@dataclass(frozen=True)
class SizeField:
    """Height and width px of a body whose foot is at level y px: each ``at0 + slope * y``, 2 px at least.

    ``spread`` is the median absolute log ratio of the heights seen to the line, ``width_spread`` that of the widths.
    """

    height: tuple[float, float]
    width: tuple[float, float]
    spread: float
    width_spread: float = 0.0

    def at(self, level: float) -> tuple[float, float]:
        """Width and height px of a body whose foot is at that level, px."""
        wide, tall = (max(at0 + slope * level, 2.0) for at0, slope in (self.width, self.height))
        return wide, tall

    def of(self, box: NDArray[np.floating]) -> tuple[Float, Float]:
        """Widths and heights px of bodies that stand where the feet of boxes (n, 4) px are."""
        foot = box[:, 3].astype(np.float64)
        return self._side(self.width, foot), self._side(self.height, foot)

    def of_part(self, box: NDArray[np.floating]) -> tuple[Float, Float]:
        """Widths and heights px of bodies of which boxes (n, 4) px are some part: their legs may be lost.

        Where a body whose head is at the top of the box would stand lower, and so be larger, it is that one.
        """
        foot = box[:, 3].astype(np.float64)
        lower = (box[:, 1] + self.height[0]) / (1.0 - min(self.height[1], STEEPEST))
        most = np.maximum(box[:, 1] + 2.0 * self._side(self.height, foot), foot)
        lower = np.asarray(np.clip(lower, foot, most), np.float64)
        return self._side(self.width, lower), self._side(self.height, lower)

    @staticmethod
    def _side(line: tuple[float, float], foot: Float) -> Float:
        return np.maximum(line[0] + line[1] * foot, 2.0)

    @property
    def says_something(self) -> bool:
        """Whether things at one place are much of a size."""
        return self.spread <= WIDE_SPREAD


def fit_size_field(tracks: Tracks) -> SizeField | None:
    """The sizes of what was followed and seen; None where there is too little."""
    rows = np.flatnonzero((tracks.state != TrackState.COASTING) & (tracks.detection >= 0))
    if len(rows) < LEAST_ROWS:
        return None
    box = tracks.box[rows[:: max(1, len(rows) // MOST_ROWS)]].astype(np.float64)
    foot, tall, wide = box[:, 3], box[:, 3] - box[:, 1], box[:, 2] - box[:, 0]
    height, width = _upper_line(foot, tall), _upper_line(foot, wide)
    return SizeField(height, width, _spread(height, foot, tall), _spread(width, foot, wide))


def _spread(line: tuple[float, float], foot: Float, side: Float) -> float:
    """Median absolute log ratio of sides px to a line over the foot."""
    fit = np.maximum(line[0] + line[1] * foot, 2.0)
    return float(np.median(np.abs(np.log(np.maximum(side, 1.0) / fit))))


def _upper_line(x: Float, y: Float) -> tuple[float, float]:
    """Regression quantile of y over x: its value at 0 and its slope."""
    columns, weight = np.column_stack([np.ones_like(x), x]), np.ones_like(y)
    slope = np.zeros(2)
    for _ in range(ROUNDS):
        weighted = columns * weight[:, None]
        slope = np.linalg.solve(weighted.T @ columns + 1e-6 * np.eye(2), weighted.T @ y)
        off = y - columns @ slope
        weight = np.where(off > 0, QUANTILE, 1 - QUANTILE) / np.maximum(np.abs(off), CLOSE)
    return float(slope[0]), float(slope[1])
