"""Light that changes: each picture is brought back to the light of the background before it is compared.

The ratio of picture to background is taken block by block as a median, so that an animal in a block does not
matter; a median over neighbouring blocks drops animals that fill a block; what is left is a smooth field of
gain: a passing cloud, a gliding exposure, a lamp. The gain of the whole picture is watched for jumps.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy import ndimage

__all__ = ["LightFollower", "block_ratios", "even_out"]

BLOCKS_ACROSS = 40
SAMPLES = 8  # a side: 64 pixels of each block are looked at
DARKEST = 12.0  # grey levels: darker background says nothing about the ratio
STEPS_PER_OCTAVE = 48


class LightFollower:
    """Keeps the gain field of the newest picture, and tells of jumps.

    Parameters
    ----------
    size : (width, height) px
    jump : float, fraction
        A change of the whole picture's gain within one frame from which it counts as a jump.
    """

    def __init__(self, size: tuple[int, int], jump: float) -> None:
        width, height = size
        self.block = max(8, -(-width // BLOCKS_ACROSS))
        self.jump = jump
        self.gain = 1.0
        self._out = np.empty((height, width), np.uint8)

    def even(self, grey: NDArray[np.uint8], background: NDArray[np.float32]) -> tuple[NDArray[np.uint8], float | None]:
        """The picture in the background's light, and the factor of a jump if there was one."""
        ratio = block_ratios(grey, background, self.block)
        field = ndimage.gaussian_filter(ndimage.median_filter(ratio, size=5, mode="nearest"), 0.8, mode="nearest")
        now = float(np.median(field))
        change = now / self.gain
        self.gain = now
        even_out(grey, field.astype(np.float32), self.block, self._out)
        return self._out, change if abs(change - 1.0) >= self.jump else None


@njit(cache=True, nogil=True)
def block_ratios(
    grey: NDArray[np.uint8], background: NDArray[np.float32], block: int
) -> NDArray[np.float32]:  # pragma: no cover
    """Median ratio of picture to background in each block, (rows, columns) float32; 1 where all is too dark."""
    height, width = grey.shape
    rows, columns = -(-height // block), -(-width // block)
    out = np.ones((rows, columns), np.float32)
    bins = np.empty(4 * STEPS_PER_OCTAVE + 1, np.int64)
    for r in range(rows):
        for c in range(columns):
            bins[:] = 0
            n = 0
            for i in range(SAMPLES):
                y = r * block + (2 * i + 1) * block // (2 * SAMPLES)
                for j in range(SAMPLES):
                    x = c * block + (2 * j + 1) * block // (2 * SAMPLES)
                    if y >= height or x >= width or background[y, x] < DARKEST or grey[y, x] == 255:
                        continue
                    octaves = np.log2(max(np.float32(grey[y, x]), np.float32(1.0)) / background[y, x])
                    place = int(np.rint((octaves + 2.0) * STEPS_PER_OCTAVE))
                    bins[min(max(place, 0), bins.shape[0] - 1)] += 1
                    n += 1
            if n < SAMPLES:
                continue
            half, seen = n // 2, 0
            for k in range(bins.shape[0]):
                seen += bins[k]
                if seen > half:
                    # Between the middles of the bins, by how far into this one the median lies.
                    inside = (half - (seen - bins[k]) + 0.5) / bins[k] - 0.5
                    out[r, c] = 2.0 ** ((k + inside) / STEPS_PER_OCTAVE - 2.0)
                    break
    return out


@njit(cache=True, nogil=True, fastmath=True)
def even_out(
    grey: NDArray[np.uint8], field: NDArray[np.float32], block: int, out: NDArray[np.uint8]
) -> None:  # pragma: no cover
    """Divide the picture by the gain field, straight between the middles of blocks."""
    height, width = grey.shape
    rows, columns = field.shape
    line = np.empty(columns + 1, np.float32)
    size = np.float32(block)
    for y in range(height):
        at = min(max((y + 0.5) / block - 0.5, 0.0), rows - 1.0)
        top = min(int(at), max(rows - 2, 0))
        below = min(top + 1, rows - 1)
        f = np.float32(at - top)
        for c in range(columns):
            line[c] = np.float32(1.0) / (field[top, c] * (np.float32(1.0) - f) + field[below, c] * f)
        line[columns] = line[columns - 1]
        half = block // 2
        for x in range(min(half, width)):
            out[y, x] = np.uint8(min(np.float32(grey[y, x]) * line[0] + _HALF, _MOST))
        for c in range(columns):
            start = half + c * block
            slope = (line[c + 1] - line[c]) / size
            for x in range(start, min(start + block, width)):
                value = np.float32(grey[y, x]) * (line[c] + slope * np.float32(x - start)) + _HALF
                out[y, x] = np.uint8(min(value, _MOST))


_HALF = np.float32(0.5)
_MOST = np.float32(255.0)
