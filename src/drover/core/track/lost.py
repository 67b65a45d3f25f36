"""Identities that were given up, and may come back: what looks alike and could have got there takes up its number.

Used while linking, so a live camera has it too; joining over the whole clip comes after and sees more.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.filters import FRAME_RATE
from drover.core.track.join_costs import join_cost
from drover.core.track.living import Living
from drover.core.track.looks import look_distance
from drover.core.types import LOOK

__all__ = ["LostOnes"]

Float = NDArray[np.float64]
MOST_COST = 1.2  # of a return: motion, size, turn, time and look together
CLEARLY = 0.2  # by how much the best return must beat the next best
MOST_KEPT = 2000


@dataclass(frozen=True, eq=False)
class _Lost:
    """One identity given up: its birth number, when it was last seen (s), where, how fast (px/s), size, look."""

    number: int
    time: float
    centre: Float
    speed: Float
    size: Float
    look: NDArray[np.float32]


def _look_of(living: Living, k: int) -> NDArray[np.float32]:
    """How a living track looks; all alike where nobody looked."""
    return living.look[k].copy() if living.look.shape[1] else np.zeros(LOOK, np.float32)


class LostOnes:
    """Remembers identities for ``within`` s after they were last seen; ``look_weight`` 0..1 is that of their looks."""

    def __init__(self, within: float, look_weight: float) -> None:
        self._within, self._look_weight = within, look_weight
        self._kept: deque[_Lost] = deque(maxlen=MOST_KEPT)

    @property
    def numbers(self) -> set[int]:
        """Birth numbers of those that may come back."""
        return {one.number for one in self._kept}

    def lose(self, living: Living, rows: NDArray[np.bool_]) -> None:
        """Remember the believed among the living that are given up inside the picture."""
        if self._within <= 0:
            return
        for k in np.flatnonzero(rows & living.believed[: len(rows)] & ~living.at_edge[: len(rows)]).tolist():
            seen = living.seen[k]
            self._kept.append(
                _Lost(
                    int(living.number[k]), float(living.seen_at[k]), seen[:2].copy(), seen[2:] * FRAME_RATE,
                    np.maximum(living.usual[k], 1.0), _look_of(living, k),
                )
            )  # fmt: skip

    def returned(self, living: Living, k: int, time: float) -> int | None:
        """The number that track ``k``, just believed at ``time`` s, had before; None when it is new."""
        while self._kept and time - self._kept[0].time > self._within:
            self._kept.popleft()
        born = float(living.born_at[k])
        near = [one for one in self._kept if one.time < born]
        if not near:
            return None
        state, size = living.mean[k], np.maximum(living.usual[k], 1.0)
        cost = return_costs(
            time - np.array([one.time for one in near]), np.array([one.centre for one in near]),
            np.array([one.speed for one in near]), np.array([one.size for one in near]), state[:2],
            state[4:6] * FRAME_RATE, size, np.array([one.look for one in near]), _look_of(living, k)[None],
            2.0 * self._look_weight,
        )  # fmt: skip
        best = int(np.argmin(cost))
        if cost[best] > MOST_COST or (len(cost) > 1 and np.partition(cost, 1)[1] - cost[best] < CLEARLY):
            return None
        self._kept.remove(near[best])
        return near[best].number


@njit(cache=True, nogil=True)
def return_costs(
    wait: Float,
    centre: Float,
    speed: Float,
    size: Float,
    here: Float,
    here_speed: Float,
    here_size: Float,
    looks: NDArray[np.float32],
    look: NDArray[np.float32],
    weight: float,
) -> Float:  # pragma: no cover
    """What it would cost to take each lost one for what is here now, (lost,); infinite beyond reach."""
    out = np.empty(wait.shape[0])
    for k in range(wait.shape[0]):
        out[k] = join_cost(wait[k], centre[k], speed[k], size[k], here, here_speed, here_size)
        if np.isfinite(out[k]):
            out[k] += weight * look_distance(looks, k, look, 0)
    return out
