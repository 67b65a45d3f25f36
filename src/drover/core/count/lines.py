"""Crossings of track paths with directed polylines, exact between frames.

A path step a -> b crosses a segment p -> q when a and b lie on different sides of p -> q, and p and q on
different sides of a -> b. Zero counts as the positive side in both tests, so a path through a corner of the
line crosses exactly one of the two segments that meet there, and a path that touches the line and turns back
crosses it twice or not at all.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.geometry import box_reference
from drover.core.recipe import CountSettings, LineSettings
from drover.core.types import Crossings, Tracks, TrackState

__all__ = ["VERSION", "LineCounter", "TrackPaths", "count_crossings", "line_pixels", "prepare_paths"]

VERSION = 1


@dataclass(frozen=True)
class TrackPaths:
    """Reference points in path order, made once per set of tracks so that a moved line recounts at once.

    ``x``, ``y`` (rows,) float64 px; ``owner`` (rows,) int32 identity; ``row`` (rows,) int64 row in the tracks.
    """

    tracks: Tracks
    x: NDArray[np.float64]
    y: NDArray[np.float64]
    owner: NDArray[np.int32]
    row: NDArray[np.int64]


def prepare_paths(tracks: Tracks, reference: str = "foot") -> TrackPaths:
    """Paths of one reference point ("foot" or "centre") of all identities."""
    row = tracks.paths.row
    points = box_reference(tracks.box[row], reference)
    return TrackPaths(
        tracks,
        np.ascontiguousarray(points[:, 0]),
        np.ascontiguousarray(points[:, 1]),
        tracks.identity[row],
        row,
    )


def line_pixels(line: LineSettings, size: tuple[int, int]) -> NDArray[np.float64]:
    """Corner points of a line in px, (n, 2) float64."""
    return np.asarray(line.points, np.float64) * np.asarray(size, np.float64)


def count_crossings(
    tracks: Tracks,
    times: NDArray[np.float64],
    settings: CountSettings,
    *,
    paths: dict[str, TrackPaths] | None = None,
) -> Crossings:
    """Every passage of every identity over every line, in order of time.

    Parameters
    ----------
    tracks : Tracks
    times : (frames,) float64, s
    settings : CountSettings
    paths : prepared paths by reference point; made and put there when lacking.
    """
    known = {} if paths is None else paths
    parts = []
    for number, line in enumerate(settings.line):
        if line.reference not in known:
            known[line.reference] = prepare_paths(tracks, line.reference)
        parts.append(_one_line(known[line.reference], times, line_pixels(line, tracks.size), number))
    names = tuple(line.name for line in settings.line)
    return _in_time_order(parts, names, tracks.class_names)


def _one_line(
    paths: TrackPaths, times: NDArray[np.float64], corners: NDArray[np.float64], number: int
) -> dict[str, NDArray]:
    step, share, direction = find_passages(paths.x, paths.y, paths.owner, corners)
    tracks = paths.tracks
    first, second = paths.row[step], paths.row[step + 1]
    from_frame, to_frame = tracks.frame[first], tracks.frame[second]
    unseen = (tracks.state[first] == TrackState.COASTING) | (tracks.state[second] == TrackState.COASTING)
    return {
        "line": np.full(len(step), number, np.int16),
        "identity": paths.owner[step],
        "class_id": tracks.class_id[second],
        "frame": np.where(share > 0, to_frame, from_frame),
        "time": times[from_frame] + share * (times[to_frame] - times[from_frame]),
        "direction": direction,
        "x": (paths.x[step] + share * (paths.x[step + 1] - paths.x[step])).astype(np.float32),
        "y": (paths.y[step] + share * (paths.y[step + 1] - paths.y[step])).astype(np.float32),
        "seen": ~unseen,
    }


_EMPTY: dict[str, type[np.generic]] = {
    "line": np.int16,
    "identity": np.int32,
    "class_id": np.int16,
    "frame": np.int64,
    "time": np.float64,
    "direction": np.int8,
    "x": np.float32,
    "y": np.float32,
    "seen": np.bool_,
}


def _in_time_order(parts: list[dict[str, NDArray]], names: tuple[str, ...], class_names: tuple[str, ...]) -> Crossings:
    table: dict[str, Any] = {
        name: np.concatenate([np.zeros(0, kind), *(part[name] for part in parts)]).astype(kind)
        for name, kind in _EMPTY.items()
    }
    order = np.lexsort((table["identity"], table["line"], table["time"]))
    return Crossings(
        **{name: column[order] for name, column in table.items()}, line_names=names, class_names=class_names
    )


@njit(cache=True, nogil=True)
def find_passages(
    x: NDArray[np.float64], y: NDArray[np.float64], owner: NDArray[np.int32], corners: NDArray[np.float64]
) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.int8]]:  # pragma: no cover
    """Steps that cross a polyline: index of the step's first row, share of the step before the crossing, direction."""
    low_x, high_x = corners[:, 0].min(), corners[:, 0].max()
    low_y, high_y = corners[:, 1].min(), corners[:, 1].max()
    most = 256
    step, share, direction = np.empty(most, np.int64), np.empty(most, np.float64), np.empty(most, np.int8)
    n = 0
    for i in range(x.shape[0] - 1):
        ax, ay, bx, by = x[i], y[i], x[i + 1], y[i + 1]
        if (ax < low_x and bx < low_x) or (ax > high_x and bx > high_x):
            continue
        if (ay < low_y and by < low_y) or (ay > high_y and by > high_y) or owner[i] != owner[i + 1]:
            continue
        for s in range(corners.shape[0] - 1):
            px, py, qx, qy = corners[s, 0], corners[s, 1], corners[s + 1, 0], corners[s + 1, 1]
            before = (qx - px) * (ay - py) - (qy - py) * (ax - px)
            after = (qx - px) * (by - py) - (qy - py) * (bx - px)
            if (before >= 0) == (after >= 0):
                continue
            of_p = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
            of_q = (bx - ax) * (qy - ay) - (by - ay) * (qx - ax)
            if (of_p >= 0) == (of_q >= 0):
                continue
            if n == most:
                most *= 2
                step, share, direction = _longer(step, most), _longer(share, most), _longer(direction, most)
            step[n] = i
            share[n] = before / (before - after)
            direction[n] = 1 if after >= 0 else -1
            n += 1
    return step[:n].copy(), share[:n].copy(), direction[:n].copy()


