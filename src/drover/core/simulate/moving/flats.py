"""Flat things that are driven through a scene: where their corners are at any moment, and how they are laid in."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.features.models import fit_pairs
from drover.core.simulate.moving.look import lay_flat

__all__ = ["Flat", "corners_of"]

Float = NDArray[np.float64]


@dataclass(frozen=True)
class Flat:
    """``picture`` (rows, columns, 3) with its ``corners`` (4, 2) px of the large view at a time, or None when away.

    ``who`` is its number as an owner of pixels; ``kind`` what it is in the truth, nothing if it is no object of it.
    """

    picture: NDArray[np.float32]
    corners: Callable[[float], Float | None]
    who: int
    kind: str = ""

    def lay(self, picture: NDArray[np.float32], owner: NDArray[np.int32], time: float) -> int:
        """Lay it into a view, in place; the px it covers, those beyond the view too."""
        there = self.corners(time)
        if there is None:
            return 0
        rows, columns = self.picture.shape[:2]
        own = np.array([[0, 0], [columns, 0], [columns, rows], [0, rows]], np.float64)
        back = fit_pairs("projective", there, own)
        if back is None:
            return 0
        low, high = np.floor(there.min(axis=0)), np.ceil(there.max(axis=0)) + 1
        lay_flat(picture, owner, self.picture, back, self.who, np.array([*low, *high]).astype(np.int64))
        x, y = there.T
        return int(0.5 * abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))))


def corners_of(
    middle: tuple[float, float], size: tuple[float, float], *, turn: float = 0.0, yaw: float = 0.0, far: float = 2.5
) -> Float:
    """Corners (4, 2) of a board of a ``size`` about its ``middle``, turned in the picture by ``turn`` rad and about its
    upright by ``yaw`` rad, seen from ``far`` times its width away.
    """
    width, height = size
    flat = np.array([[-0.5, -0.5], [0.5, -0.5], [0.5, 0.5], [-0.5, 0.5]]) * (width, height)
    away = 1.0 + flat[:, 0] * np.sin(yaw) / (far * width)
    seen = np.column_stack([flat[:, 0] * np.cos(yaw), flat[:, 1]]) / away[:, None]
    c, s = np.cos(turn), np.sin(turn)
    return seen @ np.array([[c, s], [-s, c]]) + middle
