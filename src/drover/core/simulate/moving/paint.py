"""What is painted flat: the side of a trailer, and a sign with a hill, a sheep and some plain shapes on it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from drover.core.simulate.draw import draw_ellipses

__all__ = ["sign", "trailer_side"]

Picture = NDArray[np.float32]


def trailer_side(size: tuple[int, int], seed: int) -> Picture:
    """The side of a stock trailer of (width, height) px: boards, slits, rust and mud, (height, width, 3)."""
    width, height = size
    rng = np.random.default_rng([seed, 41])
    out = np.empty((height, width, 3), np.float32)
    out[:] = (128.0, 92.0, 70.0)
    boards = max(4, height // 60)
    for k in range(boards):
        top, past = height * k // boards, height * (k + 1) // boards
        out[top:past] *= rng.uniform(0.82, 1.14)
        out[past - max(2, height // 160) : past] *= 0.45
    for x in np.linspace(0.08, 0.92, 9):
        left = int(x * width)
        out[int(0.16 * height) : int(0.5 * height), left : left + max(4, width // 26)] = (34.0, 31.0, 30.0)
    rust = ndimage.gaussian_filter(rng.normal(0, 1, (height, width)), 9.0)
    mud = ndimage.gaussian_filter(rng.normal(0, 1, (height, width)), 3.0)
    out *= (1.0 + 1.3 * rust + 0.6 * mud)[..., None].astype(np.float32)
    low = np.clip((np.arange(height) / height - 0.8) / 0.2, 0, 1).astype(np.float32)[:, None, None]
    out = out * (1 - 0.6 * low) + np.array([92.0, 84.0, 66.0], np.float32) * 0.6 * low
    return np.clip(out, 4, 250).astype(np.float32)


def sign(size: tuple[int, int] = (480, 300), seed: int = 1) -> Picture:
    """A painted board of (width, height) px: a hill, a sheep, a sun, a hedge and a band of plain shapes."""
    width, height = size
    rng = np.random.default_rng([seed, 42])
    y, x = np.mgrid[0:height, 0:width].astype(np.float32) / np.array([height, width], np.float32)[:, None, None]
    out = np.empty((height, width, 3), np.float32)
    out[:] = (226.0, 220.0, 200.0)
    hill = y > 0.52 - 0.2 * np.sin(2.6 * x + 0.3)
    out[hill] = (70.0, 118.0, 78.0)
    out[y > 0.78] = (52.0, 60.0, 84.0)
    rows = [[0.78, 0.2, 0.07, 0.11, 0.0, 214, 150, 46, 1.0]]
    rows += [
        [0.36 + dx, 0.5 + dy, 0.055, 0.075, 0.2, 240, 238, 230, 1.0] for dx in (0, 0.05, 0.1, 0.15) for dy in (0, 0.06)
    ]
    rows += [[0.56, 0.49, 0.03, 0.05, 0.5, 40, 38, 36, 1.0]]
    rows += [[0.34 + 0.07 * k, 0.66, 0.008, 0.06, 0.0, 40, 38, 36, 1.0] for k in range(4)]
    for k in range(9):
        tone = rng.uniform(40, 235, 3)
        rows.append([0.07 + 0.107 * k, 0.885, 0.028, rng.uniform(0.03, 0.07), rng.uniform(0, 3), *tone, 1.0])
    for _ in range(26):
        tone = rng.uniform(30, 110, 3)
        rows.append([rng.uniform(0.04, 0.96), rng.uniform(0.6, 0.75), 0.008, 0.016, rng.uniform(0, 3), *tone, 0.9])
    table = np.array(rows, np.float64)
    table[:, [0, 2]] *= width
    table[:, [1, 3]] *= height
    draw_ellipses(out, np.zeros((height, width), np.float32), table)
    rim = np.minimum(np.minimum(x, 1 - x) * width, np.minimum(y, 1 - y) * height) < 0.02 * height
    out[rim] = (120.0, 40.0, 34.0)
    out *= (1 + 0.05 * ndimage.gaussian_filter(rng.normal(0, 1, (height, width)), 1.5))[..., None].astype(np.float32)
    return np.clip(out, 4, 250).astype(np.float32)
