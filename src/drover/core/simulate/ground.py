"""The farm painted once: hillside, track, hedge with its gap, tree crown, and where the grass sways."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from drover.core.simulate.draw import draw_ellipses
from drover.core.simulate.scene import WORLD_HEIGHT, WORLD_WIDTH, Camera

__all__ = ["CROWN_CENTRE", "CROWN_TRUNK", "GAP_BOTTOM", "GAP_TOP", "Ground", "hedge_x", "paint_ground"]

Picture = NDArray[np.float32]
GAP_TOP, GAP_BOTTOM = 256.0, 484.0  # world px: where the hedge stops and starts again
CROWN_CENTRE, CROWN_RADII, CROWN_TRUNK = (938.0, 300.0), (92.0, 74.0), 420.0
TRACK_HALF = 46.0


@dataclass(frozen=True)
class Ground:
    """The painted plate in camera pixels, and the crown that hides what walks behind it."""

    plate: Picture
    sway: Picture
    phase: Picture
    crown: Picture
    crown_alpha: Picture
    crown_top: int
    crown_left: int
    crown_foot: float


def hedge_x(y: float) -> float:
    """Middle of the hedge at height ``y``, world px: it leans a little as it comes down the hill."""
    return 596.0 + 0.108 * y + 6.0 * math.sin(y / 95.0)


def paint_ground(camera: Camera, seed: int) -> Ground:
    """Paint the farm for a camera; the same seed gives the same farm at any zoom."""
    farm, zoom = _whole_farm(seed), camera.zoom
    return Ground(
        plate=_view(farm.plate, camera),
        sway=_view(farm.sway, camera) * zoom,
        phase=_view(farm.phase, camera),
        crown=_scaled(farm.crown, zoom),
        crown_alpha=_scaled(farm.crown_alpha, zoom),
        crown_top=round((farm.crown_top - camera.top) * zoom),
        crown_left=round((farm.crown_left - camera.left) * zoom),
        crown_foot=CROWN_TRUNK,
    )


@dataclass(frozen=True)
class _Farm:
    """What no camera changes, in world pixels; not to be written to."""

    plate: Picture
    sway: Picture
    phase: Picture
    crown: Picture
    crown_alpha: Picture
    crown_top: float
    crown_left: float


@lru_cache(maxsize=1)  # shots of one place, and a scene that is drawn again, have the same
def _whole_farm(seed: int) -> _Farm:
    rng = np.random.default_rng(seed)
    plate = _grass(rng)
    _track(plate, rng)
    _blades(plate, rng)
    _stones_and_flowers(plate, rng)
    _soft_shadow(plate, 938 + 42, 432, 138, 40, 0.34)
    _trunk(plate)
    sway_world = _sway_map(rng)
    _tufts(plate, sway_world, rng)
    _hedge(plate, rng)
    crown, crown_alpha, (left, top) = _crown(rng)
    plate *= _vignette()[..., None]
    phase = _noise(rng, (WORLD_HEIGHT, WORLD_WIDTH), 40) * 9
    return _Farm(plate, sway_world, phase, crown, crown_alpha, top, left)


def _scaled(image: Picture, zoom: float) -> Picture:
    if zoom == 1.0:
        return np.ascontiguousarray(image, np.float32)
    factors = (zoom, zoom) + (1,) * (image.ndim - 2)
    return np.ascontiguousarray(np.clip(np.asarray(ndimage.zoom(image, factors, order=1)), 0, None), np.float32)


def _view(image: Picture, camera: Camera) -> Picture:
    """What the camera sees of a world-sized picture."""
    y = (np.arange(camera.height) + 0.5) / camera.zoom + camera.top - 0.5
    x = (np.arange(camera.width) + 0.5) / camera.zoom + camera.left - 0.5
    grid = np.meshgrid(y, x, indexing="ij")
    if image.ndim == 2:
        return ndimage.map_coordinates(image, grid, order=1, mode="nearest").astype(np.float32)
    planes = [ndimage.map_coordinates(image[..., c], grid, order=1, mode="nearest") for c in range(3)]
    return np.ascontiguousarray(np.stack(planes, axis=-1), np.float32)


def _noise(rng: np.random.Generator, shape: tuple[int, int], cell: float, stretch: float = 1.0) -> Picture:
    """Smooth noise in -1..1 with features about ``cell`` px high, ``stretch`` times as wide."""
    rows, cols = int(shape[0] / cell) + 4, int(shape[1] / (cell * stretch)) + 4
    coarse = rng.uniform(-1, 1, (rows, cols))
    down, across = _splines(rows, shape[0]), _splines(cols, shape[1])
    return (down @ coarse @ across.T).astype(np.float32)


@lru_cache(maxsize=32)
def _splines(knots: int, places: int) -> NDArray[np.float64]:
    """(places, knots): what each knot of a cubic spline gives to each place between the second and the last but two."""
    at = np.linspace(1, knots - 3, places)
    one = [ndimage.map_coordinates(row, [at], order=3, mode="reflect") for row in np.eye(knots)]
    return np.stack(one, axis=1)


def _grass(rng: np.random.Generator) -> Picture:
    shape = (WORLD_HEIGHT, WORLD_WIDTH)
    down = np.linspace(0, 1, WORLD_HEIGHT, dtype=np.float32)[:, None, None]
    far, near = np.array([134, 152, 104], np.float32), np.array([104, 138, 66], np.float32)
    plate = far * (1 - down) + near * down + np.zeros((*shape, 3), np.float32)
    plate = plate.astype(np.float32)
    broad = _noise(rng, shape, 150, 2.2)
    middle = _noise(rng, shape, 38, 2.6)
    fine = _noise(rng, shape, 9, 2.0)
    lit = 1 + 0.075 * broad + 0.05 * middle + 0.045 * fine
    plate *= lit[..., None]
    dry = np.clip(_noise(rng, shape, 90, 2.0) - 0.25, 0, 1)[..., None] * 0.55
    mixed = plate * (1 - dry) + np.array([158, 152, 92], np.float32) * dry
    return mixed.astype(np.float32)


def _track_middle(x: NDArray[np.float64]) -> NDArray[np.float64]:
    return 372 + 26 * np.sin(x / 210.0 + 0.5) + 0.015 * (x - 640)


def _track(plate: Picture, rng: np.random.Generator) -> None:
    """A worn path through the gap, with two ruts."""
    x = np.arange(WORLD_WIDTH, dtype=np.float64)
    y = np.arange(WORLD_HEIGHT, dtype=np.float64)[:, None]
    edge = 13 * _noise(rng, (WORLD_HEIGHT, WORLD_WIDTH), 22, 2.0)
    off = np.abs(y - _track_middle(x)) + edge
    worn = np.clip((TRACK_HALF - off) / 24, 0, 1)
    earth = np.array([150, 128, 92], np.float32) * (1 + 0.08 * _noise(rng, plate.shape[:2], 6, 2.5))[..., None]
    share = (0.72 * worn * (0.75 + 0.25 * _noise(rng, plate.shape[:2], 30, 3)))[..., None].astype(np.float32)
    plate[:] = plate * (1 - share) + earth * share
    for rut in (-19, 19):
        line = np.exp(-(((y - _track_middle(x) - rut - edge * 0.2) / 5.5) ** 2)) * (
            0.65 + 0.35 * _noise(rng, plate.shape[:2], 26, 3)
        )
        plate *= (1 - 0.17 * np.clip(line, 0, 1))[..., None].astype(np.float32)


def _on_track(x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.bool_]:
    return np.abs(y - _track_middle(x)) < TRACK_HALF * 0.75


def _blades(plate: Picture, rng: np.random.Generator) -> None:
    """Short strokes of grass, larger toward the camera."""
    n = 52_000
    x, y = rng.uniform(0, WORLD_WIDTH, n), rng.uniform(0, WORLD_HEIGHT, n)
    keep = ~_on_track(x, y) | (rng.random(n) < 0.12)
    x, y = x[keep], y[keep]
    size = 0.75 + 0.8 * y / WORLD_HEIGHT
    tone = rng.uniform(0.78, 1.2, len(x))
    base = plate[y.astype(int), x.astype(int)].astype(np.float64)
    rows = np.column_stack(
        [
            x,
            y,
            0.7 * size,
            rng.uniform(1.6, 3.2, len(x)) * size,
            rng.normal(0, 0.45, len(x)),
            base * tone[:, None],
            np.full(len(x), 0.6),
        ]
    )
    draw_ellipses(plate, np.zeros(plate.shape[:2], np.float32), rows[np.argsort(y[:])])


def _stones_and_flowers(plate: Picture, rng: np.random.Generator) -> None:
    rows = []
    for _ in range(46):
        x, y = rng.uniform(0, WORLD_WIDTH), rng.uniform(40, WORLD_HEIGHT)
        size = rng.uniform(2, 6.5) * (0.6 + 0.8 * y / WORLD_HEIGHT)
        tone = rng.uniform(138, 178)
        rows.append([x + 1.2, y + size * 0.35, size * 1.15, size * 0.5, 0, 62, 74, 44, 0.5])
        rows.append([x, y, size, size * 0.62, rng.normal(0, 0.2), tone, tone * 0.98, tone * 0.93, 1.0])
    for _ in range(1100):
        x, y = rng.uniform(0, WORLD_WIDTH), rng.uniform(300, WORLD_HEIGHT)
        if abs(math.sin(x / 130) + math.sin(y / 60)) < 0.9 or abs(y - float(_track_middle(np.array(x)))) < TRACK_HALF:
            continue
        colour = (232, 226, 198) if rng.random() < 0.6 else (222, 190, 82)
        rows.append([x, y, 1.1, 0.9, 0, *colour, 0.8])
    draw_ellipses(plate, np.zeros(plate.shape[:2], np.float32), np.asarray(rows, np.float64))


def _soft_shadow(plate: Picture, x: float, y: float, half_width: float, half_height: float, depth: float) -> None:
    yy, xx = np.mgrid[0:WORLD_HEIGHT, 0:WORLD_WIDTH]
    r = ((xx - x) / half_width) ** 2 + ((yy - y) / half_height) ** 2
    plate *= (1 - depth * np.clip(1.35 - r, 0, 1))[..., None].astype(np.float32)


def _trunk(plate: Picture) -> None:
    x, _ = CROWN_CENTRE
    rows = []
    for k in range(70):
        y = 330 + k * 1.35
        half = 9 + 6 * max(0.0, (k - 52) / 18) ** 2
        rows.append([x + 2 * math.sin(k / 22), y, half, 3.2, 0, 84, 68, 52, 1.0])
        rows.append([x + 2 * math.sin(k / 22) - half * 0.4, y, half * 0.35, 3.0, 0, 116, 98, 76, 0.5])
    draw_ellipses(plate, np.zeros(plate.shape[:2], np.float32), np.asarray(rows, np.float64))


def _sway_map(rng: np.random.Generator) -> Picture:
    """How far tall grass bends, px: patches away from the track, and along the foot of the hedge."""
    shape = (WORLD_HEIGHT, WORLD_WIDTH)
    y, x = np.mgrid[0:WORLD_HEIGHT, 0:WORLD_WIDTH]
    patches = np.clip(_noise(rng, shape, 75, 1.8) * 2.2 - 0.55, 0, 1)
    away = np.clip((np.abs(y - _track_middle(x[0].astype(np.float64))) - 130) / 60, 0, 1)
    return (patches * away).astype(np.float32)


def _tufts(plate: Picture, sway: Picture, rng: np.random.Generator) -> None:
    """Tall grass where it sways, so that the movement is seen to come from something."""
    n = 26_000
    x, y = rng.uniform(0, WORLD_WIDTH, n), rng.uniform(0, WORLD_HEIGHT, n)
    keep = sway[y.astype(int), x.astype(int)] > rng.uniform(0.1, 0.8, n)
    x, y = x[keep], y[keep]
    size = 0.8 + 0.9 * y / WORLD_HEIGHT
    tone = rng.uniform(0.75, 1.3, len(x))
    colour = np.array([122, 146, 70]) * tone[:, None]
    rows = np.column_stack(
        [
            x,
            y,
            0.8 * size,
            rng.uniform(3.5, 6.5, len(x)) * size,
            rng.normal(0.15, 0.3, len(x)),
            colour,
            np.full(len(x), 0.55),
        ]
    )
    draw_ellipses(plate, np.zeros(plate.shape[:2], np.float32), rows[np.argsort(y)])


def _hedge(plate: Picture, rng: np.random.Generator) -> None:
    """A thick hedge across the picture with a gap in it, lit from the upper left, and a post at each end."""
    spans = ((-20.0, GAP_TOP), (GAP_BOTTOM, WORLD_HEIGHT + 30.0))
    yy, xx = np.mgrid[0:WORLD_HEIGHT, 0:WORLD_WIDTH]
    middle = np.vectorize(hedge_x)(np.arange(WORLD_HEIGHT))[:, None]
    for low, high in spans:
        along = np.clip((yy - low + 8) / 16, 0, 1) * np.clip((high + 14 - yy) / 16, 0, 1)
        cast = np.clip(1 - np.abs(xx - middle - 26) / 34, 0, 1) * along
        plate *= (1 - 0.40 * cast)[..., None].astype(np.float32)
    rows = []
    for low, high in spans:
        n = int((high - low) * 11)
        for y in np.sort(rng.uniform(low, high, n)):
            scale = 0.72 + 0.56 * y / WORLD_HEIGHT
            across = rng.normal(0, 0.42)
            x = hedge_x(y) + across * 24 * scale
            lift = (1 - min(1.0, across * across)) * 15 * scale
            tone = rng.uniform(0.70, 1.22) * (1.0 - 0.22 * across)
            green = np.array([64, 92, 48]) if rng.random() < 0.7 else np.array([84, 106, 52])
            size = rng.uniform(2.2, 5.2) * scale
            rows.append([x, y - lift, size, size * 0.7, rng.uniform(-1, 1), *(green * tone), 0.92])
    draw_ellipses(plate, np.zeros(plate.shape[:2], np.float32), np.asarray(rows, np.float64))
    for y, lean in ((GAP_TOP + 8, 0.03), (GAP_BOTTOM - 2, -0.03)):
        _post(plate, hedge_x(y), y, lean)


def _post(plate: Picture, x: float, y: float, lean: float) -> None:
    rows = []
    for k in range(34):
        up = k * 1.3
        rows.append([x + lean * up, y - up, 4.2, 1.6, 0, 112, 94, 70, 1.0])
        rows.append([x + lean * up - 1.6, y - up, 1.4, 1.5, 0, 158, 140, 110, 0.8])
    draw_ellipses(plate, np.zeros(plate.shape[:2], np.float32), np.asarray(rows, np.float64))


def _crown(rng: np.random.Generator) -> tuple[Picture, Picture, tuple[float, float]]:
    """The tree's crown as a picture with its own transparency, and its top-left corner in the world."""
    margin = 16
    half_w, half_h = CROWN_RADII
    width, height = int(2 * (half_w + margin)), int(2 * (half_h + margin))
    colour, alpha = np.zeros((height, width, 3), np.float32), np.zeros((height, width), np.float32)
    colour[:] = (46, 70, 38)
    rows = []
    for _ in range(2600):
        angle, r = rng.uniform(0, 2 * math.pi), math.sqrt(rng.random())
        edge = 1 + 0.07 * math.sin(5 * angle + 1) + 0.05 * math.sin(9 * angle)
        u, v = r * math.cos(angle) * edge, r * math.sin(angle) * edge
        lit = 0.72 + 0.34 * (-0.5 * u - 0.75 * v) + rng.normal(0, 0.10)
        green = np.array([74, 110, 54]) * max(0.35, lit)
        size = rng.uniform(4, 9)
        rows.append(
            [
                width / 2 + u * half_w,
                height / 2 + v * half_h,
                size,
                size * 0.75,
                rng.uniform(-1, 1),
                *green,
                0.95,
            ]
        )
    order = np.argsort([row[0] * 0.5 + row[1] * -1.0 for row in rows])
    draw_ellipses(colour, alpha, np.asarray(rows, np.float64)[order])
    alpha = np.clip(alpha * 1.6 - 0.3, 0, 1).astype(np.float32)
    return colour, alpha, (CROWN_CENTRE[0] - width / 2, CROWN_CENTRE[1] - height / 2)


def _vignette() -> Picture:
    y = np.linspace(-1, 1, WORLD_HEIGHT)[:, None]
    x = np.linspace(-1, 1, WORLD_WIDTH)[None, :]
    return (1 - 0.10 * np.clip(x * x + y * y - 0.5, 0, 1)).astype(np.float32)
