"""The worlds: their truth is what is drawn, and options change how they are taken, never what happens in them."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drover.core.simulate.worlds import weather
from drover.core.simulate.worlds.casting import Options
from drover.core.simulate.worlds.movers import Depth, Mover
from drover.core.simulate.worlds.plate import noise_field
from drover.core.simulate.worlds.scenes import build_world
from drover.core.simulate.worlds.world import draw_world, true_crossings

PLAIN = ((200.0, 60.0, 60.0), (40.0, 40.0, 60.0), (196.0, 152.0, 126.0), (0.0, 0.0, 0.0))


class Clean:
    """A sensor that adds nothing, not even rounding to levels."""

    def read(self, picture, time):
        return picture.copy()


def bare(world, *, movers=None):
    """The same world without weather, shadows or noise."""
    return replace(
        world,
        movers=world.movers if movers is None else movers,
        under=[],
        over=[],
        sun=None,
        contact=0.0,
        sensor=Clean(),
    )


def mover(way, **more) -> Mover:
    chosen = {"tall": 0.2, "start": 0.0, "speed": 1.0, "depth": Depth(0, 1, 1, 1), "aspect": 16 / 9, **more}
    return Mover(1, "walker", PLAIN, way, **chosen)


# --- what happens, and how it is taken --------------------------------------------------------------------------


@pytest.mark.parametrize("name", ["hive", "night", "open-day"])
def test_the_same_seed_gives_the_same_pixels_and_another_seed_other_ones(name):
    options = Options(seed=3, seconds=3.0, width=160, rate=4.0)
    one, again, other = (
        [picture for picture, _ in draw_world(build_world(name, o))]
        for o in (options, options, replace(options, seed=4))
    )
    assert all(np.array_equal(a, b) for a, b in zip(one, again, strict=True))
    assert not np.array_equal(one[-1], other[-1])


@pytest.mark.parametrize("name", ["lane", "standing", "low", "track-road"])
def test_size_and_rate_change_how_a_world_is_taken_and_not_what_happens(name):
    at = Options(seed=5, seconds=6.0, width=320, rate=10.0)
    plain, large, fast = (build_world(name, o) for o in (at, replace(at, width=640), replace(at, rate=20.0)))
    assert (large.width, large.height, fast.frame_count) == (640, 360, 120)
    for one, big, quick in zip(plain.movers, large.movers, fast.movers, strict=True):
        for time in (1.0, 2.5, 4.4):
            here, there, then = one.at(time, 180), big.at(time, 360), quick.at(time, 180)
            assert (here is None) == (there is None) == (then is None)
            if here is not None:
                assert (there.x, there.y) == pytest.approx((here.x, here.y), abs=1e-6)
                assert there.tall == pytest.approx(2 * here.tall, rel=1e-6)
                assert then == here


@pytest.mark.parametrize("name", ["pond", "lane", "low", "five", "open-day", "barn-door", "track-road"])
def test_crossings_are_where_the_exact_foot_goes_over_the_line(name):
    """Seen fifty times a second: every first way over and no other, within the dithering that is one passage."""
    world = build_world(name, Options(seed=6, seconds=6.0, width=320))
    found = true_crossings(world)
    for number, line in enumerate(world.lines):
        if len(line.points) != 2:
            continue
        (x1, y1), (x2, y2) = (np.array(p) * (world.width, world.height) for p in line.points)
        for one in world.movers:
            sides = []
            for time in np.arange(0, world.seconds, 0.02):
                at = one.at(time, world.height)
                if at is not None:
                    x, y = at.x * world.width, at.y * world.height
                    along = ((x - x1) * (x2 - x1) + (y - y1) * (y2 - y1)) / ((x2 - x1) ** 2 + (y2 - y1) ** 2)
                    if 0 <= along <= 1:
                        sides.append((x2 - x1) * (y - y1) - (y2 - y1) * (x - x1) > 0)
            over = int(np.count_nonzero(np.diff(np.array(sides, np.int8))))
            mine = found.direction[(found.identity == one.identity) & (found.line == number)]
            assert len(mine) <= over
            assert abs(int(mine.sum())) == over % 2 or abs(len(mine) - over) <= 2


# --- truth and pixels -------------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", ["lane", "open-day", "low", "standing", "pond"])
def test_a_body_changes_the_picture_inside_its_true_box_and_fills_it(name):
    built = build_world(name, Options(seed=4, seconds=9.0, width=320))
    there = [mover for mover in built.movers if mover.at(3.0, 180) is not None]
    one = min(there, key=lambda mover: abs(mover.at(3.0, 180).x - 0.5))
    world = bare(built, movers=[one])
    empty = next(draw_world(bare(world, movers=[])))[0]
    checked = 0
    for frame, (picture, rows) in enumerate(itertools.islice(draw_world(world), 85)):
        before, at = one.at((frame - 0.5) / world.rate, world.height), one.at(frame / world.rate, world.height)
        if not rows or before is None or np.hypot((at.x - before.x) * 320, (at.y - before.y) * 180) > 3.0:
            continue  # blurred ones are drawn several times while the shutter is open
        _, _, x1, y1, x2, y2, shown, _ = rows[0]
        changed = np.abs(picture - empty).max(axis=2) > 2.0
        inside = changed[max(0, int(y1) - 1) : int(y2) + 2, max(0, int(x1) - 1) : int(x2) + 2]
        assert changed.sum() == inside.sum()
        y, x = np.nonzero(changed)
        if x1 > 2 and y1 > 2 and x2 < 318 and y2 < 178:
            assert shown == pytest.approx(1.0)
            slack = 2 + 0.12 * (y2 - y1)  # parts of nearly the ground's colour do not show
            assert (x.min(), x.max() + 1) == pytest.approx((x1, x2), abs=slack)
            assert (y.min(), y.max() + 1) == pytest.approx((y1, y2), abs=slack)
            checked += 1
    assert checked >= 3


def test_one_behind_another_is_seen_as_far_as_it_is_not_covered():
    world = bare(build_world("standing", Options(seed=1, seconds=2.0, width=640, rate=5.0)))
    far = mover([(0.5, 0.6), (0.52, 0.6)], speed=0.01)
    near = mover([(0.5, 0.64), (0.52, 0.64)], speed=0.01, tall=0.3)
    near.identity = 2
    rows = next(draw_world(bare(world, movers=[far, near])))[1]
    seen = {row[1]: row[6] for row in rows}
    assert seen[2] == pytest.approx(1.0)
    assert seen[1] < 0.5
    alone = {row[1]: row[6] for row in next(draw_world(bare(world, movers=[far])))[1]}
    assert alone[1] == pytest.approx(1.0)


# --- movers -----------------------------------------------------------------------------------------------------


@settings(max_examples=20)
@given(st.floats(0.3, 3.0), st.floats(0.05, 0.4))
def test_a_mover_goes_its_speed_in_own_heights(speed, tall):
    one = mover([(0.0, 0.5), (1.0, 0.5)], speed=speed, tall=tall)
    a, b = one.at(1.0, 360), one.at(1.5, 360)
    if a is not None and b is not None and one.end > 2.0:
        assert (b.x - a.x) * 640 == pytest.approx(0.5 * speed * tall * 360, rel=0.05)
        assert b.walked - a.walked == pytest.approx(0.5 * speed, rel=0.05)
        assert a.facing == pytest.approx(1.0)


def test_a_pause_holds_it_where_it_stands_for_as_long_as_asked():
    one = mover([(0.0, 0.5), (1.0, 0.5)], pauses=((0.5, 2.0),), speed=2.0)
    places = np.array([at.x for t in np.arange(0, one.end, 0.04) if (at := one.at(t, 360)) is not None])
    still = np.abs(np.diff(places)) < 1e-4
    assert 1.0 <= 0.04 * still.sum() <= 2.2  # it slows down and starts again within that
    assert places[:-1][still] == pytest.approx(0.5, abs=0.06)


def test_distance_makes_small_and_slow_what_is_near_large_and_fast():
    depth = Depth(far_y=0.2, far=0.25, near_y=1.0, near=1.0)
    assert depth.scale(0.6) == pytest.approx(0.625)
    far, near = (mover([(0.0, y), (1.0, y)], depth=depth) for y in (0.2, 1.0))
    a, b = far.at(1.0, 360), near.at(1.0, 360)
    assert b.tall == pytest.approx(4 * a.tall)
    assert far.end == pytest.approx(4 * near.end, rel=0.05)


def test_nobody_is_there_before_it_comes_or_after_it_has_gone():
    one = mover([(0.2, 0.5), (0.4, 0.5)], start=2.0)
    assert one.at(1.9, 360) is None and one.at(one.end + 0.1, 360) is None
    assert one.at(2.0, 360).x == pytest.approx(0.2)
    leaves = mover([(0.2, 0.5), (9.0, 0.5)], until=3.0)
    assert leaves.end == pytest.approx(3.0, abs=0.1)


# --- weather and sensor -----------------------------------------------------------------------------------------

SIZE = (90, 160)


def layers(seed: int = 1) -> dict[str, weather.Layer]:
    rng, mask = np.random.default_rng(seed), np.ones(SIZE, np.float32)
    mask[:, 80:] = 0.0
    return {
        "water": weather.water(rng, SIZE, mask), "leaves": weather.leaves(rng, SIZE, mask),
        "dapples": weather.dapples(rng, SIZE, mask), "grass": weather.grass(rng, SIZE, mask),
        "lamps": weather.lamps(((1.0, 0.5, 1.5),), mask),
    }  # fmt: skip


def test_weather_stays_where_it_belongs_and_depends_on_the_time_alone():
    ground = np.full((*SIZE, 3), 100.0, np.float32)
    for name, layer in layers().items():
        pictures = []
        for time in (0.4, 1.7, 0.4):
            picture = ground.copy()
            layer(picture, time)
            pictures.append(picture)
        assert np.array_equal(pictures[0], pictures[2]), name
        assert not np.array_equal(pictures[0], pictures[1]), name
        assert np.array_equal(pictures[1][:, 81:], ground[:, 81:]), name


def test_what_is_restless_goes_nowhere():
    """Over a long time the mean of water and leaves at a place has no drift: the first and the last half agree."""
    for name in ("water", "leaves", "dapples", "grass"):
        layer, rows = layers(3)[name], []
        for time in np.linspace(0, 120, 120):
            picture = np.full((*SIZE, 3), 100.0, np.float32)
            layer(picture, float(time))
            rows.append(picture[:, :80].mean(axis=2))
        table = np.array(rows)
        swing = table.std(axis=0).mean()
        assert np.abs(table[:60].mean(axis=0) - table[60:].mean(axis=0)).mean() < 0.5 * swing, name


def test_the_sensors_noise_is_as_strong_as_asked_and_grows_with_light():
    dark, light = (np.full((*SIZE, 3), level, np.float32) for level in (30.0, 180.0))
    sensor = weather.Sensor(2, SIZE, noise=4.0, drift=0.0)
    spread = [
        np.std([sensor.read(picture, 0.04 * k).astype(float) for k in range(40)], axis=0).mean()
        for picture in (dark, light)
    ]
    quiet = weather.Sensor(2, SIZE, noise=0.0, drift=0.0)
    assert spread[1] > 1.3 * spread[0] > 1.3
    assert np.array_equal(quiet.read(dark, 0.0), np.full((*SIZE, 3), 30, np.uint8))
    grey = weather.Sensor(2, SIZE, noise=3.0, grey=True).read(light, 0.0)
    assert (grey[..., 0] == grey[..., 1]).mean() > 0.2


def test_light_drifts_slowly_and_each_colour_in_its_own_way():
    sensor = weather.Sensor(1, SIZE, noise=0.0, drift=0.1)
    means = np.array(
        [sensor.read(np.full((*SIZE, 3), 120.0, np.float32), t).mean(axis=(0, 1)) for t in np.arange(0, 20, 0.5)]
    )
    assert np.abs(np.diff(means, axis=0)).max() < 2.5
    assert means.std(axis=0).min() > 2.0
    assert np.abs(means[:, 0] - means[:, 2]).max() > 2.0


@settings(max_examples=20)
@given(st.integers(0, 1000), st.floats(2.0, 20.0))
def test_noise_fields_have_no_lean_and_their_own_grain(seed, cell):
    field = noise_field(np.random.default_rng(seed), (120, 160), cell)
    assert field.shape == (120, 160)
    assert abs(float(field.mean())) < 0.5 * float(field.std()) + 0.15
    near = np.corrcoef(field[:, :-1].ravel(), field[:, 1:].ravel())[0, 1]
    assert near > 0.3
