"""Two detectors of corners: the least eigenvalue, which is exact, and the segment test, which is fast.

Both give (n, 3) float64: x, y px to a fraction, and strength. Least eigenvalue: Shi and Tomasi 1994, "Good features to
track"; segment test: Rosten and Drummond 2006, "Machine learning for high-speed corner detection", section 2, without
its decision tree: two compass points and those across reject most of a row at once.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.features.points import peaks

__all__ = ["eigen_corners", "eigen_strength", "segment_corners"]

Grey = NDArray[np.uint8]
Float = NDArray[np.float64]
Float32 = NDArray[np.float32]
AROUND = 3  # px each way over which gradients are summed
ARC = 9  # of the sixteen pixels round a corner must in a row be lighter, or darker
RIM = 4  # px
RING_X = np.array([0, 1, 2, 3, 3, 3, 2, 1, 0, -1, -2, -3, -3, -3, -2, -1], np.int64)
RING_Y = np.array([-3, -3, -2, -1, 0, 1, 2, 3, 3, 3, 2, 1, 0, -1, -2, -3], np.int64)


def eigen_corners(grey: Grey, noise: float = 1.5) -> Float:
    """Corners of a picture (height, width) uint8 by their least eigenvalue.

    ``noise`` levels of a pixel, one standard deviation: what noise alone would give is left out.
    """
    # A gradient by central differences has half of twice the noise's variance; four times that is no accident.
    return peaks(eigen_strength(grey), 4.0 * 0.5 * noise**2, RIM + AROUND)


@njit(cache=True, nogil=True, fastmath=True)
def eigen_strength(grey: Grey) -> Float32:  # pragma: no cover
    """The lesser eigenvalue of the mean of the gradients' squares round each pixel, levels squared, (height, width)."""
    height, width = grey.shape
    side = 2 * AROUND + 1
    xx, xy = np.zeros((height, width), np.float32), np.zeros((height, width), np.float32)
    yy = np.zeros((height, width), np.float32)
    for y in range(1, height - 1):
        above, row, below = grey[y - 1], grey[y], grey[y + 1]
        for x in range(1, width - 1):
            dx = np.float32(0.5) * (np.float32(row[x + 1]) - np.float32(row[x - 1]))
            dy = np.float32(0.5) * (np.float32(below[x]) - np.float32(above[x]))
            xx[y, x], xy[y, x], yy[y, x] = dx * dx, dx * dy, dy * dy
    out = np.zeros((height, width), np.float32)
    down = np.zeros((3, width), np.float32)
    scale = np.float32(1.0 / (side * side))
    for y in range(AROUND + 1, height - AROUND - 1):
        down[:] = 0
        for v in range(y - AROUND, y + AROUND + 1):
            for x in range(width):
                down[0, x] += xx[v, x]
                down[1, x] += xy[v, x]
                down[2, x] += yy[v, x]
        row_out = out[y]
        for x in range(AROUND + 1, width - AROUND - 1):
            a, b, c = np.float32(0), np.float32(0), np.float32(0)
            for u in range(x - AROUND, x + AROUND + 1):
                a += down[0, u]
                b += down[1, u]
                c += down[2, u]
            half, apart = np.float32(0.5) * (a + c), np.float32(0.5) * (a - c)
            row_out[x] = scale * (half - np.sqrt(apart * apart + b * b))
    return out


def segment_corners(grey: Grey, threshold: int = 20) -> Float:
    """Corners of a picture (height, width) uint8 by the segment test; ``threshold`` levels that the ring must differ.

    The strength is the least difference of the best arc, levels; of neighbours the strongest stays.
    """
    if min(grey.shape) <= 2 * RIM:
        return np.zeros((0, 3))
    found = _segment_test(np.ascontiguousarray(grey), threshold)
    return _strongest(found, grey.shape[0], grey.shape[1])


