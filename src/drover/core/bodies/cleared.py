"""Bodies without the flakes beside them: pieces of an outline that are no larger than what drifts by are cut away."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.blobs import join_runs
from drover.core.geometry import box_area
from drover.core.types import Detections

__all__ = ["without_flakes"]


def without_flakes(found: Detections, largest: float) -> Detections:
    """The same rows, each without those pieces of its outline that fit a square of ``largest`` px.

    What is of such pieces alone, or has no outline, stays as it is.
    """
    kept = np.ones(len(found.runs), np.bool_)
    box, area = found.box.copy(), found.area.copy()
    for row in np.flatnonzero(np.diff(found.run_start) > 1):
        of = slice(int(found.run_start[row]), int(found.run_start[row + 1]))
        runs = np.asarray(found.runs[of], np.int32)
        label, count = join_runs(runs, True)
        large = box_area(_around(runs, label, count)) > largest**2
        if count < 2 or large.all() or not large.any():
            continue
        kept[of] = large[label]
        rest = runs[large[label]]
        box[row] = rest[:, 1].min(), rest[:, 0].min(), rest[:, 2].max(), rest[:, 0].max() + 1
        area[row] = (rest[:, 2] - rest[:, 1]).sum()
    if kept.all():
        return found
    before = np.concatenate([[0], np.cumsum(kept)])
    return replace(found, box=box, area=area, runs=found.runs[kept], run_start=before[found.run_start])


def _around(runs: NDArray[np.int32], label: NDArray[np.int64], count: int) -> NDArray[np.float64]:
    """(count, 4) px: the box around each piece."""
    out = np.empty((count, 4))
    out[:, :2], out[:, 2:] = np.inf, -np.inf
    y, first, past = runs.T
    np.minimum.at(out[:, 0], label, first)
    np.minimum.at(out[:, 1], label, y)
    np.maximum.at(out[:, 2], label, past)
    np.maximum.at(out[:, 3], label, y + 1)
    return out
