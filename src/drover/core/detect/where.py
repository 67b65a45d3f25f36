"""Where to look: polygons in which detections count, and polygons in which they do not."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.blobs import Blobs
from drover.core.geometry import points_inside
from drover.core.recipe import WhereSettings

__all__ = ["Region", "fill_polygon"]


def fill_polygon(points: tuple[tuple[float, float], ...], size: tuple[int, int]) -> NDArray[np.bool_]:
    """Pixels whose middle lies inside a polygon, by the even-odd rule.

    Parameters
    ----------
    points : corners in fractions of width and height
    size : (width, height) px

    Returns
    -------
    (height, width) bool
    """
    width, height = size
    corners = np.asarray(points, np.float64) * np.array(size, np.float64)
    x, y = np.meshgrid(np.arange(width, dtype=np.float64) + 0.5, np.arange(height, dtype=np.float64) + 0.5)
    return points_inside(x.ravel().astype(np.float64), y.ravel().astype(np.float64), corners).reshape(height, width)


class Region:
    """The part of the frame in which detections count."""

    def __init__(self, settings: WhereSettings, size: tuple[int, int]) -> None:
        self.settings = settings
        self.size = size
        width, height = size
        self.everywhere = not settings.include and not settings.ignore
        inside = np.full((height, width), not settings.include)
        for polygon in settings.include:
            inside |= fill_polygon(polygon, size)
        for polygon in settings.ignore:
            inside &= ~fill_polygon(polygon, size)
        self.inside = inside

    def fits(self, blobs: Blobs) -> NDArray[np.bool_]:
        """Which blobs count: by their foot, or by the share of their pixels that lies inside."""
        n = len(blobs.box)
        if self.everywhere or n == 0:
            return np.ones(n, np.bool_)
        if self.settings.by == "foot":
            width, height = self.size
            x = np.clip((blobs.box[:, 0] + blobs.box[:, 2]) / 2, 0, width - 1).astype(int)
            y = np.clip(blobs.box[:, 3] - 0.5, 0, height - 1).astype(int)
            return self.inside[y, x]
        along = np.concatenate(
            [np.zeros((self.size[1], 1), np.int32), np.cumsum(self.inside, axis=1, dtype=np.int32)], axis=1
        )
        rows = blobs.runs.astype(np.int64)
        per_run = along[rows[:, 0], rows[:, 2]] - along[rows[:, 0], rows[:, 1]]
        owner = np.repeat(np.arange(n), blobs.run_count)
        return np.bincount(owner, weights=per_run, minlength=n) >= self.settings.least_share * blobs.area
