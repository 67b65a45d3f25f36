"""Small tables made by hand for tests."""

from __future__ import annotations

import numpy as np

from drover.core.types import Crossings, Tracks, Truth


def box_at(x: float, y: float, size: float = 10.0) -> tuple[float, float, float, float]:
    """A square box whose foot stands at (x, y)."""
    return x - size / 2, y - size, x + size / 2, y


def fixed(array: np.ndarray) -> np.ndarray:
    """The array made one that cannot be written, as kernels are compiled for: another kind costs another compiling."""
    array.flags.writeable = False
    return array


def _start(frames: list[int], count: int) -> np.ndarray:
    return np.concatenate([[0], np.cumsum(np.bincount(frames, minlength=count))]).astype(np.int64)


def runs_of(*boxes) -> list[tuple[int, int, int]]:
    """Runs (y, from x, past x) of the union of boxes (x1, y1, x2, y2) of whole px, line by line."""
    mask = np.zeros(np.max(boxes, axis=0)[[3, 2]], np.bool_)
    for x1, y1, x2, y2 in boxes:
        mask[y1:y2, x1:x2] = True
    out = []
    for y in np.flatnonzero(mask.any(axis=1)).tolist():
        edge = np.flatnonzero(np.diff(np.concatenate([[0], mask[y].astype(np.int8), [0]])))
        out += [(y, a, b) for a, b in edge.reshape(-1, 2).tolist()]
    return out


def tracks_of(rows: list[tuple], frame_count: int, *, size=(100, 100), state=None) -> Tracks:
    """Tracks from (frame, identity, box) rows in any order."""
    rows = sorted(rows, key=lambda row: (row[0], row[1]))
    n = len(rows)
    return Tracks(
        frame_start=_start([row[0] for row in rows], frame_count),
        identity=np.array([row[1] for row in rows], np.int32),
        box=np.array([row[2] for row in rows], np.float32).reshape(-1, 4),
        state=np.ones(n, np.int8) if state is None else np.array([state[row[:2]] for row in rows], np.int8),
        detection=np.arange(n, dtype=np.int32),
        confidence=np.ones(n, np.float32),
        class_id=np.zeros(n, np.int16),
        distance=np.ones(n, np.float32),
        nearest_refused=np.zeros(0, np.float32),
        size=size,
    )


def truth_of(rows: list[tuple], frame_count: int, consider=None) -> Truth:
    """Truth from (frame, identity, box) rows; ``consider`` maps (frame, identity) to False where not."""
    rows = sorted(rows, key=lambda row: (row[0], row[1]))
    n = len(rows)
    skip = consider or {}
    return Truth(
        frame_start=_start([row[0] for row in rows], frame_count),
        identity=np.array([row[1] for row in rows], np.int32),
        box=np.array([row[2] for row in rows], np.float32).reshape(-1, 4),
        consider=np.array([skip.get(row[:2], True) for row in rows], np.bool_),
        class_id=np.zeros(n, np.int16),
        visibility=np.ones(n, np.float32),
    )


def walk_rows(identity: int, points: list[tuple[float, float]], first: int = 0) -> list[tuple]:
    """(frame, identity, box) rows of a foot going through points, one a frame."""
    return [(first + k, identity, box_at(x, y)) for k, (x, y) in enumerate(points)]


def crossings_of(rows: list[tuple[int, int]], name: str = "Gap") -> Crossings:
    """Crossings of one line from (identity, direction) rows, a second apart."""
    n = len(rows)
    return Crossings(
        line=np.zeros(n, np.int16),
        identity=np.array([row[0] for row in rows], np.int32),
        class_id=np.zeros(n, np.int16),
        frame=np.arange(n, dtype=np.int64) * 25,
        time=np.arange(n, dtype=np.float64),
        direction=np.array([row[1] for row in rows], np.int8),
        x=np.zeros(n, np.float32),
        y=np.zeros(n, np.float32),
        seen=np.ones(n, np.bool_),
        line_names=(name,),
    )
