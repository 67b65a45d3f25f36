"""What really happened in a scene: boxes from closed-form shapes, crossings on a fine time grid."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from drover.core.count.passages import line_distance
from drover.core.geometry import box_reference, side_of_line
from drover.core.recipe import LineSettings
from drover.core.simulate.actors import Actor
from drover.core.simulate.body import body_parts, parts_box
from drover.core.simulate.scene import Camera, Scene
from drover.core.types import Crossings, Truth

__all__ = ["CLASS_NAMES", "LEAST_VISIBLE", "TruthRow", "actor_box", "truth_crossings", "truth_table"]

CLASS_NAMES = ("ewe", "lamb", "dog", "trailer", "sign")
LEAST_VISIBLE = 0.2  # rows less visible than this are not to be considered
FINE = 20  # moments per frame at which a path is examined for crossings
GAIT = 8.0  # world px by which an animal that stays where it is may shift within a frame

# frame, identity, x1, y1, x2, y2, visibility, class
TruthRow = tuple[int, int, float, float, float, float, float, int]


def actor_box(actor: Actor, camera: Camera, time: float) -> tuple[float, float, float, float] | None:
    """Whole box of an animal in picture px, beyond the edges too, or None when it is not in the scene."""
    placed = actor.at(time)
    if placed is None:
        return None
    x1, y1, x2, y2 = parts_box(body_parts(actor, *placed))
    zoom = camera.zoom
    return (
        (x1 - camera.left) * zoom,
        (y1 - camera.top) * zoom,
        (x2 - camera.left) * zoom,
        (y2 - camera.top) * zoom,
    )


def truth_table(rows: list[TruthRow], frame_count: int) -> Truth:
    """Truth from rows in frame order."""
    table = np.asarray(rows, np.float64).reshape(-1, 8)
    counts = np.bincount(table[:, 0].astype(np.int64), minlength=frame_count)
    return Truth(
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        identity=table[:, 1].astype(np.int32),
        box=table[:, 2:6].astype(np.float32),
        consider=table[:, 6] >= LEAST_VISIBLE,
        class_id=table[:, 7].astype(np.int16),
        visibility=table[:, 6].astype(np.float32),
        class_names=CLASS_NAMES,
    )


def truth_crossings(scene: Scene) -> Crossings:
    """Every true crossing, exact to a twentieth of a frame and straight between.

    A passage counts as it does in Count: one that goes to and fro without leaving the line's dead band is one attempt.
    """
    rows: list[tuple[float, int, int, int, int, float, float]] = []
    for number, line in enumerate(scene.lines):
        for actor in scene.actors:
            rows += [
                (t, number, actor.identity, CLASS_NAMES.index(actor.kind), d, x, y)
                for t, d, x, y in _attempts(scene, actor, line)
            ]
    rows.sort()
    table = np.asarray(rows, np.float64).reshape(-1, 7)
    return Crossings(
        line=table[:, 1].astype(np.int16),
        identity=table[:, 2].astype(np.int32),
        class_id=table[:, 3].astype(np.int16),
        frame=np.ceil(table[:, 0] * scene.rate - 1e-9).astype(np.int64),
        time=table[:, 0].copy(),
        direction=table[:, 4].astype(np.int8),
        x=table[:, 5].astype(np.float32),
        y=table[:, 6].astype(np.float32),
        seen=np.ones(len(table), np.bool_),
        line_names=tuple(line.name for line in scene.lines),
        class_names=CLASS_NAMES,
    )


def _passages(scene: Scene, actor: Actor, line: LineSettings) -> list[tuple[float, int, float, float]]:
    camera = scene.camera
    corners = [(x * camera.width, y * camera.height) for x, y in line.points]
    times = _moments_near(scene, actor, line)
    feet = [_reference(actor, camera, float(t), line.reference) for t in times]
    found = []
    for i in range(len(feet) - 1):
        a, b = feet[i], feet[i + 1]
        if a is None or b is None or times[i + 1] - times[i] > 0.5 / scene.rate:
            continue
        for start, end in zip(corners[:-1], corners[1:], strict=True):
            before, after = side_of_line(*a, start, end), side_of_line(*b, start, end)
            if (before >= 0) == (after >= 0):
                continue
            if (side_of_line(*start, a, b) >= 0) == (side_of_line(*end, a, b) >= 0):
                continue
            f = before / (before - after)
            x, y = a[0] + f * (b[0] - a[0]), a[1] + f * (b[1] - a[1])
            found.append((float(times[i] + f * (times[i + 1] - times[i])), 1 if after >= 0 else -1, x, y))
    return found


def _attempts(scene: Scene, actor: Actor, line: LineSettings) -> list[tuple[float, int, float, float]]:
    """The passages that hold: of those between which the animal has not left the dead band, where it came out."""
    found = _passages(scene, actor, line)
    out: list[tuple[float, int, float, float]] = []
    first = 0
    for past in range(1, len(found) + 1):
        if past < len(found) and not _leaves(scene, actor, line, found[past - 1][0], found[past][0]):
            continue
        attempt = found[first:past]
        net = sum(direction for _, direction, _, _ in attempt)
        same = [one for one in attempt if one[1] * net > 0]
        out += same[len(same) - abs(net) :]
        first = past
    return out


def _leaves(scene: Scene, actor: Actor, line: LineSettings, start: float, end: float) -> bool:
    """Whether the animal is outside the dead band at a frame between two times, s."""
    camera = scene.camera
    corners = np.asarray(line.points, np.float64) * (camera.width, camera.height)
    for frame in range(int(np.ceil(start * scene.rate)), int(end * scene.rate) + 1):
        box = actor_box(actor, camera, frame / scene.rate)
        point = _reference(actor, camera, frame / scene.rate, line.reference)
        if box is None or point is None:
            continue
        size = np.sqrt(max((box[2] - box[0]) * (box[3] - box[1]), 1.0))
        if line_distance(*point, corners) > line.dead_band * size:
            return True
    return False


def _moments_near(scene: Scene, actor: Actor, line: LineSettings) -> NDArray[np.float64]:
    """Fine moments of the frames in which the animal may get to the line, each with the end of its frame.

    Between two frames it goes no farther than twice what lies between its places in them and a little for its gait.
    """
    camera = scene.camera
    corners = np.asarray(line.points, np.float64) * (camera.width, camera.height)
    first = max(0, int(np.ceil(actor.time[0] * scene.rate)))
    last = min(scene.frame_count - 1, int(actor.time[-1] * scene.rate))
    places = [_reference(actor, camera, frame / scene.rate, line.reference) for frame in range(first, last + 1)]
    near = list[float]()
    for frame, (a, b) in enumerate(pairwise(places), first):
        if a is not None and b is not None:
            may_go = 2 * np.hypot(b[0] - a[0], b[1] - a[1]) + GAIT * camera.zoom
            if min(line_distance(*a, corners), line_distance(*b, corners)) > may_go:
                continue
        fine = [(frame + k / FINE) / scene.rate for k in range(FINE + 1)]
        near += fine[1:] if near and near[-1] == fine[0] else fine
    return np.asarray(near, np.float64)


def _reference(actor: Actor, camera: Camera, time: float, reference: str) -> tuple[float, float] | None:
    box = actor_box(actor, camera, time)
    if box is None:
        return None
    x, y = box_reference(np.array([box]), reference)[0]
    return float(x), float(y)
