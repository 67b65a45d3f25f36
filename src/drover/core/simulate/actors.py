"""Animals: how they look, and where each one is at any moment."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

__all__ = ["Actor", "Dither", "Kind", "Pause", "Route", "beside", "walk"]

Kind = Literal["ewe", "lamb", "dog"]
STEP = 0.02  # s, grid on which a walk is worked out; positions between are interpolated


@dataclass(frozen=True)
class Route:
    """A smooth path over the ground: (n, 2) points 1 px or so apart, with the length walked at each."""

    points: NDArray[np.float64]
    length: NDArray[np.float64]

    @staticmethod
    def through(waypoints: Sequence[tuple[float, float]]) -> Route:
        """Centripetal Catmull-Rom curve through the waypoints (Yuksel et al. 2011, section 3)."""
        pts = np.asarray(waypoints, np.float64)
        padded = np.vstack([2 * pts[0] - pts[1], pts, 2 * pts[-1] - pts[-2]])
        pieces = [_catmull_rom(padded[i : i + 4]) for i in range(len(pts) - 1)]
        curve = np.vstack([*pieces, pts[-1:]])
        steps = np.hypot(*np.diff(curve, axis=0).T)
        return Route(curve, np.concatenate([[0.0], np.cumsum(steps)]))

    def at(self, length: NDArray[np.float64]) -> NDArray[np.float64]:
        """(n, 2) points at the lengths given; held at both ends."""
        x = np.interp(length, self.length, self.points[:, 0])
        y = np.interp(length, self.length, self.points[:, 1])
        return np.column_stack([x, y])

    def length_near(self, x: float) -> float:
        """Length at which the route first passes the given x."""
        passed = np.flatnonzero(np.diff(np.sign(self.points[:, 0] - x)) != 0)
        return float(self.length[passed[0]]) if len(passed) else float(self.length[-1])


def _catmull_rom(p: NDArray[np.float64], pieces: int = 60) -> NDArray[np.float64]:
    knots = np.concatenate([[0.0], np.cumsum(np.sqrt(np.hypot(*np.diff(p, axis=0).T)) + 1e-9)])
    t = np.linspace(knots[1], knots[2], pieces, endpoint=False)[:, None]

    def mix(a: NDArray[np.float64], b: NDArray[np.float64], low: float, high: float) -> NDArray[np.float64]:
        return (high - t) / (high - low) * a + (t - low) / (high - low) * b

    a1, a2, a3 = (mix(p[i], p[i + 1], knots[i], knots[i + 1]) for i in range(3))
    b1, b2 = mix(a1, a2, knots[0], knots[2]), mix(a2, a3, knots[1], knots[3])
    return mix(b1, b2, knots[1], knots[2])


@dataclass(frozen=True)
class Pause:
    """Stand still for ``seconds`` once ``at`` px of the route are walked."""

    at: float
    seconds: float


@dataclass(frozen=True)
class Dither:
    """Walk to and fro around ``at``: turning at the signed distances in ``turns`` (px), then go on."""

    at: float
    turns: tuple[float, ...]


@dataclass(frozen=True)
class Actor:
    """One animal: its looks and its walk.

    ``time``, ``x``, ``y``, ``facing`` and ``stride`` are arrays on a common grid: seconds, world px of the
    middle of the feet, facing from -1 (left) to 1 (right), and px walked (for the legs). ``depth`` is how large it
    looks at the top and at the bottom of the world.
    """

    identity: int
    kind: Kind
    body: float
    wool: tuple[float, float, float]
    face: tuple[float, float, float]
    time: NDArray[np.float64]
    x: NDArray[np.float64]
    y: NDArray[np.float64]
    facing: NDArray[np.float64]
    stride: NDArray[np.float64]
    depth: tuple[float, float] = (0.74, 1.26)

    def at(self, time: float) -> tuple[float, float, float, float] | None:
        """(x, y, facing, stride) at a moment, or None before it comes and after it has gone."""
        if not self.time[0] <= time <= self.time[-1]:
            return None
        place = (time - self.time[0]) / STEP
        i = min(int(place), len(self.time) - 2)
        f = place - i
        return tuple(  # type: ignore[return-value]
            float(column[i] * (1 - f) + column[i + 1] * f) for column in (self.x, self.y, self.facing, self.stride)
        )


def walk(
    route: Route,
    start: float,
    speed: float,
    *,
    events: Sequence[Pause | Dither] = (),
    until: float = 1e9,
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Walk a route: times (s), points (n, 2) px and signed speed (px/s), with pauses and dithering.

    Speed follows its goal with a lag of 0.18 s, as a body does.
    """
    total = float(route.length[-1])
    waiting = sorted(events, key=lambda event: event.at)
    at, velocity, now = 0.0, speed, start
    pause_until, turns, centre = -1.0, [], 0.0
    lengths, speeds = [0.0], [speed]
    while at < total and now < until:
        if waiting and at >= waiting[0].at:
            event = waiting.pop(0)
            if isinstance(event, Pause):
                pause_until = now + event.seconds
            else:
                turns, centre = list(event.turns), event.at
        goal = speed
        if turns:
            heading = 1.0 if turns[0] > 0 else -1.0
            goal = 0.8 * speed * heading
            if (at - centre - turns[0]) * heading >= 0:
                turns.pop(0)
        if now < pause_until:
            goal = 0.0
        velocity += (goal - velocity) * STEP / 0.18
        at += velocity * STEP
        now += STEP
        lengths.append(at)
        speeds.append(velocity)
    length = np.asarray(lengths)
    times = (start + STEP * np.arange(len(length))).astype(np.float64)
    return times, route.at(length), np.asarray(speeds)


def beside(
    time: NDArray[np.float64],
    points: NDArray[np.float64],
    *,
    middle: float,
    spread: float,
    reach: tuple[float, float],
    depth: float,
) -> NDArray[np.float64]:
    """Points of a lamb that goes past its ewe on the far side.

    Along the way it moves from ``reach[0]`` px behind (negative) to ``reach[1]`` px, straight in time over
    ``spread`` seconds about ``middle``; ``depth`` px farther from the camera, so the ewe hides it.
    """
    share = np.clip((time - middle) / spread + 0.5, 0.0, 1.0)
    eased = share + 0.06 * np.sin(2 * np.pi * share) * -1.0
    along = reach[0] + (reach[1] - reach[0]) * eased
    heading = np.sign(points[-1, 0] - points[0, 0])
    return points + np.column_stack([heading * along, np.full(len(points), -depth)])
