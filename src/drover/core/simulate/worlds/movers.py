"""Who goes where: a way through the picture, a speed in own heights, pauses, and the size that distance gives."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.simulate.actors import Route
from drover.core.simulate.worlds.bodies import Colours

__all__ = ["Depth", "Mover", "Placed"]

STEP = 0.02  # s, grid on which a walk is worked out
LAG = 0.2  # s, of the speed behind what it goes to


@dataclass(frozen=True)
class Depth:
    """How large things look, by the height of their foot in the picture (fraction): straight between two rows."""

    far_y: float = 0.0
    far: float = 1.0
    near_y: float = 1.0
    near: float = 1.0

    def scale(self, y: float | NDArray[np.float64]) -> float | NDArray[np.float64]:
        """Factor for a foot at ``y``."""
        return np.maximum(self.far + (y - self.far_y) / (self.near_y - self.far_y) * (self.near - self.far), 0.02)


@dataclass(frozen=True)
class Placed:
    """Where a mover is: foot (fractions of width and height), height in px, facing -1..1, and heights walked."""

    x: float
    y: float
    tall: float
    facing: float
    walked: float


class Mover:
    """One that goes its way.

    Parameters
    ----------
    way : points of the foot, fractions of the picture's width and height
    tall : height at depth 1, fraction of the picture's height
    start : s at which it is at the first point
    speed : own heights a second
    pauses : (share of the way, seconds it stands there)
    jitter : own heights by which it wavers about its way
    """

    def __init__(
        self,
        identity: int,
        kind: str,
        colours: Colours,
        way: list[tuple[float, float]],
        *,
        tall: float,
        start: float,
        speed: float,
        depth: Depth,
        aspect: float,
        pauses: tuple[tuple[float, float], ...] = (),
        jitter: float = 0.0,
        seed: int = 0,
        until: float = 1e9,
    ) -> None:
        self.identity, self.kind, self.colours = identity, kind, colours
        self._tall, self._depth, self._aspect, self._start = tall, depth, aspect, start
        # In units of the picture's height, so that ways have one length whatever their direction.
        route = Route.through([(x * aspect, y) for x, y in way])
        self._walk(route, speed, pauses, jitter, np.random.default_rng([seed, identity]), until - start)

    def _walk(
        self,
        route: Route,
        speed: float,
        pauses: tuple[tuple[float, float], ...],
        jitter: float,
        rng: np.random.Generator,
        longest: float,
    ) -> None:
        total = float(route.length[-1])
        stands = sorted((share * total, seconds) for share, seconds in pauses)
        gone, fast, walked, time = 0.0, speed, 0.0, 0.0
        rows = []
        standing = 0.0
        while gone < total and time < longest:
            point = route.at(np.array([gone]))[0]
            tall = self._tall * float(self._depth.scale(float(point[1])))
            rows.append((point[0], point[1], walked))
            if stands and gone >= stands[0][0]:
                standing = stands.pop(0)[1]
            goal = 0.0 if standing > 0 else speed
            standing -= STEP
            fast += (goal - fast) * STEP / LAG
            gone += max(fast, 0.0) * tall * STEP
            walked += max(fast, 0.0) * STEP
            time += STEP
            if standing > 0 and fast < 1e-3 and len(rows) > 1_000_000:
                break
        table = np.array(rows, np.float64).reshape(-1, 3)
        if jitter > 0 and len(table) > 2:
            slow = np.cumsum(rng.normal(0, 1, (len(table) // 12 + 3, 2)), axis=0)
            slow -= np.linspace(0, 1, len(slow))[:, None] * slow[-1]
            slow *= jitter * self._tall / max(float(np.abs(slow).max()), 1e-9)
            grid = np.arange(len(slow)) * 12
            table[:, 0] += np.interp(np.arange(len(table)), grid, slow[:, 0])
            table[:, 1] += np.interp(np.arange(len(table)), grid, slow[:, 1])
        self._table = table

    @property
    def end(self) -> float:
        """When it has gone, s."""
        return self._start + max(0, len(self._table) - 1) * STEP

    def at(self, time: float, height: float) -> Placed | None:
        """Where it is at ``time`` s in a picture ``height`` px high; None before it comes and after it has gone."""
        place = (time - self._start) / STEP
        if len(self._table) < 2 or not 0 <= place <= len(self._table) - 1:
            return None
        k = min(int(place), len(self._table) - 2)
        f = place - k
        x, y, walked = self._table[k] * (1 - f) + self._table[k + 1] * f
        ahead, behind = self._table[min(k + 8, len(self._table) - 1)], self._table[max(k - 8, 0)]
        dx, dy = ahead[:2] - behind[:2]
        length = float(np.hypot(dx, dy))
        facing = float(dx / length) if length > 1e-6 else 0.6
        tall = self._tall * float(self._depth.scale(y)) * height
        return Placed(float(x / self._aspect), float(y), tall, facing, float(walked))
