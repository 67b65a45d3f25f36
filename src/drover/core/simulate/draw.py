"""Pixel loops of the renderer."""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["cast_shadow", "compose", "develop", "draw_ellipses", "draw_parts", "draw_shadow", "lay_over"]


@njit(cache=True, nogil=True)
def _hash(x: int, y: int) -> float:  # pragma: no cover
    """A fixed pseudo-random number in 0..1 for a cell."""
    n = (x * 374761393 + y * 668265263) & 0xFFFFFFFF
    n = ((n ^ (n >> 13)) * 1274126177) & 0xFFFFFFFF
    return ((n ^ (n >> 16)) & 0xFFFF) / 65535.0


@njit(cache=True, nogil=True)
def compose(
    plate: NDArray[np.float32],
    sway: NDArray[np.float32],
    phase: NDArray[np.float32],
    time: float,
    out: NDArray[np.float32],
) -> None:  # pragma: no cover
    """The ground at ``time``: the plate with its tall grass bent sideways by up to ``sway`` px."""
    height, width = sway.shape
    for y in range(height):
        for x in range(width):
            bend = sway[y, x]
            if bend < 0.02:
                for c in range(3):
                    out[y, x, c] = plate[y, x, c]
                continue
            shift = bend * (math.sin(2.1 * time + phase[y, x]) + 0.5 * math.sin(4.7 * time + 1.7 * phase[y, x]))
            place = min(max(x + shift, 0.0), width - 1.001)
            left = int(place)
            f = place - left
            for c in range(3):
                out[y, x, c] = plate[y, left, c] * (1 - f) + plate[y, left + 1, c] * f


@njit(cache=True, nogil=True)
def draw_shadow(
    picture: NDArray[np.float32], x: float, y: float, half_width: float, half_height: float, depth: float
) -> None:  # pragma: no cover
    """Darken the ground under an animal: an ellipse with a soft rim."""
    height, width = picture.shape[:2]
    for row in range(max(0, int(y - half_height)), min(height, int(y + half_height) + 2)):
        for col in range(max(0, int(x - half_width)), min(width, int(x + half_width) + 2)):
            u, v = (col + 0.5 - x) / half_width, (row + 0.5 - y) / half_height
            rim = 1.0 - (u * u + v * v)
            if rim > 0:
                keep = 1.0 - depth * min(1.0, 1.6 * rim)
                for c in range(3):
                    picture[row, col, c] *= keep


@njit(cache=True, nogil=True)
def cast_shadow(
    picture: NDArray[np.float32],
    parts: NDArray[np.float64],
    ground: float,
    depth: float,
    along: float = 0.55,
    down: float = 0.30,
) -> None:  # pragma: no cover
    """Darken the ground where a body stands in the way of a sun at the upper left.

    Each part is thrown onto the ground line ``ground`` (px): as far to the right as ``along`` of its height above it,
    as far down as ``down`` of it.
    """
    height, width = picture.shape[:2]
    n = parts.shape[0]
    thrown = np.empty((n, 4))
    for k in range(n):
        up = ground - parts[k, 1]
        thrown[k, 0], thrown[k, 1] = parts[k, 0] + along * up, ground + down * up - 0.10 * parts[k, 3]
        thrown[k, 2], thrown[k, 3] = parts[k, 2] + 0.30 * parts[k, 3], 0.42 * parts[k, 3] + 0.06 * parts[k, 2]
    left, right = int((thrown[:, 0] - thrown[:, 2]).min()) - 1, int((thrown[:, 0] + thrown[:, 2]).max()) + 2
    top, bottom = int((thrown[:, 1] - thrown[:, 3]).min()) - 1, int((thrown[:, 1] + thrown[:, 3]).max()) + 2
    for row in range(max(0, top), min(height, bottom)):
        for col in range(max(0, left), min(width, right)):
            most = 0.0
            for k in range(n):
                u, v = (col + 0.5 - thrown[k, 0]) / thrown[k, 2], (row + 0.5 - thrown[k, 1]) / thrown[k, 3]
                soft = min(thrown[k, 2], thrown[k, 3])
                most = max(most, min(1.0, max(0.0, (1.0 - np.sqrt(u * u + v * v)) * soft * 0.8 + 0.5)))
            if most > 0:
                # Open sky still lights a shadow, and its light is bluer than the sun's.
                picture[row, col, 0] *= 1.0 - depth * most
                picture[row, col, 1] *= 1.0 - depth * most
                picture[row, col, 2] *= 1.0 - 0.92 * depth * most


