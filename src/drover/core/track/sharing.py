"""Several objects in one blob: its mask is cut again into their boxes.

When objects melt into one blob, their sizes are known from before. Their boxes are placed so that together they
cover the blob with little that is empty, not far from where each was expected. The blob's pixels are counted through
a summed-area table (Crow 1984), so a placement is judged in a few operations. How sharply the fit rises when a box
is shifted says how much was really seen of it: one wholly behind another is not measured at all.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.cells import cells_touching, into_cells, largest_sides

__all__ = ["fit_boxes", "guests", "pixel_table", "sharers"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
EMPTY_WEIGHT = 0.3  # of a pixel of box with nothing of the blob in it, against one of the blob left uncovered
PRIOR_WEIGHT = 0.5  # of a box one standard deviation from where it was expected, in rows of its side
NUDGE = 0.06  # sizes by which a box is shifted to see how firmly it sits; at least a pixel
STEPS = (
    0.12,
    0.06,
    0.03,
    0.015,
)  # sizes a box is moved by while a place is sought, at least half a pixel
LEAST_FIRMNESS = 0.06  # share of a free-standing box's firmness under which a side says nothing
MOST_SHARERS = 12


@njit(cache=True, nogil=True)
def guests(
    forecast: NDArray[np.float32],
    box: NDArray[np.float32],
    believed: NDArray[np.bool_],
    seen: NDArray[np.bool_],
    hidden: NDArray[np.bool_],
    unseen: Float,
    most_unseen: float,
    match: Int,
    least_cover: float,
) -> tuple[Int, bool]:  # pragma: no cover
    """The detection each believed track without one is expected in, -1 for none, and whether there is any.

    Of those that are not hidden only such as were seen within ``most_unseen`` frames.
    """
    lonely, some = np.zeros(seen.shape[0], np.bool_), False
    for k in range(seen.shape[0]):
        lonely[k] = believed[k] and not seen[k] and (hidden[k] or unseen[k] <= most_unseen)
        some |= lonely[k]
    if not some:
        return np.full(seen.shape[0], -1, np.int64), False
    out = sharers(forecast, box, lonely, match, least_cover)
    return out, out.max() >= 0


@njit(cache=True, nogil=True)
def sharers(
    forecast: NDArray[np.float32],
    box: NDArray[np.float32],
    candidate: NDArray[np.bool_],
    match: Int,
    least_cover: float,
) -> Int:  # pragma: no cover
    """For each candidate track without a partner the detection that covers most of its forecast; -1 for none.

    Only detections that cover at least ``least_cover`` of the forecast count; (tracks,) int64.
    """
    out = np.full(forecast.shape[0], -1, np.int64)
    order, start, corner, side, columns, rows = into_cells(box)
    widest = largest_sides(box)
    for k in range(forecast.shape[0]):
        if not candidate[k] or match[k] >= 0:
            continue
        area = max((forecast[k, 2] - forecast[k, 0]) * (forecast[k, 3] - forecast[k, 1]), 1.0)
        best = least_cover
        left, right, top, bottom = cells_touching(forecast, k, widest, corner, side, columns, rows)
        for line in range(top, bottom):
            for at in range(start[line * columns + left], start[line * columns + right]):
                d = order[at]
                width = min(forecast[k, 2], box[d, 2]) - max(forecast[k, 0], box[d, 0])
                height = min(forecast[k, 3], box[d, 3]) - max(forecast[k, 1], box[d, 1])
                if width <= 0 or height <= 0:
                    continue
                cover = width * height / area
                # Of several that cover as much, the last in their order.
                if cover > best or (cover == best and d > out[k]):
                    best, out[k] = cover, d
    return out


@njit(cache=True, nogil=True)
def pixel_table(
    runs: NDArray[np.int16], box: NDArray[np.float32]
) -> tuple[NDArray[np.int32], int, int]:  # pragma: no cover
    """Summed-area table of a blob, (height + 1, width + 1) int32, and the picture x, y of its corner.

    A box without runs counts as filled.
    """
    x0, y0 = int(np.floor(box[0])), int(np.floor(box[1]))
    width, height = max(1, int(np.ceil(box[2])) - x0), max(1, int(np.ceil(box[3])) - y0)
    table = np.zeros((height + 1, width + 1), np.int32)
    if runs.shape[0] == 0:
        table[1:, 1:] = 1
    for r in range(runs.shape[0]):
        y = runs[r, 0] - y0
        if 0 <= y < height:
            for x in range(max(0, runs[r, 1] - x0), min(width, runs[r, 2] - x0)):
                table[y + 1, x + 1] = 1
    for y in range(1, height + 1):
        row = 0
        for x in range(1, width + 1):
            row += table[y, x]
            table[y, x] = row + table[y - 1, x]
    return table, x0, y0


@njit(cache=True, nogil=True, inline="always")
def _inside(table: NDArray[np.int32], x1: float, y1: float, x2: float, y2: float) -> float:  # pragma: no cover
    """Pixels of the blob in a box given from its corner."""
    height, width = table.shape[0] - 1, table.shape[1] - 1
    a, b = min(max(int(x1 + 0.5), 0), width), min(max(int(y1 + 0.5), 0), height)
    c, d = min(max(int(x2 + 0.5), 0), width), min(max(int(y2 + 0.5), 0), height)
    if c <= a or d <= b:
        return 0.0
    return float(table[d, c] - table[b, c] - table[d, a] + table[b, a])


@njit(cache=True, nogil=True)
def _part(
    table: NDArray[np.int32], at: Float, size: Float, expected: Float, spread: Float, i: int
) -> float:  # pragma: no cover
    """What box ``i`` where it stands adds to the misfit, all other boxes held."""
    x1, y1 = at[i, 0] - size[i, 0] / 2, at[i, 1] - size[i, 1] / 2
    x2, y2 = x1 + size[i, 0], y1 + size[i, 1]
    covered = _inside(table, x1, y1, x2, y2)
    empty = size[i, 0] * size[i, 1] - covered
    for j in range(at.shape[0]):
        if j == i:
            continue
        a, b = max(x1, at[j, 0] - size[j, 0] / 2), max(y1, at[j, 1] - size[j, 1] / 2)
        c, d = min(x2, at[j, 0] + size[j, 0] / 2), min(y2, at[j, 1] + size[j, 1] / 2)
        if c > a and d > b:
            both = _inside(table, a, b, c, d)
            covered -= both
            empty -= (c - a) * (d - b) - both
    far_x, far_y = (at[i, 0] - expected[i, 0]) / spread[i, 0], (at[i, 1] - expected[i, 1]) / spread[i, 1]
    prior = PRIOR_WEIGHT * (size[i, 1] * far_x * far_x + size[i, 0] * far_y * far_y)
    return -covered + EMPTY_WEIGHT * empty + prior


@njit(cache=True, nogil=True)
def fit_boxes(
    table: NDArray[np.int32], expected: Float, size: Float, spread: Float
) -> tuple[Float, Float]:  # pragma: no cover
    """Place boxes of known sizes in a blob.

    Parameters
    ----------
    table : summed-area table of the blob, see :func:`pixel_table`
    expected, size, spread : (n, 2) float64, px
        Expected centres (from the table's corner), sizes, and standard deviations of the expectation.

    Returns
    -------
    at : (n, 2) float64, px
        Centres.
    firmness : (n, 2) float64, fraction
        How firmly each box sits in x and in y: 1 like a free-standing box, 0 not at all.
    """
    n = expected.shape[0]
    at = expected.copy()
    for share in STEPS:
        for _ in range(8):
            moved = False
            for i in range(n):
                step = max(share * np.sqrt(size[i, 0] * size[i, 1]), 0.5)
                best = _part(table, at, size, expected, spread, i)
                x, y = at[i, 0], at[i, 1]
                to_x, to_y = x, y
                for way in range(4):
                    at[i, 0] = x + (step if way == 0 else -step if way == 1 else 0.0)
                    at[i, 1] = y + (step if way == 2 else -step if way == 3 else 0.0)
                    now = _part(table, at, size, expected, spread, i)
                    if now < best - 1e-9:
                        best, to_x, to_y, moved = now, at[i, 0], at[i, 1], True
                at[i, 0], at[i, 1] = to_x, to_y
            if not moved:
                break
    return at, _firmness(table, at, size, expected, spread)


@njit(cache=True, nogil=True)
def _firmness(
    table: NDArray[np.int32], at: Float, size: Float, expected: Float, spread: Float
) -> Float:  # pragma: no cover
    """How much the misfit rises when a box is nudged either way, against that of a free-standing box."""
    out = np.empty(at.shape)
    wide = np.full(spread.shape, 1e9)
    for i in range(at.shape[0]):
        for axis in range(2):
            here = _part(table, at, size, expected, wide, i)
            nudge = max(NUDGE * np.sqrt(size[i, 0] * size[i, 1]), 1.0)
            rise = 1e18
            for way in (-nudge, nudge):
                at[i, axis] += way
                rise = min(rise, _part(table, at, size, expected, wide, i) - here)
                at[i, axis] -= way
            # A free box uncovers, and takes in as much empty, over about 0.6 of its other side.
            free = 0.6 * (1.0 + EMPTY_WEIGHT) * nudge * size[i, 1 - axis]
            out[i, axis] = min(max(rise / max(free, 1e-9), 0.0), 1.0)
    return out
