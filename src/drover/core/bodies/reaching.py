"""How far what is followed reaches, where more of it differs clearly than was told from the ground: a head, legs.

A head is cut off by a bright collar, legs are lost in dappled shade: in one picture the ground hides them. In the mean
of many, laid over each other so that the body keeps its place (Irani, Rousso and Peleg 1994, "Computing occluding and
transparent motions", temporal integration), the ground is gone and they stand out nearly as the rest of the body does.
Only that counts here, and not what differs at all: the rims of whole bodies do so too. Below it what may be its shadow
says nothing, where the clip shows any: what is darker by no more than they are, without a colour of its own.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.bodies.grid import CELL, Laid, away, enough_known, line_at

__all__ = ["reach_of"]

Float = NDArray[np.float64]
Mask = NDArray[np.bool_]
FAINT = 1.0  # times the noise of the empty scene, under which nothing is clear,
BY_CHANCE, OVER_CHANCE = 0.95, 1.5  # nor is what is not that many times more than this share of the ground
LIKE_IT, SIDES_LIKE_IT = 0.3, 0.8  # shares of what is seen by which the rest differs: lengthways, and sideways
PART = 0.75  # quantile of a row of cells: legs, and a head, are narrower than a coat
NECK = 2  # rows of cells that may lie between
FURTHEST = 17  # cells that it may go on each way


def reach_of(laid: Laid, share: tuple[float, float], darkest: float | None = None) -> Float | None:
    """How far a body goes on beyond what is seen of it: left, up, right, down, in bodies; None where none can tell.

    ``share`` is what is seen of a usual width and height; ``darkest`` how bright the ground is in the deepest shadow,
    1 as without; None where there are none.
    """
    known = enough_known(laid.free)
    ground = known & away()
    if not ground.any():
        return None
    many = np.maximum(laid.free.sum(axis=0), 1)
    mean = ((laid.looks * laid.free[:, None]).sum(axis=0) / many).astype(np.float64)
    mean -= np.array([np.median(plane[ground]) for plane in mean])[:, None, None]
    clear = np.where(known, np.sqrt((mean**2).sum(axis=0)), 0.0)
    wide, tall = share
    x1, y1 = line_at(-wide / 2), line_at(-tall / 2)
    x2, y2 = max(line_at(wide / 2), x1 + 1), max(line_at(tall / 2), y1 + 1)
    own = float(np.median(clear[y1:y2, x1:x2]))
    least = max(FAINT, OVER_CHANCE * float(np.quantile(clear[ground], BY_CHANCE)))
    lit = clear
    if darkest is not None:
        light = (laid.light * laid.free).sum(axis=0) / many
        mean[0, (mean[0] < 0) & (light > darkest)] = 0.0
        lit = np.where(known, np.sqrt((mean**2).sum(axis=0)), 0.0)
    limit, band = max(least, LIKE_IT * own), slice(x1, x2)
    up = _goes_on(_profile(clear[:y1, band], known[:y1, band], axis=1)[::-1], limit, NECK)
    down = _goes_on(_profile(lit[y2:, band], known[y2:, band], axis=1), limit, NECK)
    left = right = 0
    if up + down:
        whole, limit = slice(y1 - up, y2 + down), max(least, SIDES_LIKE_IT * own)
        columns = _profile(clear[whole], known[whole], axis=0)
        left, right = _goes_on(columns[:x1][::-1], limit, 0), _goes_on(columns[x2:], limit, 0)
    return np.array([left, up, right, down]) * CELL


def _profile(clear: Float, known: Mask, *, axis: int) -> Float:
    """How clear each row (``axis`` 1) or column (0) of cells is; not a number where too little of it is known."""
    return np.where(known.mean(axis=axis) >= 0.5, np.quantile(clear, PART, axis=axis), np.nan)


def _goes_on(cells: Float, limit: float, gap: int) -> int:
    """How many cells on, from the first, the last one lies that is clear, over no more than ``gap`` that are not."""
    last = 0
    for k, value in enumerate(cells[:FURTHEST].tolist(), 1):
        if np.isnan(value) or (value < limit and k - last > gap):
            break
        if value >= limit:
            last = k
    return last
