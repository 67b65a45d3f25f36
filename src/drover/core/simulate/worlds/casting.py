"""What the scenes are put together from: options, who walks where and when, clothes, lines and the sensor."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from drover.core.recipe import LineSettings
from drover.core.simulate.worlds import weather
from drover.core.simulate.worlds.bodies import Colour, Colours
from drover.core.simulate.worlds.movers import Depth, Mover
from drover.core.simulate.worlds.world import World

__all__ = ["Cast", "Options", "clothes", "line_of", "sensor_of", "world_of"]

NONE: Colour = (0.0, 0.0, 0.0)
SKIN: Colour = (196.0, 152.0, 126.0)
MIDDLE = ((0.5, 1.0), (0.5, 0.0))


@dataclass(frozen=True)
class Options:
    """How a world is taken: length s, frames/s, size px, and factors on noise and on the coarseness of the coding."""

    seed: int = 1
    seconds: float = 20.0
    rate: float = 25.0
    width: int = 640
    noise: float = 1.0
    quality: int = 0

    @property
    def size(self) -> tuple[int, int]:
        """(height, width) px, even, sixteen to nine."""
        return round(self.width * 9 / 32) * 2, self.width


class Cast:
    """Movers as they are thought up, numbered as they come."""

    def __init__(self, options: Options, depth: Depth) -> None:
        self.options, self.depth = options, depth
        self.rng = np.random.default_rng([options.seed, 5])
        self.movers: list[Mover] = []

    def add(self, kind: str, colours: Colours, way: list[tuple[float, float]], **more: float | tuple) -> Mover:
        """One more; what is not said of it is taken from the cast."""
        settings = {"depth": self.depth, "seed": self.options.seed, "aspect": self.options.width / self.options.size[0]}
        mover = Mover(len(self.movers) + 1, kind, colours, way, **{**settings, **more})  # type: ignore[arg-type]
        self.movers.append(mover)
        return mover

    def starts(self, every: float, first: float = 0.0, tail: float = 3.0) -> Iterable[float]:
        """Moments about ``every`` s apart, up to ``tail`` s before the end."""
        at = first
        while at < self.options.seconds - tail:
            yield at
            at += every * float(self.rng.uniform(0.7, 1.3))

    def across(self, y: float, *, slant: float = 0.08, margin: float = 0.1) -> list[tuple[float, float]]:
        """A way from one side to the other at about height ``y``, from a side that chance picks."""
        a, b = y + self.rng.uniform(-slant, slant), y + self.rng.uniform(-slant, slant)
        way = [(-margin, a), (0.5 + self.rng.uniform(-0.1, 0.1), (a + b) / 2), (1 + margin, b)]
        return way if self.rng.random() < 0.5 else way[::-1]


def clothes(rng: np.random.Generator, near: Colour | None = None) -> Colours:
    """Coat, trousers, skin, bag; now and then the coat has nearly the ground's colour."""
    bright = [
        (190, 40, 40),
        (40, 60, 150),
        (230, 225, 215),
        (30, 30, 34),
        (200, 160, 50),
        (60, 120, 90),
        (120, 70, 120),
    ]
    dark = [(35, 38, 60), (60, 55, 50), (25, 25, 28), (95, 95, 100), (110, 90, 70)]
    coat = tuple(float(v) for v in bright[int(rng.integers(len(bright)))])
    if near is not None and rng.random() < 0.2:
        coat = tuple(v + float(rng.uniform(-14, 14)) for v in near)
    trousers = tuple(float(v) for v in dark[int(rng.integers(len(dark)))])
    bag = (70.0, 50.0, 40.0) if rng.random() < 0.3 else NONE
    return coat, trousers, SKIN, bag  # type: ignore[return-value]


def line_of(*points: tuple[float, float], name: str = "Line") -> tuple[LineSettings, ...]:
    """One counting line."""
    return (LineSettings(name=name, points=points),)


def world_of(options: Options, plate, cast: Cast, sensor: weather.Sensor, **more) -> World:  # type: ignore[no-untyped-def]
    """A world of a ground plate, those who walk on it and the sensor that looks at it."""
    height, width = options.size
    quality = more.pop("quality", 25) + options.quality
    lines = more.pop("lines", None) or line_of(*MIDDLE)
    return World(
        "", options.seconds, options.rate, width, height, plate, cast.movers, lines, sensor, quality=quality, **more
    )


def sensor_of(options: Options, noise: float, **more: float | bool) -> weather.Sensor:
    """A sensor as noisy as asked for."""
    return weather.Sensor(options.seed, options.size, noise=noise * options.noise, **more)  # type: ignore[arg-type]
