"""Light that changes: each picture is brought back to the light of the background before it is compared.

The ratio of picture to background is taken block by block as a median, so that an object in a block does not
matter; a median over neighbouring blocks drops objects that fill a block; what is left is a smooth field of
gain: a passing cloud, a gliding exposure, a lamp. The gain of the whole picture is watched for jumps.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["LightFollower", "block_ratios", "even_out", "median_of_25"]

BLOCKS_ACROSS = 40
SAMPLES = 8  # a side: 64 pixels of each block are looked at
DARKEST = 12.0  # grey levels: darker background says nothing about the ratio
STEPS_PER_OCTAVE = 48
BLACKEST = 0.01  # share of the background's light under which a picture is black
REFRESH = 3  # frames between two looks at the whole field while the light is steady
MOVED = 0.012  # change of the coarse look from which the field is taken at once
BANDS = 4  # in each block, of rows that share one line of factors: the field is smooth over whole blocks


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
        self._glance = 1.0
        self._frames = 0
        self._field: NDArray[np.float32] | None = None
        self._out = np.empty((height, width), np.uint8)

    def even(self, grey: NDArray[np.uint8], background: NDArray[np.float32]) -> tuple[NDArray[np.uint8], float | None]:
        """The picture in the background's light, and the factor of a jump if there was one.

        The field is taken anew every third frame, and at once when a coarse look says that the light has moved.
        """
        step = 2 * self.block
        coarse = grey[::step, ::step] / np.maximum(background[::step, ::step], 1.0)
        glance = max(float(np.median(coarse)), BLACKEST)  # a blackout has no light to compare with
        moved = abs(glance / self._glance - 1.0) > MOVED
        change = None
        if self._field is None or moved or self._frames % REFRESH == 0:
            ratio = block_ratios(grey, background, self.block, _OCTAVES)
            from scipy import ndimage  # here: a start without it is a fifth of a second shorter

            field = ndimage.gaussian_filter(median_of_25(ratio), 0.8, mode="nearest")
            self._field = field.astype(np.float32)
            now = float(np.median(field))
            change, self.gain = now / self.gain, now
            self._glance = glance
        self._frames += 1
        even_out(grey, self._field, self.block, self._out)
        return self._out, change if change is not None and abs(change - 1.0) >= self.jump else None


@njit(cache=True, nogil=True)
def block_ratios(
    grey: NDArray[np.uint8], background: NDArray[np.float32], block: int, octaves: NDArray[np.float32]
) -> NDArray[np.float32]:  # pragma: no cover
    """Median ratio of picture to background in each block, (rows, columns) float32; 1 where all is too dark.

    ``octaves`` (4081,) holds the binary logarithm of each sixteenth of a grey level.
    """
    height, width = grey.shape
    rows, columns = -(-height // block), -(-width // block)
    out = np.ones((rows, columns), np.float32)
    bins = np.empty(4 * STEPS_PER_OCTAVE + 1, np.int32)
    sixteen, steps, two = np.float32(16.0), np.float32(STEPS_PER_OCTAVE), np.float32(2.0)
    for r in range(rows):
        for c in range(columns):
            bins[:] = 0
            n = 0
            for i in range(SAMPLES):
                y = r * block + (2 * i + 1) * block // (2 * SAMPLES)
                if y >= height:
                    break
                for j in range(SAMPLES):
                    x = c * block + (2 * j + 1) * block // (2 * SAMPLES)
                    if x >= width or background[y, x] < DARKEST or grey[y, x] == 255:
                        continue
                    apart = octaves[16 * grey[y, x]] - octaves[int(min(background[y, x], _MOST) * sixteen)]
                    place = int((apart + two) * steps + _HALF)
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


@njit(cache=True, nogil=True)
def median_of_25(field: NDArray[np.float32]) -> NDArray[np.float32]:  # pragma: no cover
    """Median of the 5 by 5 neighbours of every cell; beyond the edge the edge goes on."""
    rows, columns = field.shape
    out = np.empty_like(field)
    near = np.empty(25, np.float32)
    for r in range(rows):
        for c in range(columns):
            n = 0
            for i in range(r - 2, r + 3):
                for j in range(c - 2, c + 3):
                    value = field[min(max(i, 0), rows - 1), min(max(j, 0), columns - 1)]
                    k = n
                    while k > 0 and near[k - 1] > value:
                        near[k] = near[k - 1]
                        k -= 1
                    near[k] = value
                    n += 1
            out[r, c] = near[12]
    return out


@njit(cache=True, nogil=True)
def _scale_rows(
    grey: NDArray[np.uint8], factor: NDArray[np.int32], out: NDArray[np.uint8], first: int, past: int
) -> None:  # pragma: no cover
    for y in range(first, past):
        for x in range(grey.shape[1]):
            out[y, x] = np.uint8(min((np.int32(grey[y, x]) * factor[x] + 2048) >> 12, 255))


@njit(cache=True, nogil=True, fastmath=True)
def even_out(
    grey: NDArray[np.uint8],
    field: NDArray[np.float32],
    block: int,
    out: NDArray[np.uint8],
) -> None:  # pragma: no cover
    """Divide the picture by the gain field, straight between the middles of blocks."""
    width = grey.shape[1]
    rows, columns = field.shape
    factor = np.empty(width, np.int32)  # in 4096ths: whole numbers are faster here
    line = np.empty(columns, np.float32)
    alike = max(1, block // BANDS)
    for y in range(0, grey.shape[0], alike):
        at = min(max((y + 0.5 * alike) / block - 0.5, 0.0), rows - 1.0)
        top = min(int(at), max(rows - 2, 0))
        below = min(top + 1, rows - 1)
        f = np.float32(at - top)
        for c in range(columns):
            line[c] = np.float32(1.0) / (field[top, c] * (np.float32(1.0) - f) + field[below, c] * f)
        half = block // 2
        for x in range(min(half, width)):
            factor[x] = np.int32(line[0] * _FINE + _HALF)
        for c in range(columns):
            start = half + c * block
            slope = (line[min(c + 1, columns - 1)] - line[c]) / np.float32(block)
            for x in range(max(0, min(block, width - start))):
                factor[start + x] = np.int32((line[c] + slope * np.float32(x)) * _FINE + _HALF)
        _scale_rows(grey, factor, out, y, min(y + alike, grey.shape[0]))


_HALF = np.float32(0.5)
_FINE = np.float32(4096.0)
_MOST = np.float32(255.0)
_OCTAVES = np.log2(np.maximum(np.arange(4081, dtype=np.float32) / 16, 0.25)).astype(np.float32)
