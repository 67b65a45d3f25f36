"""A world: ground, what moves without going anywhere, who goes about, what the camera adds; drawn with its truth."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from drover.core.count.lines import count_crossings
from drover.core.footage.writer import ClipWriter
from drover.core.formats.box_rows import write_truth
from drover.core.formats.crossing_rows import write_crossings
from drover.core.recipe import CountSettings, LineSettings
from drover.core.simulate.body import parts_box
from drover.core.simulate.draw import cast_shadow, draw_parts, draw_shadow
from drover.core.simulate.worlds.bodies import body
from drover.core.simulate.worlds.movers import Mover, Placed
from drover.core.simulate.worlds.plate import Picture
from drover.core.simulate.worlds.weather import Layer, Sensor
from drover.core.simulate.write import recipe_text
from drover.core.types import Crossings, Tracks, Truth

__all__ = ["World", "draw_world", "true_crossings", "write_world"]

LEAST_VISIBLE = 0.25  # rows less visible than this are not to be considered
FINE = 4  # moments a frame at which true paths are followed over lines
SHUTTER = 0.02  # s that it is open at most, however few pictures are taken; half of the time between two where less
SUBJECT_TO_BLUR = 3.0  # px while it is open from which a body is drawn twice


@dataclass
class World:
    """Everything needed to draw a clip: see :func:`drover.core.simulate.worlds.scenes.build_world`."""

    name: str
    seconds: float
    rate: float
    width: int
    height: int
    plate: Picture
    movers: list[Mover]
    lines: tuple[LineSettings, ...]
    sensor: Sensor
    under: list[Layer] = field(default_factory=list)  # before bodies: water, shadows of leaves
    over: list[Layer] = field(default_factory=list)  # after them: leaves, rain, lamps, the lens
    sun: tuple[float, float, float] | None = None  # depth of cast shadows, and how far along and down they reach
    contact: float = 0.18  # depth of the soft shadow under a body
    quality: int = 25

    @property
    def frame_count(self) -> int:
        """Whole frames."""
        return round(self.seconds * self.rate)


def draw_world(world: World) -> Iterator[tuple[NDArray[np.uint8], list[tuple]]]:
    """Each frame as (height, width, 3) uint8 with its truth rows: frame, identity, box, visibility, kind."""
    kinds = sorted({mover.kind for mover in world.movers})
    owner = np.zeros((world.height, world.width), np.int32)
    for index in range(world.frame_count):
        time = index / world.rate
        picture = world.plate.copy()
        for layer in world.under:
            layer(picture, time)
        placed = [(mover, at) for mover in world.movers if (at := mover.at(time, world.height)) is not None]
        placed.sort(key=lambda pair: pair[1].y)
        owner[:] = 0
        whole = _draw_bodies(world, picture, owner, placed, time)
        for layer in world.over:
            layer(picture, time)
        seen = np.bincount(owner.ravel(), minlength=max(whole, default=0) + 1)
        rows = []
        for mover, at in placed:
            box = _box(world, mover, at)
            x1, y1, x2, y2 = max(box[0], 0.0), max(box[1], 0.0), min(box[2], world.width), min(box[3], world.height)
            if x2 - x1 >= 2 and y2 - y1 >= 2:
                shown = float(seen[mover.identity]) / max(1, whole[mover.identity])
                rows.append((index, mover.identity, x1, y1, x2, y2, min(shown, 1.0), kinds.index(mover.kind)))
        yield world.sensor.read(picture, time), rows


def _parts(world: World, mover: Mover, at: Placed) -> NDArray[np.float64]:
    return body(mover.kind, mover.colours, at.x * world.width, at.y * world.height, at.tall, at.facing, at.walked)


def _box(world: World, mover: Mover, at: Placed) -> tuple[float, float, float, float]:
    return parts_box(_parts(world, mover, at))


def _draw_bodies(
    world: World, picture: Picture, owner: NDArray[np.int32], placed: list[tuple[Mover, Placed]], time: float
) -> dict[int, int]:
    """Shadows first, then bodies far to near; the pixels that each whole silhouette covers."""
    for mover, at in placed:
        x, y = at.x * world.width, at.y * world.height
        if world.contact > 0:
            draw_shadow(picture, x, y, 0.28 * at.tall, 0.06 * at.tall, world.contact)
        if world.sun is not None:
            depth, along, down = world.sun
            cast_shadow(picture, _parts(world, mover, at), y, depth, along, down)
    whole = {}
    for mover, at in placed:
        before = mover.at(time - min(0.5 / world.rate, SHUTTER), world.height)
        fast = 0.0 if before is None else np.hypot((at.x - before.x) * world.width, (at.y - before.y) * world.height)
        if before is not None and fast > SUBJECT_TO_BLUR:
            ghost = picture.copy()
            draw_parts(ghost, np.zeros_like(owner), _parts(world, mover, before), mover.identity, 0, True)
            whole[mover.identity] = draw_parts(picture, owner, _parts(world, mover, at), mover.identity, 0, True)
            picture *= np.float32(0.6)
            picture += np.float32(0.4) * ghost
        else:
            whole[mover.identity] = draw_parts(picture, owner, _parts(world, mover, at), mover.identity, 0, True)
    return whole


def true_crossings(world: World) -> Crossings:
    """What really goes over the lines: the exact boxes, four to a frame, counted by Count's own rules."""
    rows = []
    moments = np.arange(world.frame_count * FINE) / (world.rate * FINE)
    for place, time in enumerate(moments.tolist()):
        for mover in world.movers:
            at = mover.at(time, world.height)
            if at is not None:
                rows.append((place, mover.identity, *_foot_box(world, at)))
    table = np.array(rows, np.float64).reshape(-1, 6)
    n = len(table)
    counts = np.bincount(table[:, 0].astype(np.int64), minlength=len(moments))
    tracks = Tracks(
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), identity=table[:, 1].astype(np.int32),
        box=table[:, 2:].astype(np.float32), state=np.ones(n, np.int8), detection=np.arange(n, dtype=np.int32),
        confidence=np.ones(n, np.float32), class_id=np.zeros(n, np.int16), distance=np.ones(n, np.float32),
        nearest_refused=np.zeros(0, np.float32), size=(world.width, world.height),
    )  # fmt: skip
    found = count_crossings(tracks, moments, CountSettings(line=world.lines))
    frame = np.ceil(found.time * world.rate - 1e-9).astype(np.int64)
    return Crossings(
        found.line, found.identity, found.class_id, frame, found.time, found.direction, found.x, found.y, found.seen,
        found.line_names, found.class_names,
    )  # fmt: skip


