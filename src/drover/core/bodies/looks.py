"""The picture around one detection, as it differs from the empty scene, on a grid that keeps to its body."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.kernel_parts import read_only

__all__ = ["cell_differences"]

Grey = NDArray[np.uint8]
Int = NDArray[np.int64]
NOISE_STEPS = np.float32(16.0)  # of a level, in which noise is kept
LOUDEST = np.float32(30.0)  # times the noise, that a pixel is counted for


def cell_differences(
    seen: Grey, picture: Grey, noise: Grey, across: NDArray[np.float64], down: NDArray[np.float64],
    cell: tuple[float, float],
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:  # fmt: skip
    """Mean difference of a picture from the empty scene over each cell, in multiples of its noise, and its light.

    ``seen``, ``picture`` and ``noise`` (levels x 16) are (height, width); ``across`` (n,) and ``down`` (m,) px the
    middles of the cells, which are ``cell`` px wide and high and reach over a pixel at least. Both are (m, n) float32;
    a cell's light is 1 as in the empty scene.
    """
    out, light = (np.zeros((len(down), len(across)), np.float32) for _ in range(2))
    add_up(read_only(seen), read_only(picture), read_only(noise), across, down, cell, out, light)
    return out, light


@njit(cache=True, nogil=True)
def pixels(middle: NDArray[np.float64], cell: float, size: int) -> Int:  # pragma: no cover
    """First and one past the last pixel (n, 2) of cells along an axis, one at least, inside the picture."""
    out = np.empty((middle.shape[0], 2), np.int64)
    for k in range(middle.shape[0]):
        first = min(max(int(np.floor(middle[k] - cell / 2 + 0.5)), 0), size - 1)
        out[k, 0], out[k, 1] = first, max(min(int(np.floor(middle[k] + cell / 2 + 0.5)), size), first + 1)
    return out


@njit(cache=True, nogil=True)
def add_up(
    seen: Grey,
    picture: Grey,
    noise: Grey,
    across: NDArray[np.float64],
    down: NDArray[np.float64],
    cell: tuple[float, float],
    out: NDArray[np.float32],
    light: NDArray[np.float32],
) -> None:  # pragma: no cover
    """Fill ``out`` with the mean of each cell, and ``light``."""
    x, y = pixels(across, cell[0], seen.shape[1]), pixels(down, cell[1], seen.shape[0])
    for i in range(y.shape[0]):
        for j in range(x.shape[0]):
            total, lit, ground = np.float32(0.0), 0, 0
            for v in range(y[i, 0], y[i, 1]):
                for u in range(x[j, 0], x[j, 1]):
                    off = np.float32(seen[v, u]) - np.float32(picture[v, u])
                    off *= NOISE_STEPS / np.float32(max(noise[v, u], np.uint8(1)))
                    total += min(max(off, -LOUDEST), LOUDEST)
                    lit += np.int64(seen[v, u])
                    ground += np.int64(picture[v, u])
            light[i, j] = np.float32(lit) / np.float32(max(ground, 1))
            out[i, j] = total / np.float32((y[i, 1] - y[i, 0]) * (x[j, 1] - x[j, 0]))
