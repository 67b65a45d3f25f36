"""The worlds by name: who goes about in each, and what makes it hard."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from drover.core.errors import DroverError
from drover.core.simulate.worlds import weather
from drover.core.simulate.worlds.bodies import Colour
from drover.core.simulate.worlds.casting import NONE, Cast, Options, clothes, line_of, sensor_of, world_of
from drover.core.simulate.worlds.movers import Depth
from drover.core.simulate.worlds.plate import ground, mask_of
from drover.core.simulate.worlds.world import World

__all__ = ["WORLDS", "build_world"]


def pond(o: Options) -> World:
    """Ducks on restless water, some as bright as it."""
    rng, size = np.random.default_rng([o.seed, 1]), o.size
    cast = Cast(o, Depth(0.2, 0.6, 1.0, 1.3))
    backs = [(235, 235, 228), (120, 95, 70), (92, 110, 118), (60, 50, 45)]
    for start in cast.starts(1.5, first=-4):
        back = tuple(float(v) for v in backs[int(cast.rng.integers(4))])
        colours = (back, (40.0, 70.0, 50.0) if cast.rng.random() < 0.5 else back, (210.0, 150.0, 40.0), NONE)
        pauses = ((0.4, 2.0),) if cast.rng.random() < 0.3 else ()
        y = float(cast.rng.uniform(0.38, 0.9))
        cast.add("duck", colours, cast.across(y), tall=0.05, start=start, speed=2.2, pauses=pauses, jitter=0.3)  # type: ignore[arg-type]
    plate = ground(rng, size, (88, 104, 108), rough=4, slope=30)
    shore = mask_of(size, [(0, 0), (1, 0), (1, 0.2), (0, 0.26)])
    plate += (ground(rng, size, (110, 118, 80), rough=10) - plate) * shore[..., None]
    return world_of(o, plate, cast, sensor_of(o, 1.8), under=[weather.water(rng, size, 1 - shore)], contact=0.05)


def hive(o: Options) -> World:
    """Many things of a few pixels, fast, before a board."""
    rng, size = np.random.default_rng([o.seed, 2]), o.size
    cast = Cast(o, Depth())
    for start in cast.starts(0.28, first=-0.5, tail=0.5):
        y, out = float(cast.rng.uniform(0.1, 0.9)), float(cast.rng.uniform(0.1, 0.9))
        way = [(0.5 + cast.rng.uniform(-0.05, 0.05), 0.75), (0.5 + cast.rng.uniform(-0.3, 0.3), (y + 0.75) / 2)]
        way.append((-0.05 if cast.rng.random() < 0.5 else 1.05, out))
        way = way if cast.rng.random() < 0.6 else way[::-1]
        tall = float(cast.rng.uniform(0.012, 0.02))
        colours = ((60.0, 42.0, 20.0), (120.0, 110.0, 95.0), NONE, NONE)
        cast.add("insect", colours, way, tall=tall, start=start, speed=float(cast.rng.uniform(14, 26)), jitter=1.0)
    plate = ground(rng, size, (176, 166, 142), rough=6, slope=16, joints=40)
    return world_of(o, plate, cast, sensor_of(o, 1.6), contact=0.0, lines=line_of((0.25, 1.0), (0.25, 0.0)))


def lane(o: Options) -> World:
    """Tractors and vans up to a third of the picture, beside walkers and hens."""
    rng, size = np.random.default_rng([o.seed, 3]), o.size
    cast = Cast(o, Depth(0.35, 0.5, 1.0, 1.3))
    for k, start in enumerate(cast.starts(2.6, first=-1)):
        what = ("walker", "tractor", "hen", "walker", "van", "hen")[k % 6]
        if what in ("tractor", "van"):
            paint = [(170, 45, 35), (60, 100, 60), (205, 200, 190)][int(cast.rng.integers(3))]
            colours = (tuple(map(float, paint)), (120.0, 140.0, 150.0), (34.0, 34.0, 36.0), (130.0, 105.0, 60.0))
            y = float(cast.rng.uniform(0.72, 0.86))
            cast.add(what, colours, cast.across(y, slant=0.02, margin=0.4), tall=0.26, start=start, speed=1.1)  # type: ignore[arg-type]
        elif what == "hen":
            colours = ((170.0, 90.0, 45.0), (180.0, 40.0, 35.0), (190.0, 150.0, 60.0), NONE)
            cast.add("hen", colours, cast.across(float(cast.rng.uniform(0.5, 0.95))), tall=0.05, start=start, speed=2.5,
                     pauses=((0.3, 1.5), (0.6, 1.0)), jitter=0.5)  # fmt: skip
        else:
            cast.add("walker", clothes(cast.rng, (132, 122, 104)), cast.across(float(cast.rng.uniform(0.5, 0.65))),
                     tall=0.2, start=start, speed=0.85)  # fmt: skip
    plate = ground(rng, size, (132, 122, 104), rough=9)
    return world_of(o, plate, cast, sensor_of(o, 2.0))


def night(o: Options) -> World:
    """Grey, noisy, 15 pictures a second, coded hard."""
    o = replace(o, rate=o.rate * 0.6)
    rng, size = np.random.default_rng([o.seed, 4]), o.size
    cast = Cast(o, Depth(0.3, 0.6, 1.0, 1.2))
    for start in cast.starts(2.2, first=0):
        cast.add("walker", clothes(cast.rng), cast.across(float(cast.rng.uniform(0.5, 0.95))), tall=0.24, start=start,
                 speed=0.9)  # fmt: skip
    plate = ground(rng, size, (52, 52, 52), rough=6, slope=24)
    return world_of(o, plate, cast, sensor_of(o, 6.0, grey=True), quality=30)


def rain(o: Options) -> World:
    """Streaks, wet reflections, blown grass."""
    rng, size = np.random.default_rng([o.seed, 6]), o.size
    cast = Cast(o, Depth(0.3, 0.6, 1.0, 1.2))
    for start in cast.starts(2.0, first=0):
        y = float(cast.rng.uniform(0.5, 0.92))
        cast.add("walker", clothes(cast.rng, (92, 96, 100)), cast.across(y), tall=0.2, start=start, speed=1.0)
    plate = ground(rng, size, (92, 96, 100), rough=6, slope=30)
    meadow = mask_of(size, [(0, 0), (1, 0), (1, 0.4), (0, 0.36)])
    plate += (ground(rng, size, (84, 104, 66), rough=12) - plate) * meadow[..., None]
    wet = mask_of(size, [(0.1, 0.6), (0.9, 0.58), (0.95, 0.95), (0.05, 0.97)], 12)
    under = [weather.grass(rng, size, meadow), weather.water(rng, size, wet, strength=4)]
    return world_of(o, plate, cast, sensor_of(o, 2.2), under=under, over=[weather.rain(o.seed, size)])


def yard_lamp(o: Options) -> World:
    """A lamp is switched on and off, headlights sweep over the yard."""
    rng, size = np.random.default_rng([o.seed, 7]), o.size
    cast = Cast(o, Depth(0.3, 0.6, 1.0, 1.2))
    for start in cast.starts(2.2, first=0):
        cast.add("walker", clothes(cast.rng), cast.across(float(cast.rng.uniform(0.5, 0.92))), tall=0.22, start=start,
                 speed=0.9)  # fmt: skip
    plate = ground(rng, size, (74, 72, 66), rough=6, joints=26)
    y, x = np.mgrid[0 : size[0], 0 : size[1]]
    spread = np.exp(-(((x / size[1] - 0.6) / 0.4) ** 2 + ((y / size[0] - 0.6) / 0.5) ** 2)).astype(np.float32)
    third = o.seconds / 3
    over = [
        weather.lamps(((third, 0.1, 1.7), (2 * third, 0.0, 1.0)), spread),
        weather.headlight(size, ((third * 0.5, 2.5), (third * 2.4, 2.0)), strength=45),
    ]
    return world_of(o, plate, cast, sensor_of(o, 3.0), over=over)


def low(o: Options) -> World:
    """Near the ground: strong perspective, much hiding."""
    rng, size = np.random.default_rng([o.seed, 8]), o.size
    cast = Cast(o, Depth(0.46, 0.25, 1.0, 1.5))
    for start in cast.starts(1.5, first=-2):
        y = float(cast.rng.choice([0.5, 0.55, 0.62, 0.74, 0.95]))
        cast.add("walker", clothes(cast.rng), cast.across(y, slant=0.02), tall=0.42, start=start, speed=0.8)
    plate = ground(rng, size, (126, 124, 116), rough=8, slope=26)
    return world_of(o, plate, cast, sensor_of(o, 2.0))


def five(o: Options) -> World:
    """Five pictures a second: things move up to four of their sizes between two."""
    o = replace(o, rate=o.rate / 5, seconds=o.seconds * 1.5)
    rng, size = np.random.default_rng([o.seed, 9]), o.size
    cast = Cast(o, Depth(0.3, 0.7, 1.0, 1.1))
    for k, start in enumerate(cast.starts(1.3, first=0)):
        fast = k % 3 == 0
        colours = (
            (150.0, 60.0, 40.0) if fast else (60.0, 52.0, 46.0),
            (230.0, 220.0, 200.0),
            (200.0, 150.0, 60.0),
            NONE,
        )
        cast.add("hen", colours, cast.across(float(cast.rng.uniform(0.4, 0.9))), tall=0.055, start=start,
                 speed=float(cast.rng.uniform(8, 18)) if fast else float(cast.rng.uniform(2, 6)))  # fmt: skip
    plate = ground(rng, size, (118, 126, 92), rough=8)
    return world_of(o, plate, cast, sensor_of(o, 2.0))


def dusty(o: Options) -> World:
    """Dirt and drops on the lens, a dark rim, autofocus that pumps."""
    rng, size = np.random.default_rng([o.seed, 10]), o.size
    cast = Cast(o, Depth(0.3, 0.6, 1.0, 1.2))
    for k, start in enumerate(cast.starts(1.8, first=0)):
        y = float(cast.rng.uniform(0.45, 0.92))
        if k % 3 == 2:
            colours = ((160.0, 85.0, 45.0), (180.0, 40.0, 35.0), (190.0, 150.0, 60.0), NONE)
            cast.add("hen", colours, cast.across(y), tall=0.06, start=start, speed=2.5, jitter=0.4)
        else:
            cast.add("walker", clothes(cast.rng), cast.across(y), tall=0.2, start=start, speed=1.0)
    plate = ground(rng, size, (150, 138, 112), rough=9)
    return world_of(o, plate, cast, sensor_of(o, 2.2), over=[weather.dirt(rng, size)])


def standing(o: Options) -> World:
    """Things there from the first frame: some leave, some come and stay."""
    rng, size = np.random.default_rng([o.seed, 11]), o.size
    cast = Cast(o, Depth(0.3, 0.6, 1.0, 1.2))
    spots = [(0.2, 0.6), (0.42, 0.75), (0.63, 0.58), (0.8, 0.8)]
    for k, (x, y) in enumerate(spots):
        side = -0.1 if x < 0.5 else 1.1
        leaves = o.seconds * (0.25 + 0.15 * k) if k < 3 else o.seconds * 2
        cast.add("walker", clothes(cast.rng), [(x, y), ((x + side) / 2, y + 0.03), (side, y)], tall=0.22, start=-0.5,
                 speed=0.9, pauses=((0.0, leaves),))  # fmt: skip
    for start in cast.starts(2.4, first=0.5):
        y = float(cast.rng.uniform(0.5, 0.92))
        stays = ((0.45, float(cast.rng.uniform(3, 6))),) if cast.rng.random() < 0.35 else ()
        cast.add("walker", clothes(cast.rng), cast.across(y), tall=0.22, start=start, speed=0.95, pauses=stays)
    plate = ground(rng, size, (136, 130, 120), rough=8, joints=30)
    return world_of(o, plate, cast, sensor_of(o, 2.0))


def _visitors(o: Options, cast: Cast, every: float, near: Colour) -> None:
    """Walkers alone, in pairs and groups, with children, prams and bags."""
    for start in cast.starts(every, first=-3):
        y = float(cast.rng.uniform(0.42, 0.95))
        way, speed = cast.across(y, slant=0.06), float(cast.rng.uniform(0.65, 0.95))
        together = int(cast.rng.choice([1, 1, 1, 2, 2, 3]))
        for k in range(together):
            kind = "pram" if cast.rng.random() < 0.08 else "child" if k > 0 and cast.rng.random() < 0.4 else "walker"
            tall = 0.125 if kind == "child" else 0.2 * float(cast.rng.uniform(0.93, 1.07))
            shift = 0.025 * k * float(cast.rng.choice([-1, 1]))
            moved = [(x + 0.012 * k, yy + shift) for x, yy in way]
            fast = speed * (0.2 / tall if kind == "child" else 1.0)
            cast.add(kind, clothes(cast.rng, near), moved, tall=tall, start=start + 0.25 * k, speed=fast)


def open_day(o: Options) -> World:
    """Visitors on the yard, trees with moving leaves, dappled shadows that move."""
    rng, size = np.random.default_rng([o.seed, 12]), o.size
    cast = Cast(o, Depth(0.36, 0.2, 1.0, 1.35))
    floor = (142.0, 134.0, 120.0)
    _visitors(o, cast, 2.2, floor)
    plate = ground(rng, size, floor, rough=9, joints=24)
    crown = mask_of(size, [(0.6, -0.1), (1.1, -0.1), (1.1, 0.34), (0.82, 0.4), (0.62, 0.22)], 4)
    shade = mask_of(size, [(0.5, 0.42), (1.0, 0.38), (1.05, 0.75), (0.6, 0.8)], 14)
    layers = {"under": [weather.dapples(rng, size, shade, depth=0.35)], "over": [weather.leaves(rng, size, crown)]}
    return world_of(o, plate, cast, sensor_of(o, 2.2), quality=26, sun=(0.3, 0.3, 0.12), **layers)


def long_shadows(o: Options) -> World:
    """The same in low sun: shadows longer than bodies."""
    rng, size = np.random.default_rng([o.seed, 13]), o.size
    cast = Cast(o, Depth(0.36, 0.2, 1.0, 1.35))
    floor = (156.0, 142.0, 118.0)
    _visitors(o, cast, 2.6, floor)
    plate = ground(rng, size, floor, rough=9)
    crown = mask_of(size, [(-0.1, -0.1), (0.35, -0.1), (0.3, 0.25), (-0.1, 0.36)], 4)
    over = [weather.leaves(rng, size, crown)]
    return world_of(o, plate, cast, sensor_of(o, 2.2), quality=26, sun=(0.42, 1.3, 0.25), over=over)


def barn_door(o: Options) -> World:
    """From near a doorway: bodies a quarter of the picture tall and more, in and out, a child beside an adult."""
    rng, size = np.random.default_rng([o.seed, 14]), o.size
    cast = Cast(o, Depth(0.3, 0.75, 1.0, 1.2))
    for start in cast.starts(2.8, first=0):
        x = float(cast.rng.uniform(0.38, 0.6))
        way = [(x, 1.5), (x + cast.rng.uniform(-0.05, 0.05), 0.8), (0.5 + cast.rng.uniform(-0.04, 0.04), 0.34)]
        way = [*way, (way[-1][0], 0.2)] if cast.rng.random() < 0.5 else [(way[-1][0], 0.2), *way[::-1]]
        stands = ((0.5, 1.2),) if cast.rng.random() < 0.3 else ()
        cast.add("walker", clothes(cast.rng), way, tall=0.38, start=start, speed=0.55, pauses=stands)
        if cast.rng.random() < 0.3:
            cast.add("child", clothes(cast.rng), [(px + 0.09, py) for px, py in way], tall=0.24, start=start + 0.1,
                     speed=0.87, pauses=stands)  # fmt: skip
    plate = ground(rng, size, (134, 120, 100), rough=8, joints=44)
    return world_of(o, plate, cast, sensor_of(o, 2.0), lines=line_of((0.1, 0.62), (0.9, 0.62)))


def track_road(o: Options) -> World:
    """Vans, tractors, cyclists both ways, some stopping, a third of the picture wide when near."""
    rng, size = np.random.default_rng([o.seed, 15]), o.size
    cast = Cast(o, Depth(0.3, 0.3, 1.0, 1.3))
    for k, start in enumerate(cast.starts(1.9, first=-1)):
        what = ("van", "cyclist", "van", "tractor", "cyclist", "walker")[k % 6]
        paint = [(215, 212, 205), (40, 44, 52), (150, 30, 30), (60, 84, 130)][int(cast.rng.integers(4))]
        colours = (tuple(map(float, paint)), (80.0, 96.0, 108.0), (34.0, 34.0, 36.0), (120.0, 100.0, 66.0))
        y = 0.62 if cast.rng.random() < 0.5 else 0.82
        stop = ((0.5, 1.5),) if cast.rng.random() < 0.2 else ()
        if what in ("van", "tractor"):
            way = cast.across(y, slant=0.01, margin=0.5)
            cast.add(what, colours, way, tall=0.2, start=start, speed=2.2, pauses=stop)  # type: ignore[arg-type]
        else:
            way = cast.across(y - 0.12, slant=0.02)
            fast = 2.4 if what == "cyclist" else 0.9
            cast.add(what, clothes(cast.rng), way, tall=0.2, start=start, speed=fast)
    plate = ground(rng, size, (108, 108, 110), rough=7, slope=20)
    verge = mask_of(size, [(0, 0), (1, 0), (1, 0.38), (0, 0.38)])
    plate += (ground(rng, size, (92, 110, 66), rough=12) - plate) * verge[..., None]
    return world_of(o, plate, cast, sensor_of(o, 2.0), under=[weather.grass(rng, size, verge, reach=1.2)])


def empty_water(o: Options) -> World:
    """Restless water and leaves, and nobody: no identity may come of it."""
    rng, size = np.random.default_rng([o.seed, 16]), o.size
    plate = ground(rng, size, (88, 104, 108), rough=5)
    crown = mask_of(size, [(0.5, -0.1), (1.1, -0.1), (1.1, 0.4), (0.6, 0.3)], 4)
    layers = {"under": [weather.water(rng, size, 1 - crown)], "over": [weather.leaves(rng, size, crown)]}
    return world_of(o, plate, Cast(o, Depth()), sensor_of(o, 2.0), **layers)


def empty_noise(o: Options) -> World:
    """A dark yard with nothing but noise."""
    rng, size = np.random.default_rng([o.seed, 17]), o.size
    plate = ground(rng, size, (46, 46, 46), rough=5)
    return world_of(o, plate, Cast(o, Depth()), sensor_of(o, 7.0, grey=True), quality=30)


WORLDS: dict[str, Callable[[Options], World]] = {
    "pond": pond, "hive": hive, "lane": lane, "night": night, "rain": rain, "yard-lamp": yard_lamp, "low": low,
    "five": five, "dusty": dusty, "standing": standing, "open-day": open_day, "long-shadows": long_shadows,
    "barn-door": barn_door, "track-road": track_road, "empty-water": empty_water, "empty-noise": empty_noise,
}  # fmt: skip


def build_world(name: str, options: Options | None = None) -> World:
    """A world by name.

    Raises
    ------
    DroverError
        When there is none of that name.
    """
    if name not in WORLDS:
        raise DroverError(f"there is no world '{name}'; choose one of: {', '.join(WORLDS)}")
    world = WORLDS[name](options or Options())
    world.name = name
    return world
