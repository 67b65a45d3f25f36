"""Which detections are within a track's gate, and what each pair costs, term by term."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.geometry import pair_overlap
from drover.core.kernel_parts import longer
from drover.core.recipe import MatchSettings
from drover.core.track.cells import cells_between, into_cells
from drover.core.track.filters import plane_distance, scale_of
from drover.core.track.looks import look_distance

__all__ = ["TERMS", "find_candidates", "pair_terms", "weights_of"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]

# The terms of a pair's cost, each 0 (alike) to 1 (as unlike as may be), in the order of their weights.
TERMS = ("distance", "overlap", "direction", "size", "look")
SPREAD = 0.1  # of the reach about the forecast that is added for each frame unseen
HURRY = 2.0  # times the speed last seen that an object may make while it is not seen
STRAY = 0.02  # of its size that an object may move in a frame in any case
SURE_WAY = 10.0  # frames unseen from which the way gone since says all it can; from one frame to the next it jitters
STANDING = 0.06  # sizes under which an object has not moved
MOST_CANDIDATES = 24  # detections weighed for each track, the nearest: more are clutter
WAIT_WEIGHT = 0.3  # cost of having been unseen for the longest gap
STEADY_SPEED = 0.02  # sizes/frame under which a direction means nothing
LEAST_SIZE = 2.0  # px: the size of anything smaller


def weights_of(match: MatchSettings, *, looks: bool) -> Float:
    """Weights of the terms, in their order; looks weigh nothing where there are none. Never all zero."""
    weights = np.array([getattr(match, f"{name}_weight") for name in TERMS])
    weights[-1] *= looks
    if weights.sum() <= 0:
        weights[0] = 1.0
    return weights


@njit(cache=True, nogil=True, inline="always")
def pair_terms(
    mean: Float,
    cov: Float,
    last: Float,
    k: int,
    forecast: NDArray[np.float32],
    box: NDArray[np.float32],
    d: int,
    elapsed: float,
    noise: float,
    gate: float,
    generalised: bool,
    memory: NDArray[np.float32],
    look: NDArray[np.float32],
    out: Float,
) -> float:  # pragma: no cover
    """Fill the five terms for track ``k`` and detection ``d``; returns the Mahalanobis distance of the centres.

    ``forecast`` (tracks, 4) and ``box`` (detections, 4) px; ``elapsed`` is the time unseen, frames.
    The generalised overlap is Rezatofighi et al. 2019, "Generalized intersection over union", which ranks boxes that
    do not touch. ``last`` (tracks, 4) is the centre and the speed when last seen. ``memory`` (tracks, 32) and
    ``look`` (detections, 32) are the looks, ``look`` without rows where there are none.
    """
    x, y = 0.5 * (box[d, 0] + box[d, 2]), 0.5 * (box[d, 1] + box[d, 3])
    dx, dy = x - mean[k, 0], y - mean[k, 1]
    distance = plane_distance(cov, k, dx, dy, noise)
    out[0] = min(distance / gate, 1.0)
    overlap = pair_overlap(forecast, k, box, d)
    if generalised:
        overlap = 0.5 * (1.0 + overlap - _empty_share(forecast, k, box, d))
    out[1] = 1.0 - overlap
    out[2] = _turn(last, k, x, y, elapsed, size_of(mean, k))
    wide = np.log(max(box[d, 2] - box[d, 0], 1.0) / max(mean[k, 2], 1.0))
    tall = np.log(max(box[d, 3] - box[d, 1], 1.0) / max(mean[k, 3], 1.0))
    out[3] = 1.0 - np.exp(-1.5 * (abs(wide) + abs(tall)))
    out[4] = look_distance(memory, k, look, d) if look.shape[0] > 0 else 0.0
    return distance


@njit(cache=True, nogil=True)
def _empty_share(a: NDArray[np.float32], i: int, b: NDArray[np.float32], j: int) -> float:  # pragma: no cover
    """Share of the box around both that belongs to neither."""
    width = max(a[i, 2], b[j, 2]) - min(a[i, 0], b[j, 0])
    height = max(a[i, 3], b[j, 3]) - min(a[i, 1], b[j, 1])
    shared_w = max(0.0, min(a[i, 2], b[j, 2]) - max(a[i, 0], b[j, 0]))
    shared_h = max(0.0, min(a[i, 3], b[j, 3]) - max(a[i, 1], b[j, 1]))
    both = (a[i, 2] - a[i, 0]) * (a[i, 3] - a[i, 1]) + (b[j, 2] - b[j, 0]) * (b[j, 3] - b[j, 1]) - shared_w * shared_h
    whole = max(width * height, 1e-9)
    return (whole - both) / whole


@njit(cache=True, nogil=True, error_model="numpy")
def size_of(mean: Float, k: int) -> float:  # pragma: no cover
    """Size of track ``k``, px: the root of its box's area."""
    return np.sqrt(max(mean[k, 2], LEAST_SIZE) * max(mean[k, 3], LEAST_SIZE))


@njit(cache=True, nogil=True, error_model="numpy")
def _turn(last: Float, k: int, x: float, y: float, elapsed: float, size: float) -> float:  # pragma: no cover
    """How much the way to the detection turns from the way the track went when last seen, 0 not at all to 1 back."""
    vx, vy = last[k, 2], last[k, 3]
    speed = np.sqrt(vx * vx + vy * vy)
    if speed < STEADY_SPEED * size:
        return 0.0
    gx, gy = x - last[k, 0], y - last[k, 1]
    gone = np.sqrt(gx * gx + gy * gy)
    sure = min(elapsed / SURE_WAY, 1.0)
    if gone < STANDING * size:
        return 0.5 * sure
    return 0.5 * (1.0 - (gx * vx + gy * vy) / (gone * speed)) * sure


