"""Light that changes: each picture is brought back to the light of the background before it is compared.

The ratio of picture to background is taken block by block as a median, so that an object in a block does not
matter; blocks whose pixels do not agree hold something, and say nothing; a median over neighbouring blocks drops
objects that fill a block; what is left is a smooth field of gain: a passing cloud, a gliding exposure, a lamp. The
gain of the whole picture is watched for jumps.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["LightFollower", "block_ratios", "even_out", "median_of_even"]

BLOCKS_ACROSS = 40
SAMPLES = 8  # a side: 64 pixels of each block are looked at
DARKEST = 12.0  # grey levels: darker background says nothing about the ratio
STEPS_PER_OCTAVE = 48
BLACKEST = 0.01  # share of the background's light under which a picture is black
REFRESH = 0.1  # s between two looks at the whole field while the light is steady
MOVED = 0.012  # change of the coarse look from which the field is taken at once
BLUR = 0.8  # blocks
COHERENT = 0.6  # of the usual share of a block's samples near its median, under which other things stand in it
NEAR = 3  # steps of an octave from the median
LEAST_EVEN = 5  # blocks around, of which the median is taken
FURTHEST = 6  # blocks that are looked at each way
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
        self._looked = 0.0
        self._field: NDArray[np.float32] | None = None
        self._out = np.empty((height, width), np.uint8)

    def even(
        self, grey: NDArray[np.uint8], background: NDArray[np.float32], time: float = 0.0
    ) -> tuple[NDArray[np.uint8], float | None]:
        """The picture in the background's light, and the factor of a jump if there was one.

        The field is taken anew a few times a second, and at once when a coarse look says that the light has moved.
        """
        step = 2 * self.block
        coarse = grey[::step, ::step] / np.maximum(background[::step, ::step], 1.0)
        glance = max(float(np.median(coarse)), BLACKEST)  # a blackout has no light to compare with
        moved = abs(glance / self._glance - 1.0) > MOVED
        change = None
        if self._field is None or moved or abs(time - self._looked) >= REFRESH:
            ratio, alike = block_ratios(grey, background, self.block, _OCTAVES)
            even = alike >= COHERENT * float(np.median(alike))
            self._field = smoothed(median_of_even(ratio, even))
            now = float(np.median(self._field))
            change, self.gain = now / self.gain, now
            self._glance, self._looked = glance, time
        even_out(grey, self._field, self.block, self._out)
        return self._out, change if change is not None and abs(change - 1.0) >= self.jump else None


@njit(cache=True, nogil=True)
def block_ratios(
    grey: NDArray[np.uint8], background: NDArray[np.float32], block: int, octaves: NDArray[np.float32]
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:  # pragma: no cover
    """Median ratio of picture to background in each block, (rows, columns) float32; 1 where all is too dark.

    And the share of a block's samples that lie near that median. ``octaves`` (4081,) holds the binary logarithm of
    each sixteenth of a grey level.
    """
    height, width = grey.shape
    rows, columns = -(-height // block), -(-width // block)
    out, alike = np.ones((rows, columns), np.float32), np.ones((rows, columns), np.float32)
    bins, seen = np.empty((columns, 4 * STEPS_PER_OCTAVE + 1), np.int32), np.empty(columns, np.int32)
    for r in range(rows):
        bins[:] = 0
        seen[:] = 0
        for i in range(SAMPLES):
            y = r * block + (2 * i + 1) * block // (2 * SAMPLES)
            if y < height:
                _count_ratios(grey[y], background[y], block, octaves, bins, seen)
        for c in range(columns):
            if seen[c] >= SAMPLES:
                out[r, c] = _middle_ratio(bins[c], seen[c])
                alike[r, c] = _near_the_middle(bins[c], seen[c])
    return out, alike


@njit(cache=True, nogil=True)
def _count_ratios(
    grey: NDArray[np.uint8],
    background: NDArray[np.float32],
    block: int,
    octaves: NDArray[np.float32],
    bins: NDArray[np.int32],
    seen: NDArray[np.int32],
) -> None:  # pragma: no cover
    """Add the samples of one row to the histograms of the blocks that it goes through."""
    sixteen, steps, two = np.float32(16.0), np.float32(STEPS_PER_OCTAVE), np.float32(2.0)
    most = bins.shape[1] - 1
    for c in range(bins.shape[0]):
        for j in range(SAMPLES):
            x = c * block + (2 * j + 1) * block // (2 * SAMPLES)
            if x >= grey.shape[0] or background[x] < DARKEST or grey[x] == 255:
                continue
            apart = octaves[16 * grey[x]] - octaves[int(min(background[x], _MOST) * sixteen)]
            bins[c, min(max(int((apart + two) * steps + _HALF), 0), most)] += 1
            seen[c] += 1


@njit(cache=True, nogil=True)
def _middle_bin(bins: NDArray[np.int32], half: int) -> tuple[int, int]:  # pragma: no cover
    """The bin that the value after ``half`` others lies in, and how many values lie up to its end."""
    seen, k = 0, -1
    while seen <= half:
        k += 1
        seen += bins[k]
    return k, seen


@njit(cache=True, nogil=True)
def _middle_ratio(bins: NDArray[np.int32], n: int) -> np.float32:  # pragma: no cover
    """The median of a histogram of ``n`` ratios: between the middles of the bins, by how far into one it lies."""
    half = n // 2
    k, seen = _middle_bin(bins, half)
    inside = (half - (seen - bins[k]) + 0.5) / bins[k] - 0.5
    return np.float32(2.0 ** ((k + inside) / STEPS_PER_OCTAVE - 2.0))


@njit(cache=True, nogil=True)
def _near_the_middle(bins: NDArray[np.int32], n: int) -> np.float32:  # pragma: no cover
    """Share of a histogram of ``n`` ratios that lies within ``NEAR`` bins of the median's."""
    k, _ = _middle_bin(bins, n // 2)
    return np.float32(bins[max(0, k - NEAR) : k + NEAR + 1].sum() / n)


@njit(cache=True, nogil=True)
def median_of_even(field: NDArray[np.float32], even: NDArray[np.bool_]) -> NDArray[np.float32]:  # pragma: no cover
    """Median of the even ones among the 5 by 5 neighbours of every cell, or further around where those are few."""
    rows, columns = field.shape
    out = np.empty_like(field)
    trusted = np.empty((2 * FURTHEST + 1) ** 2, np.float32)
    for r in range(rows):
        for c in range(columns):
            m, reach = 0, 0
            while m < LEAST_EVEN and reach < FURTHEST:
                m, reach = 0, reach + 2
                for y in range(max(0, r - reach), min(rows, r + reach + 1)):
                    for x in range(max(0, c - reach), min(columns, c + reach + 1)):
                        if even[y, x]:
                            trusted[m] = field[y, x]
                            m += 1
            out[r, c] = np.median(trusted[:m]) if m > 0 else field[r, c]
    return out


@njit(cache=True, nogil=True)
def smoothed(field: NDArray[np.float32]) -> NDArray[np.float32]:  # pragma: no cover
    """The field under a Gaussian of ``BLUR`` cells; beyond the edge the edge goes on."""
    rows, columns = field.shape
    reach = int(4 * BLUR)
    weight = np.exp(-0.5 * (np.arange(-reach, reach + 1) / BLUR) ** 2)
    weight /= weight.sum()
    down, out = np.zeros((rows, columns)), np.zeros((rows, columns))
    for k in range(-reach, reach + 1):
        for r in range(rows):
            down[r] += weight[k + reach] * field[min(max(r + k, 0), rows - 1)]
    for k in range(-reach, reach + 1):
        for c in range(columns):
            out[:, c] += weight[k + reach] * down[:, min(max(c + k, 0), columns - 1)]
    return out.astype(np.float32)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _scale_rows(
    grey: NDArray[np.uint8], factor: NDArray[np.float32], out: NDArray[np.uint8], first: int, past: int
) -> None:  # pragma: no cover
    for y in range(first, past):
        for x in range(grey.shape[1]):
            # By way of 32-bit whole numbers: straight to a byte is taken through 64 bits, twice as slow.
            out[y, x] = np.uint8(np.int32(min(np.float32(grey[y, x]) * factor[x] + _HALF, _MOST)))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def even_out(
    grey: NDArray[np.uint8],
    field: NDArray[np.float32],
    block: int,
    out: NDArray[np.uint8],
) -> None:  # pragma: no cover
    """Divide the picture by the gain field, straight between the middles of blocks."""
    width = grey.shape[1]
    rows, columns = field.shape
    factor = np.empty(width, np.float32)
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
            factor[x] = line[0]
        for c in range(columns):
            start = half + c * block
            slope = (line[min(c + 1, columns - 1)] - line[c]) / np.float32(block)
            for x in range(max(0, min(block, width - start))):
                factor[start + x] = line[c] + slope * np.float32(x)
        _scale_rows(grey, factor, out, y, min(y + alike, grey.shape[0]))


_HALF = np.float32(0.5)
_MOST = np.float32(255.0)
_OCTAVES = np.log2(np.maximum(np.arange(4081, dtype=np.float32) / 16, 0.25)).astype(np.float32)
