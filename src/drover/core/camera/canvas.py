"""Pictures laid on a canvas, and what is found there brought back into the picture."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.both_cores import in_bands
from drover.core.features.models import apply, inverse, local_scale
from drover.core.kernel_parts import read_only

__all__ = ["boxes_along", "half_size", "lay_on", "runs_along", "show_ground"]

Float = NDArray[np.float64]
Float32 = NDArray[np.float32]
Grey = NDArray[np.uint8]
FINE = 64  # steps between two pixels


def lay_on(plane: Grey, back: Float, ground: Float32, out: Grey) -> None:
    """A plane (height, width) of a picture on a canvas ``out``, in place, between its pixels in straight lines.

    ``back`` (3, 3) takes the canvas' px to the picture's. Where the picture does not reach, ``ground`` (as ``out``)
    shows.
    """
    in_bands(_lay_rows, len(out), plane, np.ascontiguousarray(back), ground, out)


def half_size(matrix: Float) -> Float:
    """The same motion for planes of half the width and height."""
    return np.diag([0.5, 0.5, 1.0]) @ matrix @ np.diag([2.0, 2.0, 1.0])


@njit(cache=True, nogil=True)
def _lay_rows(plane: Grey, back: Float, ground: Float32, out: Grey, first: int, past: int) -> None:  # pragma: no cover
    columns = out.shape[1]
    flat = abs(back[2, 0]) < 1e-12 and abs(back[2, 1]) < 1e-12
    for r in range(first, past):
        if not flat:
            _lay_tilted(plane, back, ground[r], out[r], r)
            continue
        x = back[0, 0] * 0.5 + back[0, 1] * (r + 0.5) + back[0, 2] - 0.5
        y = back[1, 0] * 0.5 + back[1, 1] * (r + 0.5) + back[1, 2] - 0.5
        begin, end = _within(x, back[0, 0], plane.shape[1] - 1.0, 0, columns)
        begin, end = _within(y, back[1, 0], plane.shape[0] - 1.0, begin, end)
        _show_ground(ground[r], out[r], 0, begin)
        _show_ground(ground[r], out[r], end, columns)
        _lay_row(plane, out[r], begin, end, x, y, back[0, 0], back[1, 0])


@njit(cache=True, nogil=True)
def _within(at: float, step: float, most: float, begin: int, end: int) -> tuple[int, int]:  # pragma: no cover
    """The columns of ``begin`` to ``end`` at which ``at`` + column x ``step`` lies in 0.5 .. ``most`` - 0.5."""
    low, high = 0.5, most - 0.5
    if abs(step) < 1e-12:
        return (begin, end) if low <= at <= high else (begin, begin)
    a, b = (low - at) / step, (high - at) / step
    if a > b:
        a, b = b, a
    begin = max(begin, min(int(np.ceil(max(a, -1.0))), end))
    end = min(end, max(int(np.floor(min(b, end + 1.0))) + 1, begin))
    return begin, end


@njit(cache=True, nogil=True)
def _show_ground(ground: Float32, out: Grey, begin: int, end: int) -> None:  # pragma: no cover
    for c in range(begin, end):
        out[c] = np.uint8(min(max(ground[c] + np.float32(0.5), np.float32(0)), np.float32(255)))


@njit(cache=True, nogil=True)
def _lay_row(
    plane: Grey, out: Grey, begin: int, end: int, x: float, y: float, step_x: float, step_y: float
) -> None:  # pragma: no cover
    """A row of a motion without tilt, stretch by stretch in which neighbours of the canvas are neighbours in the plane.

    There the same two rows of the plane are gone through pixel by pixel, many at once.
    """
    one, bits = np.int64(1) << 16, np.int64(16)
    at_x, at_y = np.int64((x + step_x * begin) * one), np.int64((y + step_y * begin) * one)
    dx, dy = np.int64(step_x * one) - one, np.int64(step_y * one)
    c = begin
    while c < end:
        x0, y0 = at_x >> bits, at_y >> bits
        n = min(_steps(at_x - (x0 << bits), dx), _steps(at_y - (y0 << bits), dy), end - c)
        fx, fy = np.int32(at_x - (x0 << bits)), np.int32(at_y - (y0 << bits))
        top, low = plane[y0, x0 : x0 + n + 1], plane[y0 + 1, x0 : x0 + n + 1]
        part = out[c : c + n]
        gx, gy = np.int32(dx), np.int32(dy)
        for i in range(n):
            wx, wy = (fx + np.int32(i) * gx) >> np.int32(10), (fy + np.int32(i) * gy) >> np.int32(10)
            above = np.int32(top[i]) * (np.int32(FINE) - wx) + np.int32(top[i + 1]) * wx
            below = np.int32(low[i]) * (np.int32(FINE) - wx) + np.int32(low[i + 1]) * wx
            both = above * (np.int32(FINE) - wy) + below * wy
            part[i] = np.uint8((both + np.int32(FINE * FINE // 2)) >> np.int32(12))
        c += n
        at_x += n * (dx + one)
        at_y += n * dy


@njit(cache=True, nogil=True)
def _steps(past: int | np.int64, step: int | np.int64) -> int | np.int64:  # pragma: no cover
    """How many columns, one at least, from ``past`` (of 65536 to a pixel) by steps of ``step`` to the next pixel."""
    if step == 0:
        return 1 << 30
    return max((65536 - past + step - 1) // step if step > 0 else past // -step + 1, 1)


@njit(cache=True, nogil=True, fastmath=True)
def _lay_tilted(plane: Grey, back: Float, ground: Float32, out: Grey, r: int) -> None:  # pragma: no cover
    """A row of a motion that tilts, pixel by pixel."""
    height, width = plane.shape
    for c in range(out.shape[0]):
        last = back[2, 0] * (c + 0.5) + back[2, 1] * (r + 0.5) + back[2, 2]
        x = (back[0, 0] * (c + 0.5) + back[0, 1] * (r + 0.5) + back[0, 2]) / last - 0.5
        y = (back[1, 0] * (c + 0.5) + back[1, 1] * (r + 0.5) + back[1, 2]) / last - 0.5
        if not (0.5 <= x <= width - 1.5 and 0.5 <= y <= height - 1.5):
            out[c] = np.uint8(min(max(ground[c] + np.float32(0.5), np.float32(0)), np.float32(255)))
            continue
        fx, fy = int(x * FINE), int(y * FINE)
        x0, y0 = fx // FINE, fy // FINE
        fx, fy = fx - x0 * FINE, fy - y0 * FINE
        top = np.int32(plane[y0, x0]) * (FINE - fx) + np.int32(plane[y0, x0 + 1]) * fx
        low = np.int32(plane[y0 + 1, x0]) * (FINE - fx) + np.int32(plane[y0 + 1, x0 + 1]) * fx
        out[c] = np.uint8((top * (FINE - fy) + low * fy + FINE * FINE // 2) // (FINE * FINE))


@njit(cache=True, nogil=True)
def show_ground(where: NDArray[np.bool_], ground: Float32, out: Grey) -> None:  # pragma: no cover
    """The ground, and nothing of the picture, at the px of a canvas (height, width) marked by ``where``, in place."""
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            if where[y, x]:
                out[y, x] = np.uint8(min(max(ground[y, x] + np.float32(0.5), np.float32(0)), np.float32(255)))


def boxes_along(box: NDArray[np.floating], matrix: Float) -> Float32:
    """Boxes (n, 4) px taken along by a motion: their middles go with it, their sides grow as it zooms there.

    A box stays upright and keeps its shape, so that there and back again is where it was.
    """
    if not len(box):
        return np.zeros((0, 4), np.float32)
    sides = np.asarray(box, np.float64)
    middle, half = (sides[:, :2] + sides[:, 2:]) / 2, (sides[:, 2:] - sides[:, :2]) / 2
    there, zoom = apply(matrix, middle), local_scale(matrix, middle)[:, None]
    return np.concatenate([there - half * zoom, there + half * zoom], axis=1).astype(np.float32)


def runs_along(
    runs: NDArray[np.int16], run_count: NDArray[np.int64], back: Float, low: tuple[int, int], high: tuple[int, int]
) -> tuple[NDArray[np.int16], NDArray[np.int64]]:
    """Blobs given by their runs, drawn anew after a motion: runs (n, 3) and how many each blob has.

    ``back`` (3, 3) takes the new px to the old; nothing is drawn outside ``low`` to ``high`` (x, y). A blob of which
    nothing is left has no runs.
    """
    if not len(run_count):
        return np.zeros((0, 3), np.int16), np.zeros(0, np.int64)
    start = np.concatenate([[0], np.cumsum(run_count)]).astype(np.int64)
    forth = inverse(back)
    return _drawn_anew(
        read_only(np.ascontiguousarray(runs)), start, np.ascontiguousarray(back), np.ascontiguousarray(forth),
        np.array([*low, *high], np.int64),
    )  # fmt: skip


@njit(cache=True, nogil=True)
def _drawn_anew(
    runs: NDArray[np.int16], start: NDArray[np.int64], back: Float, forth: Float, edge: NDArray[np.int64]
) -> tuple[NDArray[np.int16], NDArray[np.int64]]:  # pragma: no cover
    n = len(start) - 1
    out = np.empty((max(64, 2 * len(runs)), 3), np.int16)
    counts = np.zeros(n, np.int64)
    total = 0
    for k in range(n):
        if start[k] == start[k + 1]:
            continue
        own = runs[start[k] : start[k + 1]]
        x0, x1, y0, y1 = own[:, 1].min(), own[:, 2].max(), own[:, 0].min(), own[:, 0].max() + 1
        mask = np.zeros((y1 - y0, x1 - x0), np.uint8)
        for j in range(len(own)):
            mask[own[j, 0] - y0, own[j, 1] - x0 : own[j, 2] - x0] = 1
        left, top, right, bottom = 1e9, 1e9, -1e9, -1e9
        for corner in range(4):
            u, v = float(x0 if corner % 2 == 0 else x1), float(y0 if corner < 2 else y1)
            last = forth[2, 0] * u + forth[2, 1] * v + forth[2, 2]
            px = (forth[0, 0] * u + forth[0, 1] * v + forth[0, 2]) / last
            py = (forth[1, 0] * u + forth[1, 1] * v + forth[1, 2]) / last
            left, right, top, bottom = min(left, px), max(right, px), min(top, py), max(bottom, py)
        for y in range(max(int(np.floor(top)), edge[1]), min(int(np.ceil(bottom)) + 1, edge[3])):
            begun = -1
            for x in range(max(int(np.floor(left)), edge[0]), min(int(np.ceil(right)) + 1, edge[2]) + 1):
                inside = False
                if x < min(int(np.ceil(right)) + 1, edge[2]):
                    last = back[2, 0] * (x + 0.5) + back[2, 1] * (y + 0.5) + back[2, 2]
                    u = int(np.floor((back[0, 0] * (x + 0.5) + back[0, 1] * (y + 0.5) + back[0, 2]) / last)) - x0
                    v = int(np.floor((back[1, 0] * (x + 0.5) + back[1, 1] * (y + 0.5) + back[1, 2]) / last)) - y0
                    inside = 0 <= u < mask.shape[1] and 0 <= v < mask.shape[0] and mask[v, u] == 1
                if inside and begun < 0:
                    begun = x
                elif not inside and begun >= 0:
                    if total == len(out):
                        more = np.empty((2 * total, 3), np.int16)
                        more[:total] = out
                        out = more
                    out[total, 0], out[total, 1], out[total, 2] = y, begun, x
                    total += 1
                    counts[k] += 1
                    begun = -1
    return out[:total], counts
