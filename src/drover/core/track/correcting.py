"""Correcting filters by what was seen: a detection to itself, a share of a blob, or the size known from before."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.filters import scale_of, update
from drover.core.track.measuring import measure, pace_of
from drover.core.track.sharing import LEAST_FIRMNESS, fit_boxes, pixel_table
from drover.core.track.turning import update_turning

__all__ = ["correct_alone", "regrow", "share_blob", "share_blobs"]

Float = NDArray[np.float64]


@njit(cache=True, nogil=True, error_model="numpy")
def correct(mean: Float, cov: Float, mode: Float, k: int, measured: Float, noise: Float) -> float:  # pragma: no cover
    """Correct track ``k`` by a measurement, whichever filter it has."""
    if mode.shape[1] > 0:
        return update_turning(mean, cov, mode, k, measured, noise)
    return update(mean, cov, k, measured, noise)


@njit(cache=True, nogil=True, error_model="numpy")
def correct_alone(
    mean: Float,
    cov: Float,
    mode: Float,
    usual: Float,
    match: NDArray[np.int64],
    alone: NDArray[np.bool_],
    box: NDArray[np.float32],
    confidence: NDArray[np.float32],
    box_noise: float,
    scaling: float,
    doubt: float,
    weak_doubt: float,
    left: float,
    top: float,
    right: float,
    bottom: float,
    frames: float,
    nis: Float,
    first: int,
    past: int,
) -> None:  # pragma: no cover
    """Correct each track from ``first`` to ``past`` that has a detection to itself."""
    measured, spread = np.empty(4), np.empty(4)
    pace, view = pace_of(frames), (left, top, right, bottom)
    for k in range(first, past):
        if match[k] < 0 or not alone[k]:
            continue
        noise = box_noise * scale_of(mean[k, 2], mean[k, 3], scaling)
        weakness = weak_doubt * (1.0 - min(max(float(confidence[match[k]]), 0.0), 1.0))
        measure(mean, usual, k, box, match[k], noise, doubt, weakness, view, pace, measured, spread)
        nis[k] = correct(mean, cov, mode, k, measured, spread)


@njit(cache=True, nogil=True)
def share_blob(
    mean: Float,
    cov: Float,
    mode: Float,
    members: NDArray[np.int64],
    runs: NDArray[np.int16],
    box: NDArray[np.float32],
    box_noise: float,
    scaling: float,
    nis: Float,
) -> NDArray[np.bool_]:  # pragma: no cover
    """Share a blob among its members and correct their centres; which of them were seen at all."""
    table, x0, y0 = pixel_table(runs, box)
    n = members.shape[0]
    expected, size, spread = np.empty((n, 2)), np.empty((n, 2)), np.empty((n, 2))
    for i in range(n):
        k = members[i]
        noise = box_noise * scale_of(mean[k, 2], mean[k, 3], scaling)
        for axis in range(2):
            expected[i, axis] = mean[k, axis] - (x0 if axis == 0 else y0)
            size[i, axis] = max(mean[k, 2 + axis], 2.0)
            spread[i, axis] = np.sqrt(cov[k, 6 * axis] + noise * noise)
    at, firmness = fit_boxes(table, expected, size, spread)
    firm = np.zeros(n, np.bool_)
    measured, noises = np.empty(4), np.full(4, np.inf)
    for i in range(n):
        k = members[i]
        noise = box_noise * scale_of(mean[k, 2], mean[k, 3], scaling)
        for axis in range(2):
            measured[axis] = at[i, axis] + (x0 if axis == 0 else y0)
            sits = firmness[i, axis] >= LEAST_FIRMNESS
            noises[axis] = 1.2 * noise / np.sqrt(firmness[i, axis]) if sits else np.inf
            firm[i] |= sits
        if firm[i]:
            nis[k] = correct(mean, cov, mode, k, measured, noises)
    return firm


@njit(cache=True, nogil=True)
def share_blobs(
    mean: Float,
    cov: Float,
    mode: Float,
    guest: NDArray[np.int64],
    match: NDArray[np.int64],
    run_start: NDArray[np.int64],
    runs: NDArray[np.int16],
    box: NDArray[np.float32],
    box_noise: float,
    scaling: float,
    most: int,
    link: NDArray[np.int64],
    seen: NDArray[np.bool_],
    hidden: NDArray[np.bool_],
    alone: NDArray[np.bool_],
    nis: Float,
    first: int,
    past: int,
) -> None:  # pragma: no cover
    """Share every blob that has guests among them and whoever is matched to it, in place; blobs ``first`` to ``past``.

    ``guest`` (tracks,) is the detection each is expected in, -1 for none. A guest alone in a blob that nobody has is
    hidden by it: it is too far from the blob's middle to be it, yet covered.
    """
    visited = np.zeros(box.shape[0], np.bool_)
    start = np.zeros(box.shape[0] + 1, np.int64)
    for k in range(match.shape[0]):
        if guest[k] >= 0:
            visited[guest[k]] = True
    for k in range(match.shape[0]):
        start[guest[k] + 1] += guest[k] >= 0
        start[match[k] + 1] += match[k] >= 0 and visited[match[k]] and match[k] != guest[k]
    start = np.cumsum(start)
    fill, who = start[:-1].copy(), np.empty(start[-1], np.int64)
    for k in range(match.shape[0]):
        for d in (guest[k], match[k] if match[k] != guest[k] else -1):
            if d >= 0 and visited[d]:
                who[fill[d]] = k
                fill[d] += 1
    for d in range(first, past):
        members = who[start[d] : min(fill[d], start[d] + most)]
        if members.shape[0] == 0:
            continue
        if members.shape[0] == 1:
            hidden[members[0]] = True
            continue
        firm = share_blob(
            mean, cov, mode, members, runs[run_start[d] : run_start[d + 1]], box[d], box_noise, scaling, nis
        )
        for i in range(members.shape[0]):
            k = members[i]
            alone[k], link[k], seen[k], hidden[k] = False, d, firm[i], True


@njit(cache=True, nogil=True)
def regrow(
    mean: Float, usual: Float, seen: NDArray[np.bool_], seen_at: Float, before: float
) -> None:  # pragma: no cover
    """Give a track that has just gone out of sight its usual size again.

    It went behind something: what was seen last was its rear part, so the rear side stays where it is.
    """
    for k in range(seen.shape[0]):
        if seen[k] or seen_at[k] < before - 1e-9:
            continue
        for axis in range(2):
            more = usual[k, axis] - mean[k, 2 + axis]
            if more > 0:
                mean[k, 2 + axis] = usual[k, axis]
                mean[k, axis] += 0.5 * more * np.sign(mean[k, 4 + axis])
