"""A scene with a camera that moves: drawn from a large painted view, with the exact motion of the camera as truth."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from drover.core.features.models import apply, inverse
from drover.core.footage.writer import ClipWriter
from drover.core.formats.box_rows import write_truth
from drover.core.formats.crossing_rows import write_crossings
from drover.core.formats.motion_rows import write_motion, write_outlines
from drover.core.recipe import LineSettings
from drover.core.simulate.moving.flats import Flat
from drover.core.simulate.moving.look import look_through, owners_through
from drover.core.simulate.moving.paths import ViewPath
from drover.core.simulate.render import Renderer
from drover.core.simulate.scene import Scene
from drover.core.simulate.truth import CLASS_NAMES, TruthRow, actor_box, truth_crossings, truth_table
from drover.core.simulate.write import recipe_text
from drover.core.types import Crossings

__all__ = ["MovingScene", "Shot", "draw_moving", "true_motion", "write_moving"]

Float = NDArray[np.float64]
PER_SHOT = 1000  # identities of one shot: none goes on behind a cut
LEAST_SIDE = 2.0  # px


@dataclass(frozen=True)
class Shot:
    """A stretch of frames: what is there, how it is looked at, and what is driven through it, far to near."""

    first: int
    past: int
    base: Scene
    view: ViewPath
    flats: tuple[Flat, ...] = ()
    over_all: bool = True  # flats are nearer than every animal and the tree


@dataclass(frozen=True)
class MovingScene:
    """Everything needed to draw a clip of (width, height) px and to know its truth."""

    name: str
    seed: int
    seconds: float
    rate: float
    size: tuple[int, int]
    shots: tuple[Shot, ...]
    noise: float = 2.2
    lines: tuple[LineSettings, ...] = field(default=())

    @property
    def frame_count(self) -> int:
        """Whole frames."""
        return round(self.seconds * self.rate)

    @property
    def actors(self) -> tuple[object, ...]:
        """All animals of all shots."""
        return tuple(actor for shot in self.shots for actor in shot.base.actors)


class _ShotRenderer(Renderer):
    """Draws the large view of a shot, without noise."""

    def __init__(self, shot: Shot) -> None:
        super().__init__(replace(shot.base, light=replace(shot.base.light, noise=0.0)))
        self.shot = shot
        self.owner = self._owner

    def _animals(self, time: float) -> dict[int, int]:
        whole = {}
        if not self.shot.over_all:
            whole |= {flat.who: flat.lay(self._picture, self._owner, time) for flat in self.shot.flats}
        whole |= super()._animals(time)
        if self.shot.over_all:
            whole |= {flat.who: flat.lay(self._picture, self._owner, time) for flat in self.shot.flats}
        self.whole = whole
        return whole


def true_motion(scene: MovingScene) -> Float:
    """(frames, 3, 3): from the px of each picture to those of the first picture of its shot."""
    out = np.empty((scene.frame_count, 3, 3))
    for shot in scene.shots:
        first = shot.view(shot.first / scene.rate)
        for index in range(shot.first, min(shot.past, scene.frame_count)):
            out[index] = first @ inverse(shot.view(index / scene.rate))
    return out


def draw_moving(scene: MovingScene) -> Iterator[tuple[NDArray[np.uint8], list[TruthRow]]]:
    """Each frame as (height, width, 3) uint8 with its truth rows, in order."""
    width, height = scene.size
    rng = np.random.default_rng([scene.seed, 98])
    noise = np.clip(rng.normal(0, 10 * scene.noise, (613, 1021)), -127, 127).astype(np.int8)
    owner = np.zeros((height, width), np.int32)
    for number, shot in enumerate(scene.shots):
        renderer = _ShotRenderer(shot)
        for index in range(shot.first, min(shot.past, scene.frame_count)):
            time = index / scene.rate
            large, _ = renderer.draw(index)
            view = shot.view(time)
            back = inverse(view)
            out = np.empty((height, width, 3), np.uint8)
            at = rng.integers(0, 600, 2)
            look_through(large, back, noise, int(at[0]), int(at[1]), out)
            owners_through(renderer.owner, back, owner)
            yield out, _truth(scene, shot, index, view, owner, renderer.whole, number * PER_SHOT)


def _truth(
    scene: MovingScene,
    shot: Shot,
    index: int,
    view: Float,
    owner: NDArray[np.int32],
    whole: dict[int, int],
    number_from: int,
) -> list[TruthRow]:
    seen = np.bincount(owner.ravel(), minlength=max(whole, default=0) + 1)
    zoom = float(np.linalg.det(view[:2, :2]))
    rows: list[TruthRow] = []
    for who, kind, corners in _corners(shot, index / scene.rate):
        there = apply(view, corners)
        x1, y1 = np.maximum(there.min(axis=0), 0.0)
        x2, y2 = np.minimum(there.max(axis=0), scene.size)
        if x2 - x1 < LEAST_SIDE or y2 - y1 < LEAST_SIDE:
            continue
        visible = min(1.0, float(seen[who]) / max(1.0, whole[who] * zoom))
        rows.append((index, who + number_from, float(x1), float(y1), float(x2), float(y2), visible, kind))
    return rows


def _corners(shot: Shot, time: float) -> Iterator[tuple[int, int, Float]]:
    """Number, class and corners in the large view of everything that is there."""
    for actor in shot.base.actors:
        box = actor_box(actor, shot.base.camera, time)
        if box is not None:
            x1, y1, x2, y2 = box
            yield actor.identity, CLASS_NAMES.index(actor.kind), np.array([[x1, y1], [x2, y1], [x2, y2], [x1, y2]])
    for flat in shot.flats:
        there = flat.corners(time)
        if there is not None and flat.kind:
            yield flat.who, CLASS_NAMES.index(flat.kind), there


def _true_crossings(scene: MovingScene) -> Crossings:
    """What goes over the line in the scene while that place is in the picture, where the picture then shows it."""
    shot = scene.shots[0]
    width, height = scene.size
    found = truth_crossings(shot.base)
    place = np.column_stack([found.x, found.y]).astype(np.float64)
    there = np.array([apply(shot.view(t), p[None])[0] for t, p in zip(found.time.tolist(), place, strict=True)])
    there = there.reshape(-1, 2)
    inside = np.asarray(((there > 0) & (there < (width, height))).all(axis=1))
    kept = found.take(inside)
    return replace(kept, x=there[inside, 0].astype(np.float32), y=there[inside, 1].astype(np.float32))


def lines_in_picture(base: Scene, view: Float, size: tuple[int, int]) -> tuple[LineSettings, ...]:
    """The lines of a painted view as fractions of the picture that ``view`` makes of it."""
    canvas = base.camera
    out = []
    for line in base.lines:
        points = apply(view, np.asarray(line.points, np.float64) * (canvas.width, canvas.height)) / size
        out.append(line.model_copy(update={"points": tuple((float(x), float(y)) for x, y in points.round(5))}))
    return tuple(out)


def write_moving(
    scene: MovingScene,
    folder: Path,
    *,
    progress: Callable[[int, int], None] = lambda done, total: None,
    quality: int = 24,
    preset: str = "medium",
) -> None:
    """Draw a scene into ``NAME.mp4``, ``truth.csv``, ``crossings.csv``, ``recipe.toml`` and ``camera.csv``; the corners
    of what is driven through it into ``outlines.csv``.
    """
    folder.mkdir(parents=True, exist_ok=True)
    rows: list[TruthRow] = []
    width, height = scene.size
    with ClipWriter(
        folder / f"{scene.name}.mp4", width=width, height=height, rate=scene.rate, quality=quality, preset=preset
    ) as clip:
        for done, (picture, more) in enumerate(draw_moving(scene), 1):
            clip.add(picture)
            rows += more
            progress(done, scene.frame_count)
    write_truth(folder / "truth.csv", truth_table(rows, scene.frame_count))
    if scene.lines:
        write_crossings(folder / "crossings.csv", _true_crossings(scene))
    (folder / "recipe.toml").write_text(recipe_text(scene.lines), encoding="utf-8")
    write_motion(folder / "camera.csv", true_motion(scene))
    outlines = true_outlines(scene, rows)
    if outlines:
        write_outlines(folder / "outlines.csv", outlines)


def true_outlines(scene: MovingScene, rows: list[TruthRow]) -> list[tuple[int, Float, float]]:
    """Frame, corners (4, 2) px of the picture and visible share of the nearest flat thing, where it is there."""
    seen = {(row[0], row[1]): row[6] for row in rows}
    out = []
    for number, shot in enumerate(scene.shots):
        for index in range(shot.first, min(shot.past, scene.frame_count)) if shot.flats else ():
            flat, time = shot.flats[-1], index / scene.rate
            corners = flat.corners(time)
            if corners is not None:
                visible = seen.get((index, flat.who + number * PER_SHOT), 0.0)
                out.append((index, apply(shot.view(time), corners), visible))
    return out
