"""What each lane shows, worked out once per result: stretches, gaps, crossings, and the order of lanes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.count.zones import ZoneVisits
from drover.core.track.gaps import bridges
from drover.core.types import Crossings, Tracks, TrackState

__all__ = ["GROUPS", "Lane", "group_of", "make_lanes", "sort_lanes"]

Parts = NDArray[np.int64]
GROUPS = ("by class", "by line", "by zone")


@dataclass(frozen=True, eq=False)
class Lane:
    """One identity: first and last frame, ``seen`` and ``coasted`` stretches (n, 2) int64 as first frame and one past
    the last, crossings (time s, direction), its class, and the first line and zone that it came to.
    """

    identity: int
    first: int
    last: int
    seen: Parts
    coasted: Parts
    crossings: tuple[tuple[float, int], ...] = ()
    kind: str = ""
    line: str = ""
    zone: str = ""

    @property
    def coasted_frames(self) -> int:
        """Frames in which it was not seen."""
        return int((self.coasted[:, 1] - self.coasted[:, 0]).sum())


def make_lanes(tracks: Tracks, crossings: Crossings | None, visits: ZoneVisits | None = None) -> list[Lane]:
    """A lane for every identity, in order of birth, with its class and the first line and zone it came to."""
    paths = tracks.paths
    passed: dict[int, list[tuple[float, int]]] = {}
    if crossings is not None:
        for who, when, way in zip(
            crossings.identity.tolist(), crossings.time.tolist(), crossings.direction.tolist(), strict=True
        ):
            passed.setdefault(who, []).append((when, way))
    lines, zones = _first_lines(crossings), _first_zones(visits)
    coasting = tracks.state[paths.row] == TrackState.COASTING
    gaps = bridges(tracks)
    gap_start = np.searchsorted(gaps[:, 0], np.arange(len(paths.identity) + 1))
    coasted = np.column_stack([paths.frame[gaps[:, 1]] + 1, paths.frame[gaps[:, 2]]])
    kinds = [tracks.class_names[kind] for kind in tracks.class_of_identity.tolist()]
    lanes = []
    for k, identity in enumerate(paths.identity.tolist()):
        part = slice(int(paths.start[k]), int(paths.start[k + 1]))
        frames, unseen = paths.frame[part], coasting[part]
        seen, unseen_parts = _stretches(frames[~unseen]), coasted[gap_start[k] : gap_start[k + 1]]
        lanes.append(
            Lane(
                identity, int(frames[0]), int(frames[-1]), seen, unseen_parts, tuple(passed.get(identity, ())),
                kinds[identity], lines.get(identity, ""), zones.get(identity, ""),
            )
        )  # fmt: skip
    return lanes


def sort_lanes(lanes: list[Lane], order: str) -> list[Lane]:
    """Lanes by trouble (most coasting first), birth, line (first crossing) or length (longest first), or in groups: by
    class, by the first line they cross, by the first zone they come into.
    """
    keys = {
        "trouble": lambda lane: (-lane.coasted_frames, lane.identity),
        "birth": lambda lane: (lane.first, lane.identity),
        "line": lambda lane: (lane.crossings[0][0] if lane.crossings else float("inf"), lane.identity),
        "length": lambda lane: (lane.first - lane.last, lane.identity),
        **{
            name: lambda lane, name=name: (not group_of(lane, name), group_of(lane, name), lane.first)
            for name in GROUPS
        },
    }
    return sorted(lanes, key=keys[order])


def group_of(lane: Lane, order: str) -> str:
    """What a lane is grouped by in an order; empty where it is in none."""
    return {"by class": lane.kind, "by line": lane.line, "by zone": lane.zone}.get(order, "")


def _first_lines(crossings: Crossings | None) -> dict[int, str]:
    out: dict[int, str] = {}
    if crossings is not None:
        for who, line in zip(crossings.identity.tolist(), crossings.line.tolist(), strict=True):
            out.setdefault(who, crossings.line_names[line])
    return out


def _first_zones(visits: ZoneVisits | None) -> dict[int, str]:
    out: dict[int, str] = {}
    if visits is not None:
        order = np.argsort(visits.enter, kind="stable").tolist()
        for row in order:
            out.setdefault(int(visits.identity[row]), visits.zone_names[int(visits.zone[row])])
    return out


def _stretches(frames: NDArray[np.int64]) -> Parts:
    """First frame and one past the last of every run of frames in a row."""
    if len(frames) == 0:
        return np.zeros((0, 2), np.int64)
    cut = np.flatnonzero(np.diff(frames) > 1)
    first, last = frames[np.append(0, cut + 1)], frames[np.append(cut, len(frames) - 1)]
    return np.column_stack([first, last + 1])