@njit(cache=True, nogil=True, error_model="numpy")
def find_candidates(
    mean: Float,
    cov: Float,
    last: Float,
    forecast: NDArray[np.float32],
    box: NDArray[np.float32],
    class_of: NDArray[np.int16],
    class_id: NDArray[np.int16],
    same_class: bool,
    unseen: Float,
    wait: Float,
    box_noise: float,
    scaling: float,
    gate: float,
    farthest: float,
    generalised: bool,
    memory: NDArray[np.float32],
    look: NDArray[np.float32],
    weights: Float,
    first: int,
    past: int,
) -> tuple[Int, Int, Float, Float, Float]:  # pragma: no cover
    """All pairs within the gate: track, detection, cost, distance; and each track's nearest distance.

    Of tracks ``first`` to ``past``.

    Detections are looked up by the cells of a grid: only those near a track are touched. However unsure the forecast,
    none is taken that lies more than ``farthest`` sizes from it (more after a while unseen), or from where the speed
    last seen could have led. ``wait`` (tracks,) adds to the cost of
    tracks long unseen, so that those seen lately go first.
    """
    m = box.shape[0]
    order, start, corner, cell, columns, rows = into_cells(box)
    middle, level = np.empty(m), np.empty(m)
    for k in range(m):
        middle[k] = 0.5 * (box[order[k], 0] + box[order[k], 2])
        level[k] = 0.5 * (box[order[k], 1] + box[order[k], 3])
    nearest = np.full(past - first, np.inf)
    room = 4 * (past - first) + 16
    track, detection = np.empty(room, np.int64), np.empty(room, np.int64)
    cost, distance = np.empty(room), np.empty(room)
    inside, inside_apart = np.empty(m, np.int64), np.empty(m)
    total, terms = np.sum(weights), np.zeros(weights.shape[0])
    n = 0
    for k in range(first, past):
        noise = box_noise * scale_of(mean[k, 2], mean[k, 3], scaling)
        size = size_of(mean, k)
        speed = np.sqrt(last[k, 2] ** 2 + last[k, 3] ** 2)
        near = farthest * size * (1.0 + SPREAD * unseen[k])
        most = farthest * size + (HURRY * speed + STRAY * size) * unseen[k]
        reach_x = min(2.0 * gate * np.sqrt(cov[k, 0] + noise * noise), near)
        reach_y = min(2.0 * gate * np.sqrt(cov[k, 6] + noise * noise), near)
        found = 0
        first_column, past_column = cells_between(mean[k, 0], reach_x, corner[0], cell, columns)
        first_row, past_row = cells_between(mean[k, 1], reach_y, corner[1], cell, rows)
        for row in range(first_row, past_row):
            # The cells of a row lie side by side, and so do what lies in them.
            for here in range(start[row * columns + first_column], start[row * columns + past_column]):
                dx, off = middle[here] - mean[k, 0], level[here] - mean[k, 1]
                if abs(dx) > reach_x or abs(off) > reach_y or (same_class and class_of[k] != class_id[order[here]]):
                    continue
                apart = plane_distance(cov, k, dx, off, noise)
                nearest[k - first] = min(nearest[k - first], apart)
                if apart > gate or dx * dx + off * off > near * near:
                    continue
                gone_x, gone_y = middle[here] - last[k, 0], level[here] - last[k, 1]
                if gone_x * gone_x + gone_y * gone_y > most * most:
                    continue
                inside[found], inside_apart[found] = order[here], apart
                found += 1
        chosen = found
        if found > MOST_CANDIDATES:
            chosen = MOST_CANDIDATES
            keep_nearest(inside, inside_apart, found, chosen, k)
        for c in range(chosen):
            d = inside[c]
            pair_terms(mean, cov, last, k, forecast, box, d, unseen[k], noise, gate, generalised, memory, look, terms)
            if n == room:
                room *= 2
                track, detection = longer(track, room), longer(detection, room)
                cost, distance = longer(cost, room), longer(distance, room)
            track[n], detection[n], distance[n] = k, d, inside_apart[c]
            cost[n] = WAIT_WEIGHT * wait[k]
            for t in range(terms.shape[0]):
                cost[n] += weights[t] * terms[t] / total
            n += 1
    return track[:n].copy(), detection[:n].copy(), cost[:n].copy(), distance[:n].copy(), nearest


@njit(cache=True, nogil=True)
def keep_nearest(row: Int, apart: Float, found: int, wanted: int, turn: int) -> None:  # pragma: no cover
    """Bring the ``wanted`` nearest of ``found`` entries to the front, in place.

    Of entries equally far those from place ``turn`` on are taken, round and round: of many boxes on one spot every
    track weighs others.
    """
    nearest = np.full(wanted, np.inf)  # ascending; few are wanted, so each is slid into its place
    for c in range(found):
        at = wanted - 1
        if apart[c] >= nearest[at]:
            continue
        while at > 0 and nearest[at - 1] > apart[c]:
            nearest[at] = nearest[at - 1]
            at -= 1
        nearest[at] = apart[c]
    limit = nearest[wanted - 1]
    kept_row, kept_apart = np.empty(wanted, np.int64), np.empty(wanted)
    n = 0
    for c in range(found):
        if apart[c] < limit:
            kept_row[n], kept_apart[n] = row[c], apart[c]
            n += 1
    c = turn % found
    while n < wanted:
        if apart[c] == limit:
            kept_row[n], kept_apart[n] = row[c], apart[c]
            n += 1
        c = (c + 1) % found
    row[:wanted], apart[:wanted] = kept_row, kept_apart
