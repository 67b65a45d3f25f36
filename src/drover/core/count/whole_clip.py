"""Count over a whole clip: lines, zones and alarms together."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.count.alarms import Alarm, find_alarms
from drover.core.count.ground import Ground, ground_of
from drover.core.count.lines import count_crossings
from drover.core.count.paths import KnownPaths
from drover.core.count.zones import ZoneVisits, find_visits
from drover.core.recipe import CountSettings
from drover.core.types import Crossings, Tracks

__all__ = ["Counted", "count_all"]


@dataclass(frozen=True)
class Counted:
    """Everything Count makes of tracks: crossings, stays in zones, alarms, and the ground's measure if there is one."""

    crossings: Crossings
    visits: ZoneVisits
    alarms: tuple[Alarm, ...]
    ground: Ground | None


def count_all(
    tracks: Tracks,
    times: NDArray[np.float64],
    settings: CountSettings,
    *,
    paths: KnownPaths | None = None,
    visits: ZoneVisits | None = None,
    ground: Ground | None = None,
    fit_ground: bool = True,
) -> Counted:
    """Lines, zones and alarms over tracks; ``visits`` and ``ground`` are given where they are known already.

    Without ``fit_ground`` a ground that is not given is done without: fitting it takes longer than counting.

    Raises
    ------
    DroverError
        When the ground's measure makes no sense.
    """
    known = {} if paths is None else paths
    if ground is None and fit_ground:
        ground = ground_of(settings.ground, tracks.size)
    if visits is None:
        visits = find_visits(tracks, times, settings, paths=known)
    crossings = count_crossings(tracks, times, settings, paths=known, visits=visits)
    return Counted(crossings, visits, find_alarms(tracks, times, settings, crossings, visits, ground), ground)
