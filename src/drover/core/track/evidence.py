"""What the tracking dials stand on: match distances and gap lengths."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.types import Tracks, TrackState

__all__ = ["chi_square_share", "gap_lengths", "gaps_of", "match_distance_samples", "noise_verdict"]


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


def chi_square_share(edges: NDArray[np.float64]) -> NDArray[np.float64]:
    """Share of links between distances (standard deviations, rising) that right noises would give.

    The squared distance of a centre in the plane is then chi-square with two degrees of freedom, so the distance
    is Rayleigh distributed.
    """
    below = 1.0 - np.exp(-0.5 * np.asarray(edges, np.float64) ** 2)
    return np.diff(below)


def noise_verdict(tracks: Tracks) -> str:
    """The innovation check in a sentence: which noise to raise or lower (Bar-Shalom et al. 2001, 5.4.2).

    The normalised innovation squared of a link has mean 2 when the noises are right. Bounds are those of the mean
    of so many links at 95 %, widened to 1.2 and 3, since real motion is never so pure.
    """
    if tracks.nis is None:
        return ""
    nis = tracks.nis[np.isfinite(tracks.nis)]
    if len(nis) < 30:
        return "Too few links to check the noises."
    mean, high = float(nis.mean()), float(np.mean(nis > 5.99))
    told = f"Innovation check: {mean:.1f}, right is 2 (1.2 to 3)."
    if mean > 3.0:
        wild = high > 0.25
        return f"{told} The filter is too sure: raise {'jumpiness' if wild else 'box noise'}."
    if mean < 1.2:
        return f"{told} Most boxes lie nearer than the filter expects: try less box noise."
    return f"{told} The noises fit."
