"""What the tracking dials stand on: match distances and gap lengths."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.types import Tracks, TrackState

__all__ = ["gap_lengths", "gaps_of", "match_distance_samples"]


def match_distance_samples(tracks: Tracks) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Distances in standard deviations: of the links made, and of the nearest detection where none was."""
    return tracks.distance[np.isfinite(tracks.distance)], tracks.nearest_refused


def gaps_of(tracks: Tracks) -> NDArray[np.int64]:
    """Every stretch of coasting that ended in being seen again: (n, 3) identity, first frame, frames."""
    paths = tracks.paths
    coasting = tracks.state[paths.row] == TrackState.COASTING
    edge = np.diff(np.concatenate([[0], coasting.astype(np.int8), [0]]))
    first, past = np.flatnonzero(edge == 1), np.flatnonzero(edge == -1)
    owner = tracks.identity[paths.row]
    return np.column_stack([owner[first], paths.frame[first], past - first]).astype(np.int64)


def gap_lengths(tracks: Tracks, times: NDArray[np.float64]) -> NDArray[np.float64]:
    """Length of each gap that was bridged, (n,) float64 s, from last seen to seen again."""
    gaps = gaps_of(tracks)
    before = np.maximum(gaps[:, 1] - 1, 0)
    after = np.minimum(gaps[:, 1] + gaps[:, 2], len(times) - 1)
    return times[after] - times[before]
