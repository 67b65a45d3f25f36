"""Tracks made of other rows: some left out, some added, put in order of frame and identity again."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.ordering import order_by
from drover.core.types import Tracks

__all__ = ["columns_of", "only_frames", "with_more_rows", "with_rows", "without_rows"]

Int = NDArray[np.int64]
# Every column but the identity; the last are not always there.
_COLUMNS = ("box", "state", "detection", "confidence", "class_id", "distance", "margin", "nis", "scene_box")


def columns_of(tracks: Tracks) -> list[str]:
    """Names of the columns that tracks have a value for in every row, the identity left out."""
    return [name for name in _COLUMNS if getattr(tracks, name) is not None]


def with_rows(tracks: Tracks, frame: Int, identity: NDArray[np.int32], columns: dict[str, NDArray]) -> Tracks:
    """Tracks of other rows, in any order; ``columns`` are those of :func:`columns_of`."""
    frame, identity = np.asarray(frame, np.int64), np.asarray(identity, np.int32)
    counts = np.bincount(frame, minlength=tracks.frame_count)
    if not in_order(frame, identity):
        order = order_by(frame, identity)
        identity, columns = identity[order], {name: column[order] for name, column in columns.items()}
    return replace(
        tracks,
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        identity=identity,
        **columns,
    )


def with_more_rows(tracks: Tracks, frame: Int, identity: NDArray[np.int32], told: dict[str, Any]) -> Tracks:
    """Tracks with further rows, in any order; ``told`` is what is known of them, by column: all else is NaN."""
    columns = {}
    for name in columns_of(tracks):
        column = getattr(tracks, name)
        more = np.empty((len(frame), *column.shape[1:]), column.dtype)
        more[:] = told.get(name, np.nan)
        columns[name] = np.concatenate([column, more])
    frames, whose = np.concatenate([tracks.frame, frame]), np.concatenate([tracks.identity, identity])
    return with_rows(tracks, frames, whose, columns)


def without_rows(tracks: Tracks, gone: NDArray[np.bool_]) -> Tracks:
    """Tracks without some of their rows; the others keep their numbers."""
    keeps = ~gone
    columns = {name: getattr(tracks, name)[keeps] for name in columns_of(tracks)}
    return with_rows(tracks, tracks.frame[keeps], tracks.identity[keeps], columns)


def only_frames(tracks: Tracks, span: tuple[int, int]) -> Tracks:
    """Tracks with nothing in them outside a span of frames (first, one past the last)."""
    first, past = (int(tracks.frame_start[min(max(edge, 0), tracks.frame_count)]) for edge in span)
    columns = {name: getattr(tracks, name)[first:past] for name in ("identity", *columns_of(tracks))}
    return replace(tracks, frame_start=np.clip(tracks.frame_start - first, 0, past - first), **columns)


@njit(cache=True, nogil=True)
def in_order(frame: Int, identity: NDArray[np.int32]) -> bool:  # pragma: no cover
    """Whether rows are in order of frame, and of identity in each."""
    for r in range(1, frame.shape[0]):
        if frame[r] < frame[r - 1] or (frame[r] == frame[r - 1] and identity[r] < identity[r - 1]):
            return False
    return True
