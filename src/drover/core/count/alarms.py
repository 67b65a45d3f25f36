"""Alarms: crossings in a forbidden direction, stays too long, too many inside, too fast."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.count.ground import Ground, speeds
from drover.core.count.zones import ZoneVisits, occupancy
from drover.core.recipe import CountSettings, ZoneSettings
from drover.core.stretches import stretches
from drover.core.types import Crossings, Tracks

__all__ = ["ALARM_KINDS", "Alarm", "find_alarms"]

ALARM_KINDS = ("wrong way", "stays too long", "too many inside", "too fast")
LEAST_FAST = 0.3  # s that a speed must stay above its limit


@dataclass(frozen=True)
class Alarm:
    """One alarm: its kind, the line or zone, whose (0 for all together), when (s), the value and its limit."""

    kind: str
    place: str
    identity: int
    frame: int
    time: float
    value: float
    limit: float

    @property
    def words(self) -> str:
        """What happened, in plain words."""
        who = f"{self.identity} " if self.identity else ""
        if self.kind == "wrong way":
            return f"{who}crossed {self.place} the wrong way"
        if self.kind == "stays too long":
            return f"{who}in {self.place} for {self.value:.0f} s, allowed {self.limit:.0f}"
        if self.kind == "too many inside":
            return f"{self.value:.0f} in {self.place}, allowed {self.limit:.0f}"
        return f"{who}at {self.value:.1f} m/s in {self.place}, allowed {self.limit:.1f}"


def find_alarms(
    tracks: Tracks,
    times: NDArray[np.float64],
    settings: CountSettings,
    crossings: Crossings,
    visits: ZoneVisits,
    ground: Ground | None = None,
) -> tuple[Alarm, ...]:
    """All alarms in order of time."""
    found = _wrong_ways(settings, crossings)
    speed = None
    for number, zone in enumerate(settings.zone):
        mine = visits.take(visits.zone == number)
        found += _long_stays(zone, mine, times)
        found += _crowds(zone, number, mine, times)
        if zone.top_speed > 0 and ground is not None:
            speed = speeds(tracks, times, ground) if speed is None else speed
            found += _too_fast(zone, mine, tracks, times, speed)
    return tuple(sorted(found, key=lambda alarm: (alarm.time, alarm.place, alarm.identity)))


def _wrong_ways(settings: CountSettings, crossings: Crossings) -> list[Alarm]:
    out = []
    for number, line in enumerate(settings.line):
        if line.forbidden == "none":
            continue
        way = 1 if line.forbidden == "forward" else -1
        for k in np.flatnonzero((crossings.line == number) & (crossings.direction == way)).tolist():
            out.append(
                Alarm(
                    "wrong way", line.name, int(crossings.identity[k]), int(crossings.frame[k]),
                    float(crossings.time[k]), float(way), 0.0,
                )
            )  # fmt: skip
    return out


def _long_stays(zone: ZoneSettings, visits: ZoneVisits, times: NDArray[np.float64]) -> list[Alarm]:
    limit = zone.longest_stay
    if limit <= 0:
        return []
    out = []
    for k in np.flatnonzero(visits.leave - visits.enter > limit).tolist():
        when = float(visits.enter[k]) + limit
        stay = float(visits.leave[k] - visits.enter[k])
        out.append(Alarm("stays too long", zone.name, int(visits.identity[k]), _frame(times, when), when, stay, limit))
    return out


def _crowds(zone: ZoneSettings, number: int, visits: ZoneVisits, times: NDArray[np.float64]) -> list[Alarm]:
    """One alarm each time the number inside goes above its limit, with the most reached until it is back."""
    if zone.most_inside <= 0:
        return []
    moments = np.unique(np.concatenate([visits.enter, visits.leave + 1e-9]))
    inside = occupancy(visits, number, moments)
    out = []
    for first, past in zip(*(column.tolist() for column in stretches(inside > zone.most_inside)), strict=True):
        when, most = float(moments[first]), float(inside[first:past].max())
        out.append(Alarm("too many inside", zone.name, 0, _frame(times, when), when, most, float(zone.most_inside)))
    return out


def _too_fast(
    zone: ZoneSettings, visits: ZoneVisits, tracks: Tracks, times: NDArray[np.float64], speed: NDArray[np.float64]
) -> list[Alarm]:
    """One alarm a visit in which the speed stays above the limit for a third of a second."""
    out = []
    for k in range(len(visits)):
        rows = tracks.path_of(int(visits.identity[k]))
        frame = tracks.frame[rows]
        rows = rows[(frame >= visits.enter_frame[k]) & (frame <= visits.leave_frame[k])]
        for first, past in zip(*(column.tolist() for column in stretches(speed[rows] > zone.top_speed)), strict=True):
            at = times[tracks.frame[rows[first]]], times[tracks.frame[rows[past - 1]]]
            if at[1] - at[0] >= LEAST_FAST:
                top, where = float(speed[rows[first:past]].max()), int(tracks.frame[rows[first]])
                out.append(
                    Alarm("too fast", zone.name, int(visits.identity[k]), where, float(at[0]), top, zone.top_speed)
                )
                break
    return out


def _frame(times: NDArray[np.float64], when: float) -> int:
    """First frame at or after ``when`` s."""
    return int(min(np.searchsorted(times, when - 1e-9), len(times) - 1))
