"""Crossings of lines, by each line's own rule."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover.core.count.passages import find_passages, settled_passages, two_of
from drover.core.count.paths import KnownPaths, TrackPaths, path_for
from drover.core.count.zones import ZoneVisits, find_visits
from drover.core.recipe import CountSettings, LineSettings
from drover.core.settings.count import REFERENCES
from drover.core.types import Crossings, Tracks, TrackState

__all__ = ["VERSION", "count_crossings", "line_pixels"]

VERSION = 2
Float = NDArray[np.float64]


def line_pixels(line: LineSettings, size: tuple[int, int]) -> Float:
    """Corner points of a line in px, (n, 2) float64."""
    return np.asarray(line.points, np.float64) * np.asarray(size, np.float64)


def count_crossings(
    tracks: Tracks,
    times: Float,
    settings: CountSettings,
    *,
    paths: KnownPaths | None = None,
    visits: ZoneVisits | None = None,
) -> Crossings:
    """Every crossing that counts, of every identity over every line, in order of time.

    Parameters
    ----------
    tracks : Tracks
    times : (frames,) float64, s
    settings : CountSettings
    paths : prepared paths by reference point; made and put there when lacking.
    visits : of the zones, where they are known; made when a line asks for one.
    """
    known = {} if paths is None else paths
    if visits is None and any(line.from_zone or line.to_zone for line in settings.line):
        visits = find_visits(tracks, times, settings, paths=known)
    parts = []
    for number, line in enumerate(settings.line):
        part = _one_line(tracks, times, line, number, known)
        if visits is not None and (line.from_zone or line.to_zone):
            part = _taken(part, _came_through(part, line, visits))
        parts.append(_taken(part, _first_each_way(part)) if line.each == "identity" else part)
    names = tuple(line.name for line in settings.line)
    return _in_time_order(parts, names, tracks.class_names)


def _one_line(tracks: Tracks, times: Float, line: LineSettings, number: int, known: KnownPaths) -> dict[str, NDArray]:
    corners = line_pixels(line, tracks.size)
    if line.reference == "two":
        paths = path_for(tracks, "foot", known, line.fixed_to)
        step, share, direction = _two_points(tracks, line, corners, known)
    else:
        paths = path_for(tracks, line.reference, known, line.fixed_to)
        step, share, direction = _one_point(paths, line, corners)
    # Where it was counted in the scene, the place is still that in the picture.
    seen = paths if line.fixed_to == "picture" else path_for(tracks, _point_of(line), known)
    part = _table(seen, times, step, share, direction, number)
    keep = np.ones(len(step), np.bool_)
    if line.classes:
        wanted = [name in line.classes for name in tracks.class_names]
        keep &= np.array(wanted, np.bool_)[part["class_id"]]
    if line.least_age > 0:
        keep &= part["time"] - times[tracks.frame[paths.row[paths.first[step]]]] >= line.least_age
    if line.least_travel > 0:
        keep &= paths.travel[step] + share * (paths.travel[step + 1] - paths.travel[step]) >= line.least_travel
    return part if keep.all() else _taken(part, keep)


def _point_of(line: LineSettings) -> str:
    """The point whose place a crossing is given."""
    return "foot" if line.reference == "two" else line.reference


def _one_point(
    paths: TrackPaths, line: LineSettings, corners: Float
) -> tuple[NDArray[np.int64], Float, NDArray[np.int8]]:
    """Passages of one point that hold."""
    step, share, direction = find_passages(paths.x, paths.y, paths.owner, corners)
    if line.dead_band > 0 and len(step) > 1:
        holds = settled_passages(paths.x, paths.y, paths.size, paths.owner, corners, line.dead_band, step, direction)
        step, share, direction = step[holds], share[holds], direction[holds]
    return step, share, direction


def _two_points(
    tracks: Tracks, line: LineSettings, corners: Float, known: KnownPaths
) -> tuple[NDArray[np.int64], Float, NDArray[np.int8]]:
    """Moments at which the second of the five points has gone over."""
    events: dict[int, list[tuple[int, float, int, int]]] = {}
    for point, reference in enumerate(REFERENCES):
        paths = path_for(tracks, reference, known, line.fixed_to)
        for step, share, direction in zip(*(c.tolist() for c in _one_point(paths, line, corners)), strict=True):
            events.setdefault(int(paths.owner[step]), []).append((step, share, direction, point))
    found = [one for identity in sorted(events) for one in two_of(sorted(events[identity]))]
    table = np.array(found, np.float64).reshape(-1, 3)
    return table[:, 0].astype(np.int64), table[:, 1].copy(), table[:, 2].astype(np.int8)


def _table(
    paths: TrackPaths,
    times: Float,
    step: NDArray[np.int64],
    share: Float,
    direction: NDArray[np.int8],
    number: int,
) -> dict[str, NDArray]:
    tracks = paths.tracks
    first, second = paths.row[step], paths.row[step + 1]
    from_frame, to_frame = tracks.frame[first], tracks.frame[second]
    unseen = (tracks.state[first] == TrackState.COASTING) | (tracks.state[second] == TrackState.COASTING)
    return {
        "line": np.full(len(step), number, np.int16),
        "identity": paths.owner[step],
        "class_id": tracks.class_of_identity[paths.owner[step]],
        "frame": np.where(share > 0, to_frame, from_frame),
        "time": times[from_frame] + share * (times[to_frame] - times[from_frame]),
        "direction": direction,
        "x": (paths.x[step] + share * (paths.x[step + 1] - paths.x[step])).astype(np.float32),
        "y": (paths.y[step] + share * (paths.y[step + 1] - paths.y[step])).astype(np.float32),
        "seen": ~unseen & (to_frame - from_frame <= 1),
    }


def _taken(part: dict[str, NDArray], keep: NDArray[np.bool_]) -> dict[str, NDArray]:
    return {name: column[keep] for name, column in part.items()}


def _came_through(part: dict[str, NDArray], line: LineSettings, visits: ZoneVisits) -> NDArray[np.bool_]:
    """Crossings whose identity was in the one zone before and in the other after, by the crossing's direction."""
    keep = np.ones(len(part["time"]), np.bool_)
    for k, (who, when, way) in enumerate(zip(part["identity"], part["time"], part["direction"], strict=True)):
        before, after = (line.from_zone, line.to_zone) if way > 0 else (line.to_zone, line.from_zone)
        keep[k] = (not before or visits.was_in(before, int(who), until=float(when))) and (
            not after or visits.was_in(after, int(who), since=float(when))
        )
    return keep


def _first_each_way(part: dict[str, NDArray]) -> NDArray[np.bool_]:
    """Of each identity the first crossing in each direction."""
    keep = np.zeros(len(part["time"]), np.bool_)
    order = np.argsort(part["time"], kind="stable")
    key = part["identity"][order].astype(np.int64) * 2 + (part["direction"][order] > 0)
    keep[order[np.unique(key, return_index=True)[1]]] = True
    return keep


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
