"""Results of Count as plain rows, for tables and for the project file. Frames count from 1, times are s."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.count.alarms import Alarm
from drover.core.count.ground import Ground, path_lengths
from drover.core.count.intervals import INTERVALS
from drover.core.count.zones import ZoneVisits
from drover.core.types import Tracks

__all__ = ["alarm_rows", "usual_interval", "visit_rows", "way_rows"]

Row = dict[str, str | int | float | bool]
MOST_INTERVALS = 60


def usual_interval(duration: float) -> float:
    """The shortest interval on offer (s) of which a clip ``duration`` s long has at most 60."""
    return next((length for length in INTERVALS.values() if duration <= MOST_INTERVALS * length), 86400.0)


def visit_rows(visits: ZoneVisits) -> list[Row]:
    """Rows of ``zones.csv``: one a stay."""
    return [
        {
            "zone": visits.zone_names[visits.zone[k]],
            "identity": int(visits.identity[k]),
            "class": visits.class_names[visits.class_id[k]],
            "enter": float(visits.enter[k]),
            "leave": float(visits.leave[k]),
            "dwell": float(visits.leave[k] - visits.enter[k]),
            "enter_frame": int(visits.enter_frame[k]) + 1,
            "leave_frame": int(visits.leave_frame[k]) + 1,
            "entered": bool(visits.entered[k]),
            "left": bool(visits.left[k]),
        }
        for k in range(len(visits))
    ]


def alarm_rows(alarms: tuple[Alarm, ...]) -> list[Row]:
    """Rows of ``alarms.csv``."""
    return [
        {
            "kind": one.kind,
            "place": one.place,
            "identity": one.identity,
            "frame": one.frame + 1,
            "time": one.time,
            "value": one.value,
            "limit": one.limit,
        }
        for one in alarms
    ]


def way_rows(tracks: Tracks, times: NDArray[np.float64], ground: Ground) -> list[Row]:
    """Rows of ``ways.csv``: how far and how fast each identity went over the ground, m and m/s."""
    ways = path_lengths(tracks, times, ground)
    out: list[Row] = []
    for who, (metres, mean, top) in ways.items():
        frames = tracks.frame[tracks.path_of(who)]
        out.append(
            {
                "identity": who,
                "class": tracks.class_names[tracks.class_of_identity[who]],
                "first": float(times[frames[0]]),
                "last": float(times[frames[-1]]),
                "metres": metres,
                "mean_speed": mean,
                "top_speed": top,
            }
        )
    return out