@njit(cache=True, nogil=True)
def draw_parts(
    picture: NDArray[np.float32],
    owner: NDArray[np.int32],
    parts: NDArray[np.float64],
    who: int,
    grain: int,
    sharp: bool,
) -> int:  # pragma: no cover
    """Draw an animal and mark its pixels as its own.

    Where ``sharp`` every edge is a pixel wide; else the ends of what is long and thin are as soft as it is long.

    Returns the pixels its whole silhouette covers, counted beyond the edge of the picture too.
    """
    height, width = owner.shape
    low_x, low_y, high_x, high_y = 1e9, 1e9, -1e9, -1e9
    turned, beyond = np.empty((parts.shape[0], 2)), np.empty(parts.shape[0])
    for k in range(parts.shape[0]):
        turned[k, 0], turned[k, 1] = math.cos(parts[k, 4]), math.sin(parts[k, 4])
        # Half a pixel outside its rim nothing of a part is left, however its edge is drawn; most pixels are farther.
        beyond[k] = 1.000001 * (1.0 + 0.5 / min(parts[k, 2], parts[k, 3])) ** 2
        reach = max(parts[k, 2], parts[k, 3]) + 1
        low_x, high_x = min(low_x, parts[k, 0] - reach), max(high_x, parts[k, 0] + reach)
        low_y, high_y = min(low_y, parts[k, 1] - reach), max(high_y, parts[k, 1] + reach)
    covered = 0
    for row in range(int(math.floor(low_y)), int(high_y) + 2):
        for col in range(int(math.floor(low_x)), int(high_x) + 2):
            most = 0.0
            inside = 0 <= row < height and 0 <= col < width
            for k in range(parts.shape[0]):
                dx, dy = col + 0.5 - parts[k, 0], row + 0.5 - parts[k, 1]
                cos, sin = turned[k, 0], turned[k, 1]
                u, v = (dx * cos + dy * sin) / parts[k, 2], (-dx * sin + dy * cos) / parts[k, 3]
                if u * u + v * v > beyond[k]:
                    continue
                r = math.sqrt(u * u + v * v)
                soft = min(parts[k, 2], parts[k, 3])
                if sharp and r > 1e-6:
                    steep = math.hypot(u / parts[k, 2], v / parts[k, 3]) / r  # of r, a pixel
                    soft = min(1.0 / steep, 1e3)
                alpha = min(1.0, max(0.0, (1.0 - r) * soft + 0.5))
                if alpha <= 0:
                    continue
                most = max(most, alpha)
                if not inside:
                    continue
                relief, curl = parts[k, 8], parts[k, 9]
                lit = 1.0
                if relief > 0:
                    depth = math.sqrt(max(0.0, 1.0 - min(1.0, r * r)))
                    lit = 1.0 - relief * (
                        0.34 - 0.20 * depth - 0.26 * (-0.55 * (dx / parts[k, 2]) - 0.83 * (dy / parts[k, 3]))
                    )
                if curl > 0:
                    cell_x, cell_y = int(math.floor(dx * 0.55)) + grain, int(math.floor(dy * 0.55)) - grain
                    lit += curl * 0.13 * (_hash(cell_x, cell_y) - 0.5)
                for c in range(3):
                    tone = parts[k, 5 + c] * lit
                    picture[row, col, c] = picture[row, col, c] * (1 - alpha) + tone * alpha
            if most >= 0.5:
                covered += 1
                if inside:
                    owner[row, col] = who
    return covered


