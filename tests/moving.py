"""A textured ground seen by a camera that moves, with squares that walk over it: small, and known to the pixel."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from scipy import ndimage

from drover.core.features.models import apply
from drover.core.footage.writer import ClipWriter

SIZE = (480, 270)
RATE = 25.0


def ground(seed: int = 3, size: tuple[int, int] = (760, 460)) -> np.ndarray:
    """Grains of several sizes, (height, width) float."""
    rng = np.random.default_rng(seed)
    width, height = size
    coarse = sum(ndimage.gaussian_filter(rng.normal(0, 1, (height, width)), s) * s * 14 for s in (1.2, 2.5, 6.0))
    return 118 + coarse


def seen(large: np.ndarray, view: np.ndarray, size: tuple[int, int] = SIZE, *, order: int = 1) -> np.ndarray:
    """The picture (height, width) uint8 of a large one under a motion ``view`` from its px to the picture's.

    By splines of this ``order``: straight ones (1) are a little blurred between pixels, and soon drawn.
    """
    width, height = size
    if np.array_equal(view[2], [0, 0, 1]):  # drawn in a third of the time
        back = np.linalg.inv(view)[:2][::-1]  # rows first
        matrix, shift = back[:, 1::-1], back[:, 2] + back[:, :2].sum(axis=1) / 2 - 0.5
        out = ndimage.affine_transform(large, matrix, shift, (height, width), order=order, mode="mirror")
        return np.clip(np.rint(out), 0, 255).astype(np.uint8)
    y, x = np.mgrid[0:height, 0:width] + 0.5
    back = apply(np.linalg.inv(view), np.column_stack([x.ravel(), y.ravel()])).reshape(height, width, 2)
    out = ndimage.map_coordinates(large, [back[..., 1] - 0.5, back[..., 0] - 0.5], order=order, mode="mirror")
    return np.clip(np.rint(out), 0, 255).astype(np.uint8)


def looking(x: float, y: float, turn: float = 0.0, zoom: float = 1.0, size: tuple[int, int] = SIZE) -> np.ndarray:
    """A view whose middle shows the place (x, y) of the large picture, turned (rad) and zoomed."""
    c, s = zoom * np.cos(turn), zoom * np.sin(turn)
    return np.array([[c, -s, size[0] / 2 - c * x + s * y], [s, c, size[1] / 2 - s * x - c * y], [0, 0, 1.0]])


def swaying(time: float) -> np.ndarray:
    """A mast in the wind: up to 9 px and half a degree."""
    x, y = 6 * np.sin(2.6 * time) + 3 * np.sin(6.1 * time), 4 * np.sin(1.9 * time + 1)
    return looking(380 + x, 230 + y, np.radians(0.5) * np.sin(1.3 * time))


def passing(time: float) -> np.ndarray:
    """A slow flight to the right that comes nearer."""
    return looking(330 + 22 * time, 225 + 6 * np.sin(time), 0.03 * np.sin(0.9 * time), 1.0 + 0.03 * time)


def walkers(time: float) -> list[tuple[float, float]]:
    """Feet of three squares of 22 px in the large picture: two go right, one left, over x = 380."""
    return [(300 + 32 * time, 170), (265 + 30 * time, 300), (470 - 34 * time, 235)]


def moving_clip(path: Path, view: Callable[[float], np.ndarray], frames: int = 150) -> list[list[tuple[float, ...]]]:
    """Write a clip of the ground with its walkers; the true boxes of each frame, px of the picture."""
    large, rng, boxes = ground(), np.random.default_rng(5), []
    with ClipWriter(path, width=SIZE[0], height=SIZE[1], rate=RATE, quality=18, preset="ultrafast") as writer:
        for index in range(frames):
            time = index / RATE
            picture, now = large.copy(), []
            for x, y in walkers(time):
                left, top = round(x) - 11, round(y) - 22
                picture[top : top + 22, left : left + 22] = 232
                picture[top + 6 : top + 12, left + 4 : left + 18] = 40
                corners = apply(view(time), np.array([[left, top], [left + 22, top + 22]], np.float64))
                now.append((*corners[0], *corners[1]))
            grey = seen(picture, view(time)).astype(np.float64) + rng.normal(0, 1.5, SIZE[::-1])
            writer.add(np.repeat(np.clip(grey, 0, 255).astype(np.uint8)[..., None], 3, axis=2))
            boxes.append(now)
    return boxes
