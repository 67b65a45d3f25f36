"""Visits to zones: who was inside, from when to when, exact between frames where a point decides."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.count.paths import KnownPaths, TrackPaths, path_for
from drover.core.geometry import points_inside
from drover.core.recipe import CountSettings, ZoneSettings
from drover.core.types import DEFAULT_CLASS, Tracks

__all__ = ["ZoneTotals", "ZoneVisits", "find_visits", "inside_now", "occupancy", "zone_totals"]

Float = NDArray[np.float64]


@dataclass(frozen=True)
class ZoneVisits:
    """Every stay of an identity in a zone, sorted by when it began.

    ``enter`` and ``leave`` are s, ``enter_frame`` and ``leave_frame`` the first and last frame inside; ``entered`` is
    false where the identity was first seen inside, ``left`` false where it was last seen inside.
    """

    zone: NDArray[np.int16]
    identity: NDArray[np.int32]
    class_id: NDArray[np.int16]
    enter: Float
    leave: Float
    enter_frame: NDArray[np.int64]
    leave_frame: NDArray[np.int64]
    entered: NDArray[np.bool_]
    left: NDArray[np.bool_]
    zone_names: tuple[str, ...]
    class_names: tuple[str, ...] = (DEFAULT_CLASS,)

    def __len__(self) -> int:
        return len(self.zone)

    def take(self, rows: NDArray) -> ZoneVisits:
        """The same table with only some rows."""
        return replace(self, **{name: getattr(self, name)[rows] for name in _COLUMNS})

    def was_in(self, name: str, identity: int, *, since: float = -np.inf, until: float = np.inf) -> bool:
        """Whether an identity was in a zone at some time between ``since`` and ``until``, s."""
        if name not in self.zone_names:
            return False
        mine = (self.zone == self.zone_names.index(name)) & (self.identity == identity)
        return bool((mine & (self.enter <= until) & (self.leave >= since)).any())


_COLUMNS = ("zone", "identity", "class_id", "enter", "leave", "enter_frame", "leave_frame", "entered", "left")


@dataclass(frozen=True)
class ZoneTotals:
    """One zone's figures: entries, exits, identities, most inside at once and when (s), mean and longest dwell (s)."""

    zone: str
    entered: int
    left: int
    identities: int
    most_inside: int
    most_at: float
    mean_dwell: float
    longest_dwell: float


def find_visits(
    tracks: Tracks, times: Float, settings: CountSettings, *, paths: KnownPaths | None = None
) -> ZoneVisits:
    """All visits to all zones; ``times`` (frames,) s."""
    known = {} if paths is None else paths
    parts = [_one_zone(tracks, times, zone, number, known) for number, zone in enumerate(settings.zone)]
    none = _columns(np.zeros((0, 9)))
    table = {name: np.concatenate([none[name], *(part[name] for part in parts)]) for name in _COLUMNS}
    order = np.lexsort((table["identity"], table["zone"], table["enter"]))
    names = tuple(zone.name for zone in settings.zone)
    return ZoneVisits(
        **{name: column[order] for name, column in table.items()}, zone_names=names, class_names=tracks.class_names
    )


def _columns(table: Float) -> dict[str, NDArray]:
    kinds = (np.int16, np.int32, np.int16, np.float64, np.float64, np.int64, np.int64, np.bool_, np.bool_)
    return {name: table[:, k].astype(kind) for k, (name, kind) in enumerate(zip(_COLUMNS, kinds, strict=True))}


def _one_zone(tracks: Tracks, times: Float, zone: ZoneSettings, number: int, known: KnownPaths) -> dict[str, NDArray]:
    by_area = zone.inside_by == "area"
    paths = path_for(tracks, "centre" if by_area else zone.inside_by, known, zone.fixed_to)
    corners = np.asarray(zone.points, np.float64) * np.asarray(tracks.size, np.float64)
    if by_area:
        inside = (
            share_inside((tracks.lying if zone.fixed_to == "scene" else tracks.box)[paths.row], corners)
            >= zone.least_share
        )
    else:
        inside = points_inside(paths.x, paths.y, corners)
    if zone.classes:
        wanted = np.array([name in zone.classes for name in tracks.class_names], np.bool_)
        inside &= wanted[tracks.class_of_identity[paths.owner]]
    frames = tracks.frame[paths.row]
    start = tracks.paths.start
    rows = find_stays(start, inside, times[frames], zone.bridge)
    return _columns(_stays(paths, rows, frames, times, corners, number, exact=not by_area))


def _stays(
    paths: TrackPaths,
    rows: NDArray[np.int64],
    frames: NDArray[np.int64],
    times: Float,
    corners: Float,
    number: int,
    *,
    exact: bool,
) -> Float:
    """A table row for each stay: path rows first inside and last inside, put into times."""
    out = np.zeros((len(rows), 9))
    start, tracks = paths.tracks.paths.start, paths.tracks
    for n, (p, first, last) in enumerate(rows.tolist()):
        entered, left = first > start[p], last < start[p + 1] - 1
        enter, leave = times[frames[first]], times[frames[last]]
        if entered:
            share = edge_share(paths.x, paths.y, first - 1, corners, False) if exact else 0.5
            enter = times[frames[first - 1]] + share * (times[frames[first]] - times[frames[first - 1]])
        if left:
            share = edge_share(paths.x, paths.y, last, corners, True) if exact else 0.5
            leave = times[frames[last]] + share * (times[frames[last + 1]] - times[frames[last]])
        who = int(paths.owner[first])
        kind = tracks.class_of_identity[who]
        out[n] = number, who, kind, enter, leave, frames[first], frames[last], entered, left
    return out