@njit(cache=True, nogil=True)
def lay_over(
    picture: NDArray[np.float32],
    owner: NDArray[np.int32],
    colour: NDArray[np.float32],
    alpha: NDArray[np.float32],
    top: int,
    left: int,
) -> None:  # pragma: no cover
    """Lay a tree crown over the picture; what it hides belongs to nobody."""
    height, width = owner.shape
    for y in range(alpha.shape[0]):
        row = y + top
        if not 0 <= row < height:
            continue
        for x in range(alpha.shape[1]):
            col = x + left
            a = alpha[y, x]
            if a <= 0 or not 0 <= col < width:
                continue
            for c in range(3):
                picture[row, col, c] = picture[row, col, c] * (1 - a) + colour[y, x, c] * a
            if a >= 0.5:
                owner[row, col] = 0


@njit(cache=True, nogil=True)
def develop(
    picture: NDArray[np.float32],
    cloud: NDArray[np.float32],
    cloud_x: float,
    depth: float,
    gain: float,
    cell: float,
    noise: NDArray[np.int8],
    noise_x: int,
    noise_y: int,
    out: NDArray[np.uint8],
) -> None:  # pragma: no cover
    """Light, cloud shadow and sensor noise: float picture to uint8 (height, width, 3)."""
    height, width = out.shape[:2]
    for y in range(height):
        gy = min(y / cell, cloud.shape[0] - 1.001)
        iy = int(gy)
        fy = gy - iy
        for x in range(width):
            gx = (x + cloud_x) / cell
            gx -= math.floor(gx / (cloud.shape[1] - 1)) * (cloud.shape[1] - 1)
            ix = min(int(gx), cloud.shape[1] - 2)
            fx = gx - ix
            shade = (cloud[iy, ix] * (1 - fx) + cloud[iy, ix + 1] * fx) * (1 - fy) + (
                cloud[iy + 1, ix] * (1 - fx) + cloud[iy + 1, ix + 1] * fx
            ) * fy
            light = gain * (1.0 - depth * shade)
            grain = noise[(y + noise_y) % noise.shape[0], (x + noise_x) % noise.shape[1]] * 0.1
            for c in range(3):
                value = picture[y, x, c] * light + grain
                out[y, x, c] = np.uint8(min(255.0, max(0.0, value + 0.5)))


@njit(cache=True, nogil=True)
def draw_ellipses(
    picture: NDArray[np.float32], alpha_out: NDArray[np.float32], rows: NDArray[np.float64]
) -> None:  # pragma: no cover
    """Many small shaded ellipses (leaves, tufts, stones): x, y, half width, half height, tilt, r, g, b, alpha."""
    height, width = picture.shape[:2]
    for k in range(rows.shape[0]):
        reach = max(rows[k, 2], rows[k, 3]) + 1
        cos, sin = math.cos(rows[k, 4]), math.sin(rows[k, 4])
        for y in range(max(0, int(rows[k, 1] - reach)), min(height, int(rows[k, 1] + reach) + 2)):
            for x in range(max(0, int(rows[k, 0] - reach)), min(width, int(rows[k, 0] + reach) + 2)):
                dx, dy = x + 0.5 - rows[k, 0], y + 0.5 - rows[k, 1]
                u, v = (dx * cos + dy * sin) / rows[k, 2], (-dx * sin + dy * cos) / rows[k, 3]
                r = math.sqrt(u * u + v * v)
                a = min(1.0, max(0.0, (1.0 - r) * min(rows[k, 2], rows[k, 3]) + 0.5)) * rows[k, 8]
                if a <= 0:
                    continue
                lit = 1.0 + 0.16 * (-u * 0.4 - v * 0.9)
                for c in range(3):
                    picture[y, x, c] = picture[y, x, c] * (1 - a) + rows[k, 5 + c] * lit * a
                alpha_out[y, x] = alpha_out[y, x] + (1.0 - alpha_out[y, x]) * a
