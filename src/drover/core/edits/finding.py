"""Which identity is at a place: the one whose box lies over it then, or shortly before or after, or next to it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.edits.edit import Place
from drover.core.edits.rows import EditedRows
from drover.core.geometry import overlap_matrix

__all__ = ["identity_at"]

LEAST_OVERLAP = 0.3
NEARBY = 0.3  # s before and after that are looked at where nothing lies there at the time
BESIDE = 0.75  # sizes that the middle may be away where nothing lies over the place


def identity_at(rows: EditedRows, place: Place) -> int | None:
    """The identity at a place, None where nothing is."""
    width, height = rows.source.size
    box = (np.array(place.box) * (width, height, width, height)).astype(np.float32)[None]
    if place.time > rows.times[-1] + NEARBY:
        return None
    frame = rows.frame_at(place.time)
    best = _over(rows, frame, box)
    for step in range(1, _frames_nearby(rows, frame) + 1):
        if best is not None:
            return best
        best = _over(rows, frame - step, box) or _over(rows, frame + step, box)
    return _beside(rows, frame, box[0]) if best is None else best


def _frames_nearby(rows: EditedRows, frame: int) -> int:
    low, high = np.searchsorted(rows.times, (rows.times[frame] - NEARBY, rows.times[frame] + NEARBY))
    return int(max(frame - low, high - 1 - frame, 0))


def _over(rows: EditedRows, frame: int, box: NDArray[np.float32]) -> int | None:
    here = rows.rows_of(frame)
    if here.start == here.stop:
        return None
    overlap = overlap_matrix(rows.columns["box"][here], box)[:, 0]
    best = int(np.argmax(overlap))
    return int(rows.identity[here.start + best]) if overlap[best] >= LEAST_OVERLAP else None


def _beside(rows: EditedRows, frame: int, box: NDArray[np.float32]) -> int | None:
    here = rows.rows_of(frame)
    if here.start == here.stop:
        return None
    other = rows.columns["box"][here].astype(np.float64)
    size = np.maximum(box[2:] - box[:2], 1.0)
    away = np.abs(other[:, :2] + other[:, 2:] - box[:2] - box[2:]) / 2 / size
    worst = away.max(axis=1)
    best = int(np.argmin(worst))
    return int(rows.identity[here.start + best]) if worst[best] <= BESIDE else None