@njit(cache=True, nogil=True)
def edge_share(x: Float, y: Float, step: int, corners: Float, last: bool) -> float:  # pragma: no cover
    """Share of a step at which it goes through the zone's edge: coming in the last time, or going out the first."""
    ax, ay = x[step], y[step]
    wx, wy = x[step + 1] - ax, y[step + 1] - ay
    n, best = corners.shape[0], -1.0
    for s in range(n):
        px, py = corners[s, 0], corners[s, 1]
        sx, sy = corners[(s + 1) % n, 0] - px, corners[(s + 1) % n, 1] - py
        cross = wx * sy - wy * sx
        if cross == 0:
            continue
        t = ((px - ax) * sy - (py - ay) * sx) / cross
        u = ((px - ax) * wy - (py - ay) * wx) / cross
        if 0 <= t <= 1 and 0 <= u <= 1 and (best < 0 or (t < best) == last):
            best = t
    return 0.5 if best < 0 else best


@njit(cache=True, nogil=True)
def share_inside(box: NDArray[np.float32], corners: Float) -> Float:  # pragma: no cover
    """Share of each box (n, 4) px that lies in a polygon: the polygon clipped by the box's four sides.

    Sutherland and Hodgman 1974, "Reentrant polygon clipping"; the area by the shoelace formula.
    """
    out = np.zeros(box.shape[0])
    most = corners.shape[0] * 6 + 16  # each side adds at most half as many
    part, other = np.empty((most, 2)), np.empty((most, 2))
    for i in range(box.shape[0]):
        n = corners.shape[0]
        part[:n] = corners
        for side in range(4):
            axis, limit = side % 2, np.float64(box[i, side])
            sign = 1.0 if side < 2 else -1.0
            m = 0
            for k in range(n):
                a, b = part[k], part[(k + 1) % n]
                in_a, in_b = sign * (a[axis] - limit) >= 0, sign * (b[axis] - limit) >= 0
                if in_a != in_b:
                    t = (limit - a[axis]) / (b[axis] - a[axis])
                    other[m, 0], other[m, 1] = a[0] + t * (b[0] - a[0]), a[1] + t * (b[1] - a[1])
                    m += 1
                if in_b:
                    other[m, 0], other[m, 1] = b[0], b[1]
                    m += 1
            part, other, n = other, part, m
            if n == 0:
                break
        area = 0.0
        for k in range(n):
            a, b = part[k], part[(k + 1) % n]
            area += 0.5 * (a[0] * b[1] - b[0] * a[1])
        whole = (np.float64(box[i, 2]) - box[i, 0]) * (np.float64(box[i, 3]) - box[i, 1])
        out[i] = min(abs(area) / max(whole, 1e-9), 1.0)
    return out


@njit(cache=True, nogil=True)
def find_stays(
    start: NDArray[np.int64], inside: NDArray[np.bool_], when: Float, bridge: float
) -> NDArray[np.int64]:  # pragma: no cover
    """Stays as (path, first row inside, last row inside).

    Absences shorter than ``bridge`` s are bridged first, stays shorter than that are dropped then, unless a path is
    cut off within them.
    """
    most, n = 64, 0
    out = np.empty((most, 3), np.int64)
    for p in range(start.shape[0] - 1):
        first, last = -1, -1
        for i in range(start[p], start[p + 1] + 1):
            end = i == start[p + 1]
            if not end and inside[i]:
                if first < 0:
                    first = i
                last = i
                continue
            if first < 0 or (not end and when[i] - when[last] < bridge):
                continue
            cut = first == start[p] or last == start[p + 1] - 1
            if cut or when[last] - when[first] >= bridge:
                if n == most:
                    most *= 2
                    longer = np.empty((most, 3), np.int64)
                    longer[:n] = out[:n]
                    out = longer
                out[n, 0], out[n, 1], out[n, 2] = p, first, last
                n += 1
            first = -1
    return out[:n].copy()


def occupancy(visits: ZoneVisits, zone: int, times: Float) -> NDArray[np.int64]:
    """How many are inside a zone at each of ``times`` s, (times,) int64."""
    mine = visits.zone == zone
    began = np.searchsorted(np.sort(visits.enter[mine]), times, side="right")
    over = np.searchsorted(np.sort(visits.leave[mine]), times, side="left")
    return (began - over).astype(np.int64)


def inside_now(visits: ZoneVisits, zone: int, time: float) -> list[int]:
    """Identities inside a zone at ``time`` s, those longest there first."""
    rows = np.flatnonzero((visits.zone == zone) & (visits.enter <= time) & (visits.leave >= time))
    return [int(who) for who in visits.identity[rows[np.argsort(visits.enter[rows], kind="stable")]]]


def zone_totals(visits: ZoneVisits, zone: int, times: Float) -> ZoneTotals:
    """Figures of one zone over the clip."""
    mine = visits.take(visits.zone == zone)
    moments = np.union1d(mine.enter, times[:1])
    inside = occupancy(mine, zone, moments)
    peak = int(np.argmax(inside)) if len(inside) else 0
    dwell: dict[int, float] = {}
    for who, stay in zip(mine.identity.tolist(), (mine.leave - mine.enter).tolist(), strict=True):
        dwell[who] = dwell.get(who, 0.0) + stay
    stays = np.array(list(dwell.values())) if dwell else np.zeros(1)
    return ZoneTotals(
        zone=visits.zone_names[zone],
        entered=int(mine.entered.sum()),
        left=int(mine.left.sum()),
        identities=len(dwell),
        most_inside=int(inside[peak]) if len(inside) else 0,
        most_at=float(moments[peak]) if len(moments) else 0.0,
        mean_dwell=float(stays.mean()),
        longest_dwell=float(stays.max()),
    )
