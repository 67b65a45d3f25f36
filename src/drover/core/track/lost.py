"""Identities that were given up, and may come back: what looks alike and could have got there takes up its number.

Used while linking, so a live camera has it too; joining over the whole clip comes after and sees more.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.track.filters import FRAME_RATE
from drover.core.track.joining import join_cost
from drover.core.track.living import Living
from drover.core.track.looks import look_distance

__all__ = ["LostOnes"]

Float = NDArray[np.float64]
MOST_COST = 1.2  # of a return: motion, size, turn, time and look together
CLEARLY = 0.2  # by how much the best return must beat the next best
MOST_KEPT = 2000


@dataclass(frozen=True)
class _Lost:
    """One identity given up: its birth number, when it was last seen (s), where, how fast (px/s), size, look."""

    number: int
    time: float
    centre: Float
    speed: Float
    size: Float
    look: NDArray[np.float32]


class LostOnes:
    """Remembers identities for ``within`` s after they were last seen; ``look_weight`` 0..1 is that of their looks."""

    def __init__(self, within: float, look_weight: float) -> None:
        self._within, self._look_weight = within, look_weight
        self._kept: list[_Lost] = []

    def lose(self, living: Living, rows: NDArray[np.bool_]) -> None:
        """Remember the believed among the living that are given up inside the picture."""
        if self._within <= 0:
            return
        for k in np.flatnonzero(rows & living.believed[: len(rows)] & ~living.at_edge[: len(rows)]).tolist():
            seen = living.seen[k]
            self._kept.append(
                _Lost(
                    int(living.number[k]), float(living.seen_at[k]), seen[:2].copy(), seen[2:] * FRAME_RATE,
                    np.maximum(living.usual[k], 1.0), living.look[k].copy(),
                )
            )  # fmt: skip

    def returned(self, living: Living, k: int, time: float) -> int | None:
        """The number that track ``k``, just believed at ``time`` s, had before; None when it is new."""
        self._kept = [one for one in self._kept if time - one.time <= self._within][-MOST_KEPT:]
        born = float(living.born_at[k])
        cost = np.array([self._cost(one, living, k, time) if one.time < born else np.inf for one in self._kept])
        if len(cost) == 0 or cost.min() > MOST_COST:
            return None
        best = int(np.argmin(cost))
        if len(cost) > 1 and np.partition(cost, 1)[1] - cost[best] < CLEARLY:
            return None
        return self._kept.pop(best).number

    def _cost(self, one: _Lost, living: Living, k: int, time: float) -> float:
        state = living.mean[k]
        size = np.maximum(living.usual[k], 1.0)
        cost = join_cost(time - one.time, one.centre, one.speed, one.size, state[:2], state[4:6] * FRAME_RATE, size)
        unlike = look_distance(one.look[None], 0, living.look[k][None], 0)
        return float(cost + 2.0 * self._look_weight * unlike)