@njit(cache=True, nogil=True)
def _longer(values: Any, most: int) -> Any:  # pragma: no cover
    out = np.empty(most, values.dtype)
    out[: values.shape[0]] = values
    return out


class LineCounter:
    """The Count stage frame by frame, for footage that has no end: the same test on the newest step of each path."""

    def __init__(self, settings: CountSettings, size: tuple[int, int]) -> None:
        self._lines = [(line.reference, line_pixels(line, size)) for line in settings.line]
        self._last: dict[str, dict[int, tuple[float, float]]] = {line.reference: {} for line in settings.line}

    def step(self, identity: NDArray[np.int32], box: NDArray[np.float32]) -> list[tuple[int, int, int, float]]:
        """Passages since the frame before, as (line number, identity, direction, share of the frame time)."""
        found: list[tuple[int, int, int, float]] = []
        moved = {reference: box_reference(box, reference) for reference in self._last}
        for number, (reference, corners) in enumerate(self._lines):
            for who, (x, y) in zip(identity.tolist(), moved[reference].tolist(), strict=True):
                before = self._last[reference].get(who)
                if before is None:
                    continue
                ends = np.array([before[0], x]), np.array([before[1], y])
                _, share, direction = find_passages(*ends, np.full(2, who, np.int32), corners)
                found += [(number, who, int(d), float(s)) for s, d in zip(share, direction, strict=True)]
        for reference, points in moved.items():
            here = dict(zip(identity.tolist(), map(tuple, points.tolist()), strict=True))
            self._last[reference] = here
        return found