def _foot_box(world: World, at: Placed) -> tuple[float, float, float, float]:
    """A box about the body's own height that stands on its foot: swinging limbs move nobody over a line."""
    x, y = at.x * world.width, at.y * world.height
    return x - 0.2 * at.tall, y - at.tall, x + 0.2 * at.tall, y


def _truth(world: World, rows: list[tuple]) -> Truth:
    table = np.array(rows, np.float64).reshape(-1, 8)
    counts = np.bincount(table[:, 0].astype(np.int64), minlength=world.frame_count)
    return Truth(
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), identity=table[:, 1].astype(np.int32),
        box=table[:, 2:6].astype(np.float32), consider=table[:, 6] >= LEAST_VISIBLE,
        class_id=table[:, 7].astype(np.int16), visibility=table[:, 6].astype(np.float32),
        class_names=tuple(sorted({mover.kind for mover in world.movers})) or ("object",),
    )  # fmt: skip


def write_world(
    world: World,
    folder: Path,
    *,
    progress: Callable[[int, int], None] = lambda done, total: None,
    preset: str = "fast",
) -> None:
    """Draw a world into ``NAME.mp4``, ``truth.csv``, ``crossings.csv`` and ``recipe.toml`` in a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    rows: list[tuple] = []
    with ClipWriter(
        folder / f"{world.name}.mp4", width=world.width, height=world.height, rate=world.rate, quality=world.quality,
        preset=preset,
    ) as clip:  # fmt: skip
        for done, (picture, more) in enumerate(draw_world(world), 1):
            clip.add(picture)
            rows += more
            progress(done, world.frame_count)
    write_truth(folder / "truth.csv", _truth(world, rows))
    write_crossings(folder / "crossings.csv", true_crossings(world))
    (folder / "recipe.toml").write_text(recipe_text(world.lines), encoding="utf-8")
