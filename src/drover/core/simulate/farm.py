"""The Fold Hill scenes: who walks where and when."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from drover.core.errors import DroverError
from drover.core.recipe import LineSettings
from drover.core.simulate.actors import Actor, Kind
from drover.core.simulate.ground import GAP_BOTTOM, GAP_TOP, hedge_x
from drover.core.simulate.herd import Herd
from drover.core.simulate.scene import WORLD_WIDTH, Camera, Light, Scene

__all__ = ["SCENES", "build_scene", "gap", "gap_short"]


def gap(seed: int = 4, seconds: float = 58.0, *, camera: Camera | None = None) -> Scene:
    """The demo: about 38 animals through the gap in a minute, with everything that makes the job hard."""
    rng = np.random.default_rng(seed)
    herd = Herd(rng, entry=(-60.0, WORLD_WIDTH + 60.0))
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
    herd = Herd(rng, entry=(view.left - 45.0, view.left + view.width / view.zoom + 45.0), quick=1.3)
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
    herd = Herd(rng, entry=(-60.0, WORLD_WIDTH + 60.0))
    herd.add_parked(at=(300.0, 520.0), leaves=11.0)
    for k, start in enumerate(np.linspace(1.4, seconds - 14.0, 13)):
        herd.add(
            "ewe", forward=k % 3 != 1, what="rest" if k % 2 == 0 and start < seconds - 26 else "", around=float(start)
        )
    return _scene("rest", seed, seconds, camera or Camera(), tuple(herd.actors), Light())


def far(seed: int = 24, seconds: float = 24.0, *, camera: Camera | None = None) -> Scene:
    """A wide view: animals from 8 px far up the hill to 60 px near the camera."""
    rng = np.random.default_rng(seed)
    herd = Herd(rng, entry=(-40.0, WORLD_WIDTH + 40.0), depth=(0.03, 1.0))
    for k, start in enumerate(np.linspace(1.3, seconds - 6.0, 22)):
        herd.add_across(y=float(rng.uniform(105, 250) if k % 2 else rng.uniform(300, 660)), around=float(start))
    return _scene("far", seed, seconds, camera or Camera(), tuple(herd.actors), Light(cloud_depth=0.1, noise=1.6))


def crossing(seed: int = 25, seconds: float = 30.0, *, camera: Camera | None = None) -> Scene:
    """Pairs of like animals that cross each other at every angle, close to the camera."""
    view = camera or Camera(left=560, top=368, width=720, height=352)
    herd = Herd(np.random.default_rng(seed), entry=(view.left, view.left + view.width), depth=(0.62, 1.0))
    angles = (20, 160, 45, 90, 130, 30, 170, 60, 110, 15, 145, 75)
    for angle, at in zip(angles, np.linspace(4.5, seconds - 4.5, len(angles)), strict=True):
        herd.add_crossing_pair(angle=float(angle), around=float(at), view=view)
    middle = LineSettings(name="Middle", points=((0.5, 1.0), (0.5, 0.0)), reference="foot")
    return Scene("crossing", seed, seconds, 25.0, view, Light(cloud_depth=0.08), tuple(herd.actors), (middle,))


def canopy(seed: int = 26, seconds: float = 40.0, *, camera: Camera | None = None) -> Scene:
    """Animals that go behind the tree and stay there for up to three seconds."""
    kinds = ("canopy", "canopy-stop", "", "canopy", "canopy-stop")
    herd = _through_gap(seed, seconds, kinds, every=1.9)
    return _scene("canopy", seed, seconds, camera or Camera(), herd, Light())


def ewe_and_lamb(seed: int = 27, seconds: float = 40.0, *, camera: Camera | None = None) -> Scene:
    """Every lamb goes past its ewe on the far side and is hidden by her for a while."""
    herd = _through_gap(seed, seconds, ("lamb",), every=2.4)
    return _scene("ewe-and-lamb", seed, seconds, camera or Camera(), herd, Light())


def muster(seed: int = 28, seconds: float = 24.0, *, camera: Camera | None = None) -> Scene:
    """A whole flock comes through an empty paddock: more than sixty animals in the picture at once."""
    herd = Herd(np.random.default_rng(seed), entry=(-40.0, WORLD_WIDTH + 40.0), depth=(0.36, 0.72))
    for k, start in enumerate(np.linspace(1.6, seconds - 8.0, 105)):
        herd.add_across(y=float(110 + 590 * ((k * 0.618) % 1.0)), around=float(start), drive=True)
    points = ((0.5, 1.0), (0.5, 0.0))
    line = LineSettings(name="Middle", points=points, reference="foot")
    light = Light(cloud_depth=0.1)
    return Scene("muster", seed, seconds, 25.0, camera or Camera(), light, tuple(herd.actors), (line,))


def slow_camera(seed: int = 29, seconds: float = 60.0, *, camera: Camera | None = None) -> Scene:
    """Five pictures a second: an animal moves by half its length from one to the next."""
    kinds = ("", "lamb", "", "", "canopy", "", "pause")
    herd = _through_gap(seed, seconds, kinds, every=1.9)
    made = _scene("slow-camera", seed, seconds, camera or Camera(), herd, Light())
    return replace(made, rate=5.0)


def _through_gap(seed: int, seconds: float, kinds: Sequence[str], *, every: float) -> tuple[Actor, ...]:
    """Ewes through the gap both ways, one every few seconds, with the specialities in turn."""
    herd = Herd(np.random.default_rng(seed), entry=(-60.0, WORLD_WIDTH + 60.0))
    for k, start in enumerate(np.arange(1.4, seconds - 8.0, every)):
        herd.add("ewe", forward=k % 3 != 1, what=kinds[k % len(kinds)], around=float(start))
    return tuple(herd.actors)


SCENES: dict[str, Callable[..., Scene]] = {
    "gap": gap, "gap-short": gap_short, "noon": noon, "squall": squall, "rest": rest, "far": far,
    "crossing": crossing, "canopy": canopy, "ewe-and-lamb": ewe_and_lamb, "muster": muster, "slow-camera": slow_camera,
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
