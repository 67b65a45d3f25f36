"""Draw a scene frame by frame and note the truth of each frame as it is drawn."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from drover.core.simulate.body import body_parts, depth_scale
from drover.core.simulate.draw import cast_shadow, compose, develop, draw_parts, draw_shadow, lay_over
from drover.core.simulate.ground import CROWN_TRUNK, paint_ground
from drover.core.simulate.scene import Scene
from drover.core.simulate.truth import CLASS_NAMES, TruthRow, actor_box

__all__ = ["Renderer"]

CLOUD_CELL = 24.0


class Renderer:
    """Draws the frames of a scene; the same scene gives the same pixels."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        camera = scene.camera
        self.ground = paint_ground(camera, 20_000 + 1)
        rng = np.random.default_rng([scene.seed, 99])
        self._cloud = _clouds(rng, camera.height)
        self._noise = np.clip(rng.normal(0, 10 * scene.light.noise, (613, 1021)), -127, 127).astype(np.int8)
        self._noise_at = rng.integers(0, 600, (scene.frame_count, 2))
        self._sway = self.ground.sway * np.float32(scene.light.sway)
        self._picture = np.empty((camera.height, camera.width, 3), np.float32)
        self._owner = np.zeros((camera.height, camera.width), np.int32)

    def frames(self) -> Iterator[tuple[NDArray[np.uint8], list[TruthRow]]]:
        """Each frame as (height, width, 3) uint8 with its truth rows, in order."""
        for index in range(self.scene.frame_count):
            yield self.draw(index)

    def draw(self, index: int) -> tuple[NDArray[np.uint8], list[TruthRow]]:
        """One frame and its truth rows."""
        scene, light = self.scene, self.scene.light
        time = index / scene.rate
        compose(self.ground.plate, self._sway, self.ground.phase, time, self._picture)
        self._owner[:] = 0
        whole = self._animals(time)
        out = np.empty(self._picture.shape, np.uint8)
        nx, ny = self._noise_at[index]
        drift = 900.0 + light.cloud_drift * time
        develop(
            self._picture, self._cloud, drift * scene.camera.zoom, light.cloud_depth, light.gain(time),
            CLOUD_CELL * scene.camera.zoom,
            self._noise, int(nx), int(ny), out,
        )  # fmt: skip
        return out, self._truth(index, time, whole)

    def _animals(self, time: float) -> dict[int, int]:
        """Draw all animals far to near; returns the whole silhouette of each in px."""
        camera = self.scene.camera
        placed = [(actor, at) for actor in self.scene.actors if (at := actor.at(time)) is not None]
        placed.sort(key=lambda item: item[1][1])
        for actor, (x, y, facing, _) in placed:
            size = actor.body * depth_scale(actor, y) * camera.zoom
            half = size * (0.34 + 0.18 * abs(facing))
            sx, sy = (x - camera.left) * camera.zoom, (y - camera.top) * camera.zoom
            draw_shadow(self._picture, sx + 0.10 * size, sy - 0.02 * size, half, 0.12 * size, 0.13)
        if self.scene.light.cast_shadow > 0:
            for actor, (x, y, facing, stride) in placed:
                parts = self._on_camera(body_parts(actor, x, y, facing, stride))
                cast_shadow(self._picture, parts, (y - camera.top) * camera.zoom, self.scene.light.cast_shadow)
        whole: dict[int, int] = {}
        crown_laid = False
        for actor, (x, y, facing, stride) in placed:
            if not crown_laid and y >= CROWN_TRUNK:
                self._lay_crown()
                crown_laid = True
            parts = self._on_camera(body_parts(actor, x, y, facing, stride))
            grain = actor.identity * 7919
            whole[actor.identity] = draw_parts(self._picture, self._owner, parts, actor.identity, grain, False)
        if not crown_laid:
            self._lay_crown()
        return whole

    def _on_camera(self, parts: NDArray[np.float64]) -> NDArray[np.float64]:
        """Parts from world px to picture px, in place."""
        camera = self.scene.camera
        parts[:, 0] = (parts[:, 0] - camera.left) * camera.zoom
        parts[:, 1] = (parts[:, 1] - camera.top) * camera.zoom
        parts[:, 2:4] *= camera.zoom
        return parts

    def _lay_crown(self) -> None:
        ground = self.ground
        lay_over(self._picture, self._owner, ground.crown, ground.crown_alpha, ground.crown_top, ground.crown_left)

    def _truth(self, index: int, time: float, whole: dict[int, int]) -> list[TruthRow]:
        camera = self.scene.camera
        seen = np.bincount(self._owner.ravel(), minlength=max(whole, default=0) + 1)
        rows: list[TruthRow] = []
        for actor in self.scene.actors:
            box = actor_box(actor, camera, time)
            if box is None:
                continue
            x1, y1 = max(0.0, box[0]), max(0.0, box[1])
            x2, y2 = min(float(camera.width), box[2]), min(float(camera.height), box[3])
            if x2 - x1 < 2 or y2 - y1 < 2:
                continue
            visible = float(seen[actor.identity]) / max(1, whole[actor.identity])
            rows.append((index, actor.identity, x1, y1, x2, y2, visible, CLASS_NAMES.index(actor.kind)))
        return rows


def _clouds(rng: np.random.Generator, height: int) -> NDArray[np.float32]:
    """Broad cloud shadows, 0 clear to 1 full shadow, that repeat sideways without a seam."""
    rows, cols = int(height / CLOUD_CELL) + 4, 240
    y = np.arange(rows)[:, None]
    x = np.arange(cols)[None, :]
    field = np.zeros((rows, cols))
    for wave in range(1, 6):
        angle, slope = rng.uniform(0, 2 * np.pi), rng.uniform(-0.03, 0.03)
        field += np.sin(2 * np.pi * wave * x / (cols - 1) + angle + slope * y * wave) / wave**0.7
    field = (field - field.min()) / (field.max() - field.min())
    soft = np.clip((field - 0.42) / 0.30, 0, 1)
    return (soft * soft * (3 - 2 * soft)).astype(np.float32)