@njit(cache=True, nogil=True)
def _segment_test(grey: Grey, threshold: int) -> NDArray[np.int32]:  # pragma: no cover
    """Every pixel that passes the test, (n, 3) int32: x, y, strength, row by row."""
    height, width = grey.shape
    out = np.empty((4096, 3), np.int32)
    count = 0
    flat, offset = grey.reshape(-1), RING_Y * width + RING_X
    far, room = np.int16(min(threshold, 255)), np.empty((3, 32), np.int16)
    may = np.zeros((len(flat) + 31) // 32 * 32, np.uint8)
    _may_be(flat, width, np.uint8(far), may)
    eights = may.view(np.uint64)
    for four in range(0, len(eights), 4):
        if eights[four] | eights[four + 1] | eights[four + 2] | eights[four + 3] == 0:  # as nearly everywhere
            continue
        for at in range(8 * four, 8 * four + 32):
            if may[at] == 0:
                continue
            y = at // width
            x = at - y * width
            if x < RIM or x >= width - RIM or y < RIM or y >= height - RIM:
                continue
            best = _strength(flat, at, far, offset, room)
            if best <= threshold:
                continue
            if count == len(out):
                more = np.empty((2 * count, 3), np.int32)
                more[:count] = out
                out = more
            out[count, 0], out[count, 1], out[count, 2] = x, y, best
            count += 1
    return out[:count]


@njit(cache=True, nogil=True)
def _may_be(flat: Grey, width: int, far: np.uint8, may: Grey) -> None:  # pragma: no cover
    """Mark pixels that an arc of nine can still surround: of any two across, one at least differs enough.

    The picture is one long row; what is said of pixels near its rim, whose neighbours are elsewhere, means nothing.
    """
    # Nine in a row of sixteen hold at least one of any two pixels across, and they are all lighter or all darker.
    # Each neighbour is a view of its own and all stays within bytes, so that the compiler takes the most pixels at
    # once; limits that a byte cannot hold are ones that nothing passes.
    rim = 3 * width + 3
    n = len(flat) - 2 * rim
    middles, marks = flat[rim : rim + n], may[rim : rim + n]
    a1, a2 = flat[rim - 3 :], flat[rim + 3 :]
    b1, b2 = flat[rim - 3 * width :], flat[rim + 3 * width :]
    c1, c2 = flat[rim - 2 * width - 2 :], flat[rim + 2 * width + 2 :]
    d1, d2 = flat[rim - 2 * width + 2 :], flat[rim + 2 * width - 2 :]
    e1, e2 = flat[rim - 3 * width - 1 :], flat[rim + 3 * width + 1 :]
    f1, f2 = flat[rim - 3 * width + 1 :], flat[rim + 3 * width - 1 :]
    g1, g2 = flat[rim - width - 3 :], flat[rim + width + 3 :]
    h1, h2 = flat[rim - width + 3 :], flat[rim + width - 3 :]
    top = np.uint8(np.uint8(255) - far)
    for x in range(n):
        high, low = np.uint8(min(middles[x], top) + far), np.uint8(max(middles[x], far) - far)
        light = min(min(max(a1[x], a2[x]), max(b1[x], b2[x])), min(max(c1[x], c2[x]), max(d1[x], d2[x])))
        more = min(min(max(e1[x], e2[x]), max(f1[x], f2[x])), min(max(g1[x], g2[x]), max(h1[x], h2[x])))
        dark = max(max(min(a1[x], a2[x]), min(b1[x], b2[x])), max(min(c1[x], c2[x]), min(d1[x], d2[x])))
        less = max(max(min(e1[x], e2[x]), min(f1[x], f2[x])), max(min(g1[x], g2[x]), min(h1[x], h2[x])))
        marks[x] = np.uint8((min(light, more) > high) | (max(dark, less) < low))


@njit(cache=True, nogil=True)
def _strength(
    flat: Grey, at: int, far: np.int16, offset: NDArray[np.int64], room: NDArray[np.int16]
) -> int | np.int16:  # pragma: no cover
    """The least difference of the best arc round a pixel, 0 where none passes; ``room`` (3, 32) is to work in."""
    middle, ring = np.int16(flat[at]), room[0]
    for k in range(16):
        ring[k] = ring[k + 16] = np.int16(np.int16(flat[at + offset[k]]) - middle)
    light, dark = np.uint32(0), np.uint32(0)
    for k in range(16):
        light |= np.uint32(ring[k] > far) << np.uint32(k)
        dark |= np.uint32(ring[k] < -far) << np.uint32(k)
    if not (_has_arc(light) or _has_arc(dark)):
        return np.int16(0)
    return _best_arc(ring, room[1], room[2])


@njit(cache=True, nogil=True)
def _has_arc(bits: np.uint32) -> bool:  # pragma: no cover
    """Whether nine of sixteen bits in a ring are set in a row."""
    round_ = bits | (bits << np.uint32(16))
    two = round_ & (round_ >> np.uint32(1))
    four = two & (two >> np.uint32(2))
    eight = four & (four >> np.uint32(4))
    return (eight & (round_ >> np.uint32(8))) & np.uint32(0xFFFF) != 0


@njit(cache=True, nogil=True)
def _best_arc(
    ring: NDArray[np.int16], light: NDArray[np.int16], dark: NDArray[np.int16]
) -> int | np.int16:  # pragma: no cover
    """The largest of the least differences over all arcs, lighter or darker; ``ring`` goes round twice, (32,).

    The least and the most of two in a row make those of four, these those of eight, and with one more those of nine;
    ``light`` and ``dark`` (32,) hold them on the way.
    """
    for k in range(31):
        light[k], dark[k] = min(ring[k], ring[k + 1]), max(ring[k], ring[k + 1])
    for k in range(29):
        light[k], dark[k] = min(light[k], light[k + 2]), max(dark[k], dark[k + 2])
    best = np.int16(0)
    for k in range(16):
        lightest = min(min(light[k], light[k + 4]), ring[k + 8])
        darkest = max(max(dark[k], dark[k + 4]), ring[k + 8])
        best = max(best, max(lightest, np.int16(-darkest)))
    return best


@njit(cache=True, nogil=True)
def _strongest(found: NDArray[np.int32], height: int, width: int) -> Float:  # pragma: no cover
    """Those that are stronger than their eight neighbours, (n, 3); of equals the first."""
    out = np.empty((len(found), 3), np.float64)
    rows = np.zeros((3, width + 2), np.int32)
    start = np.searchsorted(found[:, 1], np.arange(height + 1))
    count = 0
    for y in range(RIM, height - RIM):
        if start[y] == start[y + 1]:
            continue
        for k in range(3):
            rows[k, :] = 0
            line = y - 1 + k
            for j in range(start[line], start[line + 1]):
                rows[k, found[j, 0]] = found[j, 2]
        for j in range(start[y], start[y + 1]):
            x, value = found[j, 0], found[j, 2]
            before = max(rows[0, x - 1], rows[0, x], rows[0, x + 1], rows[1, x - 1])
            after = max(rows[1, x + 1], rows[2, x - 1], rows[2, x], rows[2, x + 1])
            if value > before and value >= after:
                out[count, 0], out[count, 1], out[count, 2] = x + 0.5, y + 0.5, value
                count += 1
    return out[:count]
