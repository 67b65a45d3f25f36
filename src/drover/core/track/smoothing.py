"""Finished tracks smoothed with what came after as well (Rauch, Tung and Striebel 1965, steady speed)."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.filters import FRAME_RATE, centre_and_size, scale_of
from drover.core.track.steps import speed_step
from drover.core.types import Detections, Tracks, TrackState

__all__ = ["measured_boxes", "smooth", "smooth_line"]

Float = NDArray[np.float64]
SIZES_CALMER = 0.3  # times the jumpiness: sizes change less abruptly than places
START_SPEED = 0.2  # of the size, px/frame: how fast one may be moving at first, one standard deviation


def smooth(
    tracks: Tracks, detections: Detections, times: Float, *, jumpiness: float, box_noise: float, scaling: float = 0.0
) -> Tracks:
    """Tracks with each path's boxes smoothed over the detections that it was linked from.

    Coasting rows count as not measured. ``jumpiness`` px/frame^2, ``box_noise`` px and ``scaling`` as in the recipe.
    """
    paths = tracks.paths
    measured = centre_and_size(measured_boxes(tracks, detections))
    at = times[tracks.frame] * FRAME_RATE
    seen = tracks.state != TrackState.COASTING
    box = tracks.box.copy()
    smooth_paths(paths.start, paths.row, at, measured, seen, jumpiness, box_noise, scaling, box)
    return replace(tracks, box=box)


def measured_boxes(tracks: Tracks, detections: Detections) -> NDArray[np.float32]:
    """What was measured of each row, (rows, 4) px: the detection it is linked to.

    Where several are linked to one blob, its box says little of each; there, and where a row coasts, it is the track's.
    """
    link = tracks.detection
    linked = (link >= 0) & (link < len(detections))
    owners = np.bincount(link[linked], minlength=max(1, len(detections)))
    alone = linked & (owners[np.where(linked, link, 0)] == 1)
    box = tracks.box.copy()
    box[alone] = detections.box[link[alone]]
    return box


@njit(cache=True, nogil=True)
def smooth_paths(
    start: NDArray[np.int64],
    row: NDArray[np.int64],
    at: Float,
    measured: Float,
    seen: NDArray[np.bool_],
    jumpiness: float,
    box_noise: float,
    scaling: float,
    box: NDArray[np.float32],
) -> None:  # pragma: no cover
    """Smooth every path's boxes, in place."""
    for p in range(start.shape[0] - 1):
        rows = row[start[p] : start[p + 1]]
        width, height = np.median(measured[rows, 2]), np.median(measured[rows, 3])
        scale = scale_of(width, height, scaling)
        speed = START_SPEED * np.sqrt(max(width * height, 1.0))
        line = np.empty((4, rows.shape[0]))
        for c in range(4):
            q = jumpiness * scale * (1.0 if c < 2 else SIZES_CALMER)
            line[c] = smooth_line(at[rows], measured[rows, c], seen[rows], q, box_noise * scale, speed)
        for k in range(rows.shape[0]):
            for axis in range(2):
                half = 0.5 * max(line[2 + axis, k], 1.0)
                box[rows[k], axis], box[rows[k], axis + 2] = line[axis, k] - half, line[axis, k] + half


@njit(cache=True, nogil=True)
def smooth_line(
    at: Float, z: Float, seen: NDArray[np.bool_], q: float, r: float, speed: float
) -> Float:  # pragma: no cover
    """One coordinate smoothed: a Kalman filter forward, then Rauch, Tung and Striebel's pass back.

    ``at`` (n,) frames, rising; ``z`` (n,) px; ``q`` px/frame^2, ``r`` px and the ``speed`` at first, px/frame, are
    standard deviations.
    """
    n = at.shape[0]
    x, p = np.empty((n, 2)), np.empty((n, 3))
    xf, pf = np.empty((n, 2)), np.empty((n, 3))
    for k in range(n):
        if k == 0:
            xf[0, 0], xf[0, 1] = z[0], 0.0
            pf[0, 0], pf[0, 1], pf[0, 2] = 1e3 * r * r, 0.0, speed * speed
        else:
            t = at[k] - at[k - 1]
            _, _, pp, pv, vv = speed_step(t, 0.0, 0.0)
            xf[k, 0], xf[k, 1] = x[k - 1, 0] + t * x[k - 1, 1], x[k - 1, 1]
            pf[k, 0] = p[k - 1, 0] + 2 * t * p[k - 1, 1] + t * t * p[k - 1, 2] + q * q * pp
            pf[k, 1] = p[k - 1, 1] + t * p[k - 1, 2] + q * q * pv.real
            pf[k, 2] = p[k - 1, 2] + q * q * vv
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
