"""The tracker's step in a few compiled calls: each call costs as much as the work on ten tracks.

Every part is a kernel of its own with its own tests; here they are only put together.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.correcting import regrow, share_blobs
from drover.core.track.filters import begin_filter, forecast_boxes, predict
from drover.core.track.groups import margins, match_rounds
from drover.core.track.rows import write_rows
from drover.core.track.sharing import guests
from drover.core.track.upkeep import begin_links, missed_by, note_seen, waits

__all__ = ["bear_tracks", "choose_links", "move_on", "note_frame", "share_out"]

Float = NDArray[np.float64]
Float32 = NDArray[np.float32]
Int = NDArray[np.int64]
Bools = NDArray[np.bool_]


@njit(cache=True, nogil=True)
def move_on(
    mean: Float, cov: Float, count: int, seen_at: Float, hidden: Bools, time: float, before: float, rate: float,
    frames: float, jumpiness: float, size_noise: float, scaling: float, pushed: bool, fade: float,
) -> tuple[Float, Float32]:  # pragma: no cover  # fmt: skip
    """Move the filters on; frames since each track was last seen, and the forecast boxes."""
    unseen, fading = waits(seen_at, hidden, count, time, before, rate)
    predict(mean, cov, count, frames, jumpiness, size_noise, scaling, pushed, fading, fade)
    return unseen, forecast_boxes(mean[:count])


@njit(cache=True, nogil=True)
def choose_links(
    track: Int, detection: Int, cost: Float, distance: Float, believed: Bools, confidence: Float32, sure_from: float,
    greedy: bool, tracks: int, detections: int,
) -> tuple[Int, Float, Int, Bools, Bools, Float, Float, Bools]:  # pragma: no cover  # fmt: skip
    """The match, by how much each link beats its rival, and what :func:`begin_links` says of each track."""
    match = match_rounds(track, detection, cost, believed, confidence, sure_from, greedy, tracks, detections)
    room = margins(track, detection, cost, match, detections)
    link, seen, hidden, apart, nis, alone = begin_links(track, detection, distance, match)
    return match, room, link, seen, hidden, apart, nis, alone


@njit(cache=True, nogil=True)
def share_out(
    forecast: Float32, believed: Bools, was_hidden: Bools, unseen: Float, most_unseen: float, least_cover: float,
    mean: Float, cov: Float, mode: Float, match: Int, run_start: Int, runs: NDArray[np.int16], box: Float32,
    box_noise: float, scaling: float, most: int, link: Int, seen: Bools, hidden: Bools, alone: Bools, nis: Float,
) -> None:  # pragma: no cover  # fmt: skip
    """Share blobs among the objects expected in them, in place; see :func:`guests` and :func:`share_blobs`."""
    guest, some = guests(forecast, box, believed, seen, was_hidden, unseen, most_unseen, match, least_cover)
    if some:
        share_blobs(
            mean, cov, mode, guest, match, run_start, runs, box, box_noise, scaling, most, link, seen, hidden, alone,
            nis, 0, box.shape[0],
        )  # fmt: skip


@njit(cache=True, nogil=True)
def note_frame(
    regrows: bool, before: float, time: float, least_hits: int, edges: tuple[float, float, float, float],
    number: NDArray[np.int32], mean: Float, usual: Float, hits: NDArray[np.int32], seen_at: Float, last: Float,
    was_hidden: Bools, at_edge: Bools, believed: Bools, class_id: NDArray[np.int16], link: Int, seen: Bools,
    hidden: Bools, nearest: Float, box: Float32, confidence: Float32, distance: Float, margin: Float, nis: Float,
    first_row: int, at: int, out_number: NDArray[np.int32], out_box: Float32, out_measured: Float32,
    out_state: NDArray[np.int8], out_detection: NDArray[np.int32], out_confidence: Float32,
    out_class: NDArray[np.int16], out_distance: Float32, out_margin: Float32, out_nis: Float32,
) -> tuple[Int, int, Float32]:  # pragma: no cover  # fmt: skip
    """Note who was seen and write the frame's rows: those newly believed, rows written, distances of the refused."""
    if regrows:
        regrow(mean, usual, seen | hidden, seen_at, before)
    newly = note_seen(
        mean, seen, hidden, time, least_hits, edges[0], edges[1], edges[2], edges[3], hits, seen_at, last, was_hidden,
        at_edge, believed,
    )  # fmt: skip
    wrote = write_rows(
        at, seen.shape[0], number, mean, believed, class_id, link, seen, box, confidence, distance, margin, nis,
        first_row, out_number, out_box, out_measured, out_state, out_detection, out_confidence, out_class, out_distance,
        out_margin, out_nis,
    )  # fmt: skip
    return newly, wrote, missed_by(believed, seen, nearest)


@njit(cache=True, nogil=True)
def bear_tracks(
    born: Int, count: int, first_number: int, at_once: bool, time: float, box_noise: float, scaling: float,
    box: Float32, box_class: NDArray[np.int16], number: NDArray[np.int32], mean: Float, cov: Float,
    hits: NDArray[np.int32], believed: Bools, seen_at: Float, class_id: NDArray[np.int16], usual: Float, last: Float,
    hidden: Bools, at_edge: Bools, in_exit: Bools, born_at: Float,
) -> None:  # pragma: no cover  # fmt: skip
    """Fill in a living track for each detection ``born`` (n,), from place ``count`` on, standing where it was found."""
    for i in range(born.shape[0]):
        k, d = count + i, born[i]
        begin_filter(
            mean, cov, k, np.float64(box[d, 0]), np.float64(box[d, 1]), np.float64(box[d, 2]), np.float64(box[d, 3]),
            box_noise, scaling,
        )  # fmt: skip
        number[k], hits[k], believed[k], seen_at[k], born_at[k] = first_number + i, 1, at_once, time, time
        class_id[k], hidden[k], at_edge[k], in_exit[k] = box_class[d], False, True, False
        usual[k], last[k] = mean[k, 2:4], 0.0
        last[k, :2] = mean[k, :2]
