"""The Fold Hill scenes: who walks where and when."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import DroverError
from drover.core.recipe import LineSettings
from drover.core.simulate.actors import Actor, Dither, Kind, Pause, Route, beside, walk
from drover.core.simulate.body import body_parts, parts_box
from drover.core.simulate.ground import CROWN_CENTRE, GAP_BOTTOM, GAP_TOP, hedge_x
from drover.core.simulate.scene import WORLD_HEIGHT, WORLD_WIDTH, Camera, Light, Scene

__all__ = ["SCENES", "build_scene", "gap", "gap_short"]

Walk = tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]
Colour = tuple[float, float, float]
_Box = tuple[float, float, float, float]
TICK = 0.33  # s, grid on which crowding is judged
WOOLS: tuple[Colour, ...] = ((226, 219, 201), (233, 228, 214), (217, 206, 184), (208, 202, 192))
FACES: tuple[Colour, ...] = ((52, 46, 42), (66, 58, 52), (205, 196, 178), (88, 72, 60))


def gap(seed: int = 4, seconds: float = 58.0, *, camera: Camera | None = None) -> Scene:
    """The demo: about 38 animals through the gap in a minute, with everything that makes the job hard."""
    rng = np.random.default_rng(seed)
    herd = _Herd(rng, entry=(-60.0, WORLD_WIDTH + 60.0))
    last = max(2.0, seconds - 12.5)
    share = min(1.0, last / 45.5)
    plan = _gap_plan(share)
    starts = np.linspace(1.6, last, max(1, len(plan)))
    for (kind, forward, what), start in zip(plan, starts, strict=True):
        herd.add(kind, forward=forward, what=what, around=float(start))
    return _scene("gap", seed, seconds, camera or Camera(), tuple(herd.actors), Light())


def gap_short(seed: int = 11, seconds: float = 10.0, *, camera: Camera | None = None) -> Scene:
    """Ten seconds at 640 x 360, close to the gap: for tests."""
    rng = np.random.default_rng(seed)
    view = camera or Camera(left=330, top=186, zoom=1.0, width=640, height=360)
    herd = _Herd(rng, entry=(view.left - 45.0, view.left + view.width / view.zoom + 45.0), quick=1.3)
    plan: list[tuple[Kind, bool, str]] = [
        ("ewe", True, ""), ("ewe", False, ""), ("ewe", True, "lamb"), ("ewe", True, ""),
        ("ewe", False, ""), ("dog", True, ""),
    ]  # fmt: skip
    for (kind, forward, what), start in zip(plan, np.linspace(1.2, max(1.3, seconds - 7.0), len(plan)), strict=True):
        herd.add(kind, forward=forward, what=what, around=float(start))
    return _scene("gap-short", seed, seconds, view, tuple(herd.actors), Light(sway=0.9))


def noon(seed: int = 21, seconds: float = 24.0, *, camera: Camera | None = None) -> Scene:
    """High sun: every animal throws a hard shadow."""
    herd = _through_gap(seed, seconds, ("", "", "", "lamb", "", "", "", "canopy"), every=1.25)
    return _scene("noon", seed, seconds, camera or Camera(), herd, Light(cloud_depth=0.0, cast_shadow=0.42))


def squall(seed: int = 22, seconds: float = 24.0, *, camera: Camera | None = None) -> Scene:
    """Gusts: the light jumps and glides, tall grass sways hard, the sensor is noisy."""
    herd = _through_gap(seed, seconds, ("", "", "", "", ""), every=1.35)
    gains = ((5.0, 0.0, 0.78), (8.5, 2.5, 1.12), (13.0, 0.0, 0.82), (16.0, 0.2, 1.05), (19.0, 3.0, 0.85))
    light = Light(cloud_depth=0.2, cloud_drift=120.0, sway=3.2, noise=4.2, gains=gains)
    return _scene("squall", seed, seconds, camera or Camera(), herd, light)


def rest(seed: int = 23, seconds: float = 40.0, *, camera: Camera | None = None) -> Scene:
    """Animals that stop for up to 20 s, and one that stood there from the start and walks off."""
    rng = np.random.default_rng(seed)
    herd = _Herd(rng, entry=(-60.0, WORLD_WIDTH + 60.0))
    herd.add_parked(at=(300.0, 520.0), leaves=11.0)
    for k, start in enumerate(np.linspace(1.4, seconds - 14.0, 13)):
        herd.add(
            "ewe", forward=k % 3 != 1, what="rest" if k % 2 == 0 and start < seconds - 26 else "", around=float(start)
        )
    return _scene("rest", seed, seconds, camera or Camera(), tuple(herd.actors), Light())


def far(seed: int = 24, seconds: float = 24.0, *, camera: Camera | None = None) -> Scene:
    """A wide view: animals from 8 px far up the hill to 60 px near the camera."""
    rng = np.random.default_rng(seed)
    herd = _Herd(rng, entry=(-40.0, WORLD_WIDTH + 40.0), depth=(0.03, 1.0))
    for k, start in enumerate(np.linspace(1.3, seconds - 6.0, 22)):
        herd.add_across(y=float(rng.uniform(105, 250) if k % 2 else rng.uniform(300, 660)), around=float(start))
    return _scene("far", seed, seconds, camera or Camera(), tuple(herd.actors), Light(cloud_depth=0.1, noise=1.6))


def _through_gap(seed: int, seconds: float, kinds: Sequence[str], *, every: float) -> tuple[Actor, ...]:
    """Ewes through the gap both ways, one every few seconds, with the specialities in turn."""
    herd = _Herd(np.random.default_rng(seed), entry=(-60.0, WORLD_WIDTH + 60.0))
    for k, start in enumerate(np.arange(1.4, seconds - 8.0, every)):
        herd.add("ewe", forward=k % 3 != 1, what=kinds[k % len(kinds)], around=float(start))
    return tuple(herd.actors)


SCENES: dict[str, Callable[..., Scene]] = {
    "gap": gap, "gap-short": gap_short, "noon": noon, "squall": squall, "rest": rest, "far": far,
}  # fmt: skip


def build_scene(name: str, *, seed: int | None = None, seconds: float | None = None) -> Scene:
    """A scene by name, with its own seed and length unless others are given.

    Raises
    ------
    DroverError
        When there is no such scene or the length is not usable.
    """
    if name not in SCENES:
        raise DroverError(f"there is no scene '{name}'; choose one of: {', '.join(SCENES)}")
    if seconds is not None and not 2.0 <= seconds <= 3600.0:
        raise DroverError(f"the length of a scene must be in 2..3600 s; got {seconds:g}")
    chosen = {key: value for key, value in (("seed", seed), ("seconds", seconds)) if value is not None}
    return SCENES[name](**chosen)


def _gap_plan(share: float) -> list[tuple[Kind, bool, str]]:
    """Kind, direction and speciality in order of coming; lambs come with their ewe."""
    special = {
        1: "lamb", 3: "canopy", 4: "pause", 6: "lamb", 7: "dither", 9: "canopy", 11: "lamb", 12: "pause", 14: "dither",
        15: "canopy", 17: "lamb", 19: "dither", 20: "canopy", 22: "lamb", 23: "pause", 25: "lamb",
        26: "dither", 28: "canopy",
    }  # fmt: skip
    back = {2, 5, 8, 9, 13, 16, 18, 21, 24, 27, 30}
    plan: list[tuple[Kind, bool, str]] = []
    for i in range(32):
        plan.append(("dog" if i == 29 else "ewe", i not in back, special.get(i, "")))
    return plan[: max(1, round(len(plan) * share))]


def _scene(name: str, seed: int, seconds: float, camera: Camera, actors: tuple[Actor, ...], light: Light) -> Scene:
    top, bottom = GAP_TOP + 12, GAP_BOTTOM - 4
    ends = [(hedge_x(bottom), bottom), (hedge_x(top), top)]
    points = tuple(
        (
            round((x - camera.left) * camera.zoom / camera.width, 4),
            round((y - camera.top) * camera.zoom / camera.height, 4),
        )
        for x, y in ends
    )
    line = LineSettings(name="Gap", points=points, reference="foot")
    return Scene(name, seed, seconds, 25.0, camera, light, actors, (line,))


class _Herd:
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
        tries = [self._try(kind, forward, what, around) for _ in range(160)]
        self._take(min(tries, key=self._crowding))

    def add_parked(self, *, at: tuple[float, float], leaves: float) -> None:
        """Add an ewe that stands at a place from before the start and walks off to the left."""
        route = Route.through([(at[0], at[1]), (at[0] - 140, at[1] + 20), (self.entry[0], at[1] + 40)])
        made = walk(route, -1.0, 100.0, events=[Pause(0.0, leaves + 1.0)])
        self._take([self._actor(len(self.actors) + 1, "ewe", made)])

    def add_across(self, *, y: float, around: float) -> None:
        """Add an animal that walks across the whole picture at about one distance."""
        self._take(min((self._across(y, around) for _ in range(40)), key=self._crowding))

    def _across(self, y: float, around: float) -> list[Actor]:
        rng = self.rng
        size = self.depth[0] + (self.depth[1] - self.depth[0]) * y / WORLD_HEIGHT
        points = [(x, y + rng.uniform(-60, 60) * size) for x in np.linspace(*self.entry, 5)]
        route = Route.through(points if rng.random() < 0.5 else points[::-1])
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
        made = walk(route, max(1.1, start), speed, events=self._events(what, at_line))
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
        if what == "canopy":
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

    def _events(self, what: str, at_line: float) -> Sequence[Pause | Dither]:
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


def _smoothed_facing(step: NDArray[np.float64]) -> NDArray[np.float64]:
    """Facing follows the way of walking with a lag, and turns only for real steps."""
    facing = np.empty(len(step))
    now = 1.0 if step[min(5, len(step) - 1)] >= 0 else -1.0
    goal = now
    for i, dx in enumerate(step):
        if abs(dx) > 0.25:
            goal = 1.0 if dx > 0 else -1.0
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
