"""Lines drawn into pictures: smooth at their edges, of any width, solid or broken."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

__all__ = ["draw_stroke", "draw_strokes"]


@njit(cache=True, nogil=True)
def draw_strokes(
    picture: NDArray[np.uint32],
    window: NDArray[np.int64],
    points: NDArray[np.float32],
    start: NDArray[np.int64],
    width: NDArray[np.float64],
    tint: NDArray[np.int64],
    broken: NDArray[np.float64],
) -> None:  # pragma: no cover
    """Draw many lines onto a picture, one after the other, as :func:`draw_stroke` draws each.

    The points of line k are ``points[start[k]:start[k + 1]]``; ``width`` (lines,), ``tint`` (lines, 4) and ``broken``
    (lines, 2) are those of each.
    """
    for k in range(len(width)):
        draw_stroke(picture, window, points[start[k] : start[k + 1]], width[k], tint[k], (broken[k, 0], broken[k, 1]))


@njit(cache=True, nogil=True)
def draw_stroke(
    picture: NDArray[np.uint32],
    window: NDArray[np.int64],
    points: NDArray[np.float32],
    width: float,
    tint: NDArray[np.int64],
    broken: tuple[float, float],
) -> None:  # pragma: no cover
    """Draw a line through points onto a picture; what the line crosses twice is drawn once.

    A pixel is covered as far as the line's edge lies beyond its middle: 1/2 px inside is all, 1/2 px outside nothing.

    Parameters
    ----------
    picture : (height, width) uint32, 0xAARRGGBB, colours premultiplied by alpha; drawn onto
    window : (4,) int64
        x1, y1, x2, y2 px inside which is drawn.
    points : (n, 2) float32, px; the first comes again at the end of a closed line
    width : float, px
    tint : (4,) int64
        Alpha, red, green, blue, 0..255.
    broken : (drawn, left out) px along the line; (0, 0) for a solid one
    """
    reach = 0.5 * width + 0.5
    x1 = max(window[0], 0, np.int64(np.floor(points[:, 0].min() - reach)))
    y1 = max(window[1], 0, np.int64(np.floor(points[:, 1].min() - reach)))
    x2 = min(window[2], picture.shape[1], np.int64(np.ceil(points[:, 0].max() + reach)) + 1)
    y2 = min(window[3], picture.shape[0], np.int64(np.ceil(points[:, 1].max() + reach)) + 1)
    if x1 >= x2 or y1 >= y2:
        return
    cover = np.zeros((y2 - y1, x2 - x1), np.float32)
    along = 0.0
    for k in range(len(points) - 1):
        ax, ay, bx, by = points[k, 0] - x1, points[k, 1] - y1, points[k + 1, 0] - x1, points[k + 1, 1] - y1
        length = np.sqrt((bx - ax) ** 2 + (by - ay) ** 2)
        if broken[0] <= 0.0 or length == 0.0:
            _cover_piece(cover, ax, ay, bx, by, reach)
        else:
            at = 0.0
            while at < length:
                place = (along + at) % (broken[0] + broken[1])
                if place < broken[0]:
                    end = min(length, at + broken[0] - place)
                    s, t = at / length, end / length
                    _cover_piece(
                        cover, ax + s * (bx - ax), ay + s * (by - ay), ax + t * (bx - ax), ay + t * (by - ay), reach
                    )
                else:
                    end = min(length, at + broken[0] + broken[1] - place)
                at = max(end, at + 1e-3)
        along += length
    _blend(picture, x1, y1, cover, tint)


@njit(cache=True, nogil=True)
def _cover_piece(
    cover: NDArray[np.float32], ax: float, ay: float, bx: float, by: float, reach: float
) -> None:  # pragma: no cover
    """Raise the cover of all pixels near one straight piece."""
    dx, dy = bx - ax, by - ay
    square = dx * dx + dy * dy
    top, past_row = max(0, int(np.floor(min(ay, by) - reach))), min(cover.shape[0], int(max(ay, by) + reach) + 1)
    for y in range(top, past_row):
        py = y + 0.5 - ay
        left, right = min(ax, bx) - reach, max(ax, bx) + reach
        if square > 64.0 and abs(dy) > 1.0:  # of a long one only what lies near it in this row
            middle, wide = ax + py * dx / dy, reach * np.sqrt(square) / abs(dy)
            left, right = max(left, middle - wide), min(right, middle + wide)
        for x in range(max(0, int(np.floor(left))), min(cover.shape[1], int(right) + 1)):
            px = x + 0.5 - ax
            t = 0.0 if square == 0.0 else min(1.0, max(0.0, (px * dx + py * dy) / square))
            off = np.sqrt((px - t * dx) ** 2 + (py - t * dy) ** 2)
            cover[y, x] = max(cover[y, x], min(1.0, reach - off))


@njit(cache=True, nogil=True)
def _blend(
    picture: NDArray[np.uint32], x1: int, y1: int, cover: NDArray[np.float32], tint: NDArray[np.int64]
) -> None:  # pragma: no cover
    """Lay a colour over a picture as far as it covers (Porter and Duff 1984, "over", of premultiplied colours)."""
    for y in range(cover.shape[0]):
        for x in range(cover.shape[1]):
            if cover[y, x] <= 0.0:
                continue
            alpha = np.int64(cover[y, x] * tint[0] + 0.5)
            under, rest = np.int64(picture[y1 + y, x1 + x]), 255 - alpha
            a = alpha + (((under >> 24) & 255) * rest + 127) // 255
            r = (tint[1] * alpha + ((under >> 16) & 255) * rest + 127) // 255
            g = (tint[2] * alpha + ((under >> 8) & 255) * rest + 127) // 255
            b = (tint[3] * alpha + (under & 255) * rest + 127) // 255
            picture[y1 + y, x1 + x] = np.uint32((a << 24) | (r << 16) | (g << 8) | b)
