"""What each lane shows, worked out once per result: stretches, gaps, crossings, and the order of lanes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from drover.core.track.gaps import bridges
from drover.core.types import Crossings, Tracks, TrackState

__all__ = ["Lane", "make_lanes", "sort_lanes"]


@dataclass(frozen=True)
class Lane:
    """One identity: first and last frame, seen and coasted stretches (first, past), crossings (time s, direction)."""

    identity: int
    first: int
    last: int
    seen: tuple[tuple[int, int], ...]
    coasted: tuple[tuple[int, int], ...]
    crossings: tuple[tuple[float, int], ...] = ()

    @property
    def coasted_frames(self) -> int:
        """Frames in which it was not seen."""
        return sum(past - first for first, past in self.coasted)


def make_lanes(tracks: Tracks, crossings: Crossings | None) -> list[Lane]:
    """A lane for every identity, in order of birth."""
    paths = tracks.paths
    passed: dict[int, list[tuple[float, int]]] = {}
    if crossings is not None:
        for who, when, way in zip(
            crossings.identity.tolist(), crossings.time.tolist(), crossings.direction.tolist(), strict=True
        ):
            passed.setdefault(who, []).append((when, way))
    coasting = tracks.state[paths.row] == TrackState.COASTING
    gaps_of_path: dict[int, tuple[tuple[int, int], ...]] = {}
    for k, before, after in bridges(tracks).tolist():
        gap = (int(paths.frame[before]) + 1, int(paths.frame[after]))
        gaps_of_path[k] = (*gaps_of_path.get(k, ()), gap)
    lanes = []
    for k, identity in enumerate(paths.identity.tolist()):
        part = slice(int(paths.start[k]), int(paths.start[k + 1]))
        frames, unseen = paths.frame[part], coasting[part]
        seen, gaps = _stretches(frames[~unseen]), gaps_of_path.get(k, ())
        lanes.append(Lane(identity, int(frames[0]), int(frames[-1]), seen, gaps, tuple(passed.get(identity, ()))))
    return lanes


def sort_lanes(lanes: list[Lane], order: str) -> list[Lane]:
    """Lanes by trouble (most coasting first), birth, line (first crossing) or length (longest first)."""
    keys = {
        "trouble": lambda lane: (-lane.coasted_frames, lane.identity),
        "birth": lambda lane: (lane.first, lane.identity),
        "line": lambda lane: (lane.crossings[0][0] if lane.crossings else float("inf"), lane.identity),
        "length": lambda lane: (lane.first - lane.last, lane.identity),
    }
    return sorted(lanes, key=keys[order])


def _stretches(frames: np.ndarray) -> tuple[tuple[int, int], ...]:
    """First frame and one past the last of every run of frames in a row."""
    if len(frames) == 0:
        return ()
    cut = np.flatnonzero(np.diff(frames) > 1)
    first, last = frames[np.concatenate([[0], cut + 1])], frames[np.concatenate([cut, [len(frames) - 1]])]
    return tuple(zip(first.tolist(), (last + 1).tolist(), strict=True))
