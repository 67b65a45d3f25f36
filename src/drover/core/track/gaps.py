"""Where an identity was not seen between two sightings: coasting, or for so long that nothing was drawn."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.types import Tracks, TrackState

__all__ = ["bridges"]


def bridges(tracks: Tracks) -> NDArray[np.int64]:
    """(n, 3) of each stretch unseen between two sightings: which path, and the places of both in the path table."""
    paths = tracks.paths
    seen = np.flatnonzero(tracks.state[paths.row] != TrackState.COASTING)
    owner = np.repeat(np.arange(len(paths.identity)), np.diff(paths.start))[seen]
    before, after = seen[:-1], seen[1:]
    gap = (owner[1:] == owner[:-1]) & (paths.frame[after] - paths.frame[before] > 1)
    return np.column_stack([owner[1:][gap], before[gap], after[gap]]).astype(np.int64)
