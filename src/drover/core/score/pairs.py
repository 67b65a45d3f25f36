"""All overlapping pairs of true and tracked boxes, frame by frame, and the assignment of one to the other."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.assignment import assign_most
from drover.core.geometry import pair_overlap
from drover.core.kernel_parts import longer
from drover.core.types import LabelledRows, Truth, rows_to_frames

__all__ = ["Pairs", "assign_pairs", "find_pairs"]

Rows = NDArray[np.int64]


@dataclass(frozen=True)
class Pairs:
    """Candidate pairs of one clip, sorted by frame, with identities numbered from 0 without holes.

    ``truth``, ``track``, ``frame`` (pairs,) int64: row of the considered truth, row of the kept tracks, frame;
    ``overlap`` (pairs,) float64; ``truth_id``, ``track_id`` (rows,) int64 dense identities of all rows;
    ``truth_frame``, ``track_frame`` (rows,) int64; ``excused`` (all tracked rows,) marks those left out because
    they cover truth not to be considered.
    """

    truth: Rows
    track: Rows
    frame: Rows
    overlap: NDArray[np.float64]
    truth_id: Rows
    track_id: Rows
    truth_frame: Rows
    track_frame: Rows
    excused: NDArray[np.bool_]

    def at_least(self, overlap: float) -> Pairs:
        """Only the pairs that overlap that much."""
        keep = self.overlap >= overlap - 1e-9
        return replace(
            self,
            truth=self.truth[keep],
            track=self.track[keep],
            frame=self.frame[keep],
            overlap=self.overlap[keep],
        )

    @property
    def truth_count(self) -> int:
        """True identities."""
        return int(self.truth_id.max(initial=-1)) + 1

    @property
    def track_count(self) -> int:
        """Tracked identities."""
        return int(self.track_id.max(initial=-1)) + 1


def find_pairs(truth: Truth, tracks: LabelledRows, *, least_overlap: float) -> Pairs:
    """Pairs with any overlap between truth worth considering and tracks.

    A tracked box whose best partner is a true box not to be considered (hidden, say) is left out with it: it
    is neither right nor wrong.
    """
    truth_row, track_row, overlap = overlapping_rows(truth.frame_start, truth.box, tracks.frame_start, tracks.box)
    truth_frame, track_frame = rows_to_frames(truth.frame_start), rows_to_frames(tracks.frame_start)
    frame = truth_frame[truth_row]
    dropped = _excused(truth, truth_row, track_row, frame, overlap, least_overlap, len(track_frame))
    keep = truth.consider[truth_row] & ~dropped[track_row]
    new_truth, new_track = _renumber(truth.consider), _renumber(~dropped)
    return Pairs(
        truth=new_truth[truth_row[keep]],
        track=new_track[track_row[keep]],
        frame=frame[keep],
        overlap=overlap[keep],
        truth_id=_dense(truth.identity[truth.consider]),
        track_id=_dense(tracks.identity[~dropped]),
        truth_frame=truth_frame[truth.consider],
        track_frame=track_frame[~dropped],
        excused=dropped,
    )


def assign_pairs(pairs: Pairs, value: NDArray[np.float64]) -> NDArray[np.int64]:
    """Places of the pairs of largest total value (all positive) with no row used twice.

    Rows of different frames never pair, so all frames are solved at once.
    """
    return assign_most(pairs.truth, pairs.track, value)


@njit(cache=True, nogil=True)
def overlapping_rows(
    true_start: Rows, true_box: NDArray[np.float32], start: Rows, box: NDArray[np.float32]
) -> tuple[Rows, Rows, NDArray[np.float64]]:  # pragma: no cover
    """All pairs of a true row and a tracked row of one frame that overlap, in order of frame, and by how much."""
    room, n = 1024, 0
    rows, overlap = np.empty((room, 2), np.int64), np.empty(room)
    for f in range(min(true_start.shape[0], start.shape[0]) - 1):
        for t in range(true_start[f], true_start[f + 1]):
            for d in range(start[f], start[f + 1]):
                if box[d, 0] >= true_box[t, 2] or box[d, 2] <= true_box[t, 0]:  # most lie beside it
                    continue
                shared = pair_overlap(true_box, t, box, d)
                if shared <= 0.0:
                    continue
                if n == room:
                    room *= 2
                    rows, overlap = longer(rows, room), longer(overlap, room)
                rows[n, 0], rows[n, 1], overlap[n] = t, d, shared
                n += 1
    return rows[:n, 0].copy(), rows[:n, 1].copy(), overlap[:n].copy()


def _excused(
    truth: Truth,
    truth_row: Rows,
    track_row: Rows,
    frame: Rows,
    overlap: NDArray[np.float64],
    least: float,
    track_rows: int,
) -> NDArray[np.bool_]:
    dropped = np.zeros(track_rows, np.bool_)
    if truth.consider.all():
        return dropped
    good = np.flatnonzero(overlap >= least - 1e-9)
    empty = np.zeros(0, np.int64)
    pairs = Pairs(truth_row[good], track_row[good], frame[good], overlap[good], empty, empty, empty, empty, dropped)
    value = 1.0 + overlap[good] + truth.consider[truth_row[good]]
    chosen = good[assign_pairs(pairs, value)]
    dropped[track_row[chosen[~truth.consider[truth_row[chosen]]]]] = True
    return dropped


def _renumber(keep: NDArray[np.bool_]) -> Rows:
    return np.where(keep, np.cumsum(keep) - 1, -1).astype(np.int64)


def _dense(identity: NDArray[np.int32]) -> Rows:
    return np.unique(identity, return_inverse=True)[1].astype(np.int64)
