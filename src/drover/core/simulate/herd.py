"""Animals placed one by one on the farm, so that they seldom run into each other unless they are meant to."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.simulate.actors import Actor, Dither, Kind, Pause, Route, beside, walk
from drover.core.simulate.body import body_parts, parts_box
from drover.core.simulate.ground import CROWN_CENTRE, GAP_BOTTOM, GAP_TOP, hedge_x
from drover.core.simulate.scene import WORLD_HEIGHT, WORLD_WIDTH, Camera

__all__ = ["Herd"]

Walk = tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]
Colour = tuple[float, float, float]
_Box = tuple[float, float, float, float]
TRIES = 160  # places tried for each animal
TICK = 0.33  # s, grid on which crowding is judged
WOOLS: tuple[Colour, ...] = ((226, 219, 201), (233, 228, 214), (217, 206, 184), (208, 202, 192))
FACES: tuple[Colour, ...] = ((52, 46, 42), (66, 58, 52), (205, 196, 178), (88, 72, 60))


class Herd:
    """Places animals one by one so that they seldom run into each other."""

    def __init__(
        self,
        rng: np.random.Generator,
        *,
        entry: tuple[float, float],
        quick: float = 1.0,
        depth: tuple[float, float] = (0.74, 1.26),
    ) -> None:
        self.rng, self.entry, self.quick, self.depth = rng, entry, quick, depth
        self.actors: list[Actor] = []
        self._placed: dict[int, list[_Box]] = {}

    def add(self, kind: Kind, *, forward: bool, what: str, around: float) -> None:
        """Add one animal (and its lamb): the least crowded of several tries."""
        tries = [self._try(kind, forward, what, around) for _ in range(TRIES)]
        self._take(self._roomiest(tries))

    def add_parked(self, *, at: tuple[float, float], leaves: float) -> None:
        """Add an ewe that stands at a place from before the start and walks off to the left."""
        route = Route.through([(at[0], at[1]), (at[0] - 140, at[1] + 20), (self.entry[0], at[1] + 40)])
        made = walk(route, -1.0, 100.0, events=[Pause(0.0, leaves + 1.0)])
        self._take([self._actor(len(self.actors) + 1, "ewe", made)])

    def add_across(self, *, y: float, around: float, drive: bool = False) -> None:
        """Add an animal that walks across the whole picture at about one distance; driven ones all go one way."""
        self._take(self._roomiest([self._across(y, around, drive) for _ in range(TRIES // 4)]))

    def add_crossing_pair(self, *, angle: float, around: float, view: Camera) -> None:
        """Add two animals alike that meet at one place at one time, ``angle`` degrees between their ways."""
        rng = self.rng
        centre = np.array([view.left + view.width * rng.uniform(0.4, 0.6), view.top + view.height * 0.52])
        heading = np.radians(rng.uniform(0, 360))
        number, speed = len(self.actors) + 1, float(rng.uniform(100, 125))
        pair = []
        for k, way in enumerate((heading, heading + np.radians(angle))):
            step = np.array([np.cos(way), np.sin(way)])
            # Past each other with a little room: one goes a few pixels nearer to the camera.
            place = centre + np.array([0.0, 9.0 * (k - 0.5) * 2])
            reach = view.width * 0.5 + 130
            route = Route.through([tuple(place - step * reach), tuple(place), tuple(place + step * reach)])
            made = walk(route, around - reach / speed + rng.uniform(-0.12, 0.12), speed)
            pair.append(self._actor(number + k, "ewe", made))
        first, second = pair
        self._take([first, replace(second, body=first.body, wool=first.wool, face=first.face)])

    def _across(self, y: float, around: float, drive: bool) -> list[Actor]:
        rng = self.rng
        size = self.depth[0] + (self.depth[1] - self.depth[0]) * y / WORLD_HEIGHT
        points = [(x, y + rng.uniform(-60, 60) * size) for x in np.linspace(*self.entry, 5)]
        route = Route.through(points if drive or rng.random() < 0.5 else points[::-1])
        if drive:
            made = walk(route, around + rng.uniform(-1, 1), rng.uniform(78.0, 112.0))
            return [self._actor(len(self.actors) + 1, "lamb" if rng.random() < 0.15 else "ewe", made)]
        # Enter anywhere along the way, so that the slow far ones are seen too: from behind the picture's edge.
        made = walk(route, max(1.1, around + rng.uniform(-1, 1)), max(34.0, 125.0 * size))
        kind: Kind = "lamb" if rng.random() < 0.2 and y > 350 else "ewe"
        return [self._actor(len(self.actors) + 1, kind, made)]

    def _take(self, made: list[Actor]) -> None:
        self.actors.extend(made)
        for actor in made:
            for tick, box in _boxes(actor):
                self._placed.setdefault(tick, []).append(box)

    def _try(self, kind: Kind, forward: bool, what: str, around: float) -> list[Actor]:
        rng = self.rng
        route = self._route(forward, what)
        speed = self.quick * (rng.uniform(150, 165) if kind == "dog" else rng.uniform(106, 134))
        if what == "lamb":
            speed = self.quick * rng.uniform(92, 104)
        start = around + rng.uniform(-2.6, 2.6)
        at_line = route.length_near(hedge_x(370.0))
        made = walk(
            route, max(1.1, start), speed, events=self._events(what, at_line, route.length_near(CROWN_CENTRE[0] - 8.0))
        )
        first = self._actor(len(self.actors) + 1, kind, made)
        if what != "lamb":
            return [first]
        return [first, self._lamb(made, at_line, speed, first.identity + 1)]

    def _route(self, forward: bool, what: str) -> Route:
        rng = self.rng
        lane = rng.uniform(GAP_TOP + 50, GAP_BOTTOM - 20)
        left, right = self.entry
        near_x = hedge_x(lane)
        west = [(left, lane + rng.uniform(-110, 140)), ((left + near_x) / 2, lane + rng.uniform(-90, 110))]
        east = [
            ((right + near_x) / 2 + 40, lane + rng.uniform(-60, 120)),
            (right, lane + rng.uniform(-70, 160)),
        ]
        if what.startswith("canopy"):
            x, y = CROWN_CENTRE
            behind = y + rng.uniform(12, 40)
            east = [
                (x - 120, behind + 6),
                (x, behind),
                (x + 130, behind + 4),
                (right, behind + rng.uniform(-30, 40)),
            ]
        elif right > WORLD_WIDTH:
            # Keep the others in front of the crown, below its foot.
            east[0] = (east[0][0], max(east[0][1], 436.0 + rng.uniform(0, 110)))
            east[1] = (east[1][0], max(east[1][1], 400.0))
        through = [(near_x - 90, lane), (near_x, lane), (near_x + 90, lane + rng.uniform(-6, 10))]
        points = [*west, *through, *east]
        return Route.through(points if forward else points[::-1])

    def _events(self, what: str, at_line: float, at_crown: float) -> Sequence[Pause | Dither]:
        if what == "pause":
            return [
                Pause(
                    at_line + float(self.rng.choice([-190.0, -150.0, 130.0, 210.0])),
                    float(self.rng.uniform(4.2, 5.4)),
                )
            ]
        if what == "rest":
            return [
                Pause(at_line + float(self.rng.choice([-260.0, -180.0, 180.0, 260.0])), float(self.rng.uniform(9, 20)))
            ]
        if what == "canopy-stop":
            return [Pause(at_crown, float(self.rng.uniform(0.8, 1.7)))]
        if what == "dither":
            return [Dither(at_line + 26, (26.0, -30.0, 28.0, -28.0))]
        return []

    def _lamb(self, made: Walk, at_line: float, speed: float, identity: int) -> Actor:
        time, points, speeds = made
        rng = self.rng
        middle = float(time[0] + at_line / speed) + rng.uniform(-0.4, 0.4)
        size = 66.0
        reach = (-rng.uniform(1.05, 1.2) * size, rng.uniform(1.0, 1.2) * size)
        moved = beside(time, points, middle=middle, spread=rng.uniform(2.4, 2.8), reach=reach, depth=rng.uniform(4, 7))
        return self._actor(identity, "lamb", (time, moved, speeds))

    def _actor(self, identity: int, kind: Kind, made: Walk) -> Actor:
        time, points, _ = made
        rng = self.rng
        pick = rng.integers(0, len(WOOLS)), rng.integers(0, len(FACES))
        wool, face = WOOLS[pick[0]], FACES[pick[1]]
        if kind == "dog":
            wool, face = (224.0, 220.0, 210.0), (44.0, 38.0, 36.0)
        body = {"ewe": rng.uniform(60, 69), "lamb": rng.uniform(36, 41), "dog": rng.uniform(52, 55)}[kind]
        step = np.gradient(points[:, 0])
        facing = _smoothed_facing(step)
        stride = np.concatenate(
            [
                [0.0],
                np.cumsum(np.hypot(*np.diff(points, axis=0).T) * np.sign(step[1:] + 1e-9) * np.sign(facing[1:])),
            ]
        )
        return Actor(
            identity,
            kind,
            float(body),
            wool,
            face,
            time,
            points[:, 0].copy(),
            points[:, 1].copy(),
            facing,
            stride,
            self.depth,
        )

    def _roomiest(self, tries: list[list[Actor]]) -> list[Actor]:
        """The least crowded; the only one there is needs no look."""
        return tries[0] if len(tries) == 1 else min(tries, key=self._crowding)

    def _crowding(self, made: list[Actor]) -> float:
        """How much the new animals overlap those already placed, summed over time; overlaps count steeply."""
        low, high = self.entry[0] - 50, self.entry[1] + 50
        total = 0.0
        for actor in made:
            for tick, mine in _boxes(actor):
                if low < mine[0] < high:
                    total += sum(_nearness(mine, box) for box in self._placed.get(tick, ()))
        return total


def _boxes(actor: Actor) -> Iterator[tuple[int, _Box]]:
    """Boxes of an animal on a shared grid of moments, a third of a second apart."""
    for tick in range(int(actor.time[0] / TICK) + 1, int(actor.time[-1] / TICK)):
        box = _box_at(actor, tick * TICK)
        if box is not None:
            yield tick, box


@njit(cache=True, nogil=True)
def _smoothed_facing(step: NDArray[np.float64]) -> NDArray[np.float64]:  # pragma: no cover
    """Facing follows the way of walking with a lag, and turns only for real steps."""
    facing = np.empty(len(step))
    now = 1.0 if step[min(5, len(step) - 1)] >= 0 else -1.0
    goal = now
    for i in range(len(step)):
        if abs(step[i]) > 0.25:
            goal = 1.0 if step[i] > 0 else -1.0
        now += (goal - now) * 0.07
        facing[i] = now if abs(now) > 0.12 else (0.12 if now >= 0 else -0.12)
    return facing


def _box_at(actor: Actor, time: float) -> _Box | None:
    placed = actor.at(time)
    if placed is None:
        return None
    x, y, facing, stride = placed
    if not -100 < x < WORLD_WIDTH + 100 or not 0 < y < WORLD_HEIGHT + 60:
        return None
    return parts_box(body_parts(actor, x, y, facing, stride))


def _nearness(a: _Box, b: _Box) -> float:
    gap_x = max(a[0], b[0]) - min(a[2], b[2])
    gap_y = max(a[1], b[1]) - min(a[3], b[3])
    if gap_x > 26 or gap_y > 14:
        return 0.0
    if gap_x > 12 or gap_y > 8:
        return 0.15
    if gap_x > 0 or gap_y > 0:
        return 0.7
    return 1.0 + gap_x * gap_y / 300.0
