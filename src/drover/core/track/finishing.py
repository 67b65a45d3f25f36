"""What is done to the tracks of a whole clip once they are linked: joined, gaps drawn straight, smoothed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.recipe import TrackSettings
from drover.core.track.filters import FRAME_RATE, centre_and_size
from drover.core.track.joining import join_broken
from drover.core.types import Tracks, TrackState

__all__ = ["fill_gaps", "finish", "smooth"]

Float = NDArray[np.float64]


def finish(tracks: Tracks, times: Float, settings: TrackSettings, look: NDArray[np.uint8] | None = None) -> Tracks:
    """The tracks of a whole clip, finished as the settings say.

    ``times`` s of the frames; ``look`` (detections, 32) how each detection looks, where anybody looked.
    """
    after = settings.after
    if len(tracks) == 0:
        return tracks
    if after.join:
        tracks = join_broken(tracks, times, settings, look)
    if after.fill_gaps:
        tracks = fill_gaps(tracks)
    if after.smooth:
        tracks = smooth(tracks, times, jumpiness=settings.motion.jumpiness, box_noise=settings.motion.box_noise)
    return tracks


def fill_gaps(tracks: Tracks) -> Tracks:
    """Each stretch of coasting drawn straight from the last box seen to the next one seen."""
    box = tracks.box.copy()
    straighten(tracks.paths.start, tracks.paths.row, tracks.paths.frame, tracks.state, box)
    return replace(tracks, box=box)


@njit(cache=True, nogil=True)
def straighten(
    start: NDArray[np.int64],
    row: NDArray[np.int64],
    frame: NDArray[np.int64],
    state: NDArray[np.int8],
    box: NDArray[np.float32],
) -> None:  # pragma: no cover
    """Interpolate boxes over coasting rows of each path, in place; state 2 is coasting."""
    for p in range(start.shape[0] - 1):
        before = -1
        for k in range(start[p], start[p + 1]):
            if state[row[k]] == 2:
                continue
            if before >= 0 and k - before > 1:
                span = frame[k] - frame[before]
                for j in range(before + 1, k):
                    share = (frame[j] - frame[before]) / span
                    for c in range(4):
                        box[row[j], c] = box[row[before], c] * (1 - share) + box[row[k], c] * share
            before = k


def smooth(tracks: Tracks, times: Float, *, jumpiness: float, box_noise: float) -> Tracks:
    """Boxes smoothed with what came after as well (Rauch, Tung and Striebel 1965, steady speed).

    Coasting rows count as not measured. ``jumpiness`` px/frame^2 and ``box_noise`` px as in the recipe.
    """
    box = tracks.box.copy()
    paths = tracks.paths
    measured = centre_and_size(tracks.box)
    seen = tracks.state != TrackState.COASTING
    for k in range(len(paths.identity)):
        rows = paths.row[paths.start[k] : paths.start[k + 1]]
        at = times[tracks.frame[rows]] * FRAME_RATE
        out = np.empty((len(rows), 4))
        for c in range(4):
            q = jumpiness if c < 2 else 0.3 * jumpiness
            out[:, c] = smooth_line(at, measured[rows, c], seen[rows], q, box_noise)
        half = np.maximum(out[:, 2:], 1.0) / 2
        box[rows] = np.concatenate([out[:, :2] - half, out[:, :2] + half], axis=1)
    return replace(tracks, box=box)


@njit(cache=True, nogil=True)
def smooth_line(at: Float, z: Float, seen: NDArray[np.bool_], q: float, r: float) -> Float:  # pragma: no cover
    """One coordinate smoothed: a Kalman filter forward, then Rauch, Tung and Striebel's pass back.

    ``at`` (n,) frames, rising; ``z`` (n,) px; ``q`` px/frame^2 and ``r`` px are standard deviations.
    """
    n = at.shape[0]
    x, p = np.empty((n, 2)), np.empty((n, 3))
    xf, pf = np.empty((n, 2)), np.empty((n, 3))
    for k in range(n):
        if k == 0:
            xf[0, 0], xf[0, 1] = z[0], 0.0
            pf[0, 0], pf[0, 1], pf[0, 2] = r * r * 4, 0.0, 100.0
        else:
            t = at[k] - at[k - 1]
            xf[k, 0], xf[k, 1] = x[k - 1, 0] + t * x[k - 1, 1], x[k - 1, 1]
            pf[k, 0] = p[k - 1, 0] + 2 * t * p[k - 1, 1] + t * t * p[k - 1, 2] + q * q * t**4 / 4
            pf[k, 1] = p[k - 1, 1] + t * p[k - 1, 2] + q * q * t**3 / 2
            pf[k, 2] = p[k - 1, 2] + q * q * t * t
        x[k], p[k] = xf[k], pf[k]
        if seen[k]:
            s = pf[k, 0] + r * r
            g0, g1 = pf[k, 0] / s, pf[k, 1] / s
            off = z[k] - xf[k, 0]
            x[k, 0], x[k, 1] = xf[k, 0] + g0 * off, xf[k, 1] + g1 * off
            keep = 1 - g0
            p[k, 0] = keep * keep * pf[k, 0] + g0 * g0 * r * r
            p[k, 1] = keep * (pf[k, 1] - g1 * pf[k, 0]) + g0 * g1 * r * r
            p[k, 2] = pf[k, 2] - 2 * g1 * pf[k, 1] + g1 * g1 * s
    for k in range(n - 2, -1, -1):
        t = at[k + 1] - at[k]
        det = max(pf[k + 1, 0] * pf[k + 1, 2] - pf[k + 1, 1] ** 2, 1e-12)
        a, b = p[k, 0] + t * p[k, 1], p[k, 1] + t * p[k, 2]  # P F'
        c00 = (a * pf[k + 1, 2] - p[k, 1] * pf[k + 1, 1]) / det
        c01 = (p[k, 1] * pf[k + 1, 0] - a * pf[k + 1, 1]) / det
        c10 = (b * pf[k + 1, 2] - p[k, 2] * pf[k + 1, 1]) / det
        c11 = (p[k, 2] * pf[k + 1, 0] - b * pf[k + 1, 1]) / det
        d0, d1 = x[k + 1, 0] - xf[k + 1, 0], x[k + 1, 1] - xf[k + 1, 1]
        x[k, 0] += c00 * d0 + c01 * d1
        x[k, 1] += c10 * d0 + c11 * d1
    return x[:, 0].copy()
