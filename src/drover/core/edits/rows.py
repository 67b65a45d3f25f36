"""Track rows while they are being corrected: columns in order of frame that can be changed, and whole tracks again."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.core.track_rows import columns_of, with_rows
from drover.core.types import Tracks, TrackState

__all__ = ["EditedRows", "by_hand"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
BY_HAND: dict[str, float] = {"detection": -1, "confidence": 1.0, "distance": np.nan, "margin": np.inf, "nis": np.nan}


def by_hand(detection: NDArray, state: NDArray, confidence: NDArray) -> NDArray[np.bool_]:
    """Which rows were drawn by hand: seen for sure, though nothing was found there."""
    return (detection < 0) & (state == TrackState.CONFIRMED) & (confidence == 1.0)


class EditedRows:
    """Rows of tracks that can be changed; ``frame`` (rows,) int64 rises, ``columns`` by name."""

    def __init__(self, tracks: Tracks, times: Float) -> None:
        self.source, self.times = tracks, times
        self.frame = tracks.frame.copy()
        self.identity = tracks.identity.copy()
        self.columns = {name: getattr(tracks, name).copy() for name in columns_of(tracks) if name != "scene_box"}
        self.names = list(tracks.class_names)
        self.largest = int(self.identity.max(initial=0))

    def new_identity(self) -> int:
        """A number that nothing has."""
        self.largest += 1
        return self.largest

    def frame_at(self, time: float) -> int:
        """The frame nearest to a time."""
        place = int(np.searchsorted(self.times, time))
        if place > 0 and (place >= len(self.times) or time - self.times[place - 1] < self.times[place] - time):
            place -= 1
        return min(place, self.source.frame_count - 1)

    def rows_of(self, frame: int) -> slice:
        """Rows of one frame."""
        return slice(*np.searchsorted(self.frame, (frame, frame + 1)).tolist())

    def path_of(self, identity: int) -> Int:
        """Rows of an identity in order of frame."""
        return np.flatnonzero(self.identity == identity)

    def take(self, rows: NDArray[np.bool_]) -> None:
        """Keep some rows only."""
        self.frame, self.identity = self.frame[rows], self.identity[rows]
        self.columns = {name: column[rows] for name, column in self.columns.items()}

    def put(self, identity: int, frame: Int, box: NDArray, *, state: TrackState, over: bool) -> int:
        """Give an identity boxes (n, 4) px by hand in frames (n,); where it has a row that one goes if ``over``.

        Returns how many boxes were put.
        """
        mine = self.path_of(identity)
        there = np.isin(frame, self.frame[mine])
        if over:
            gone = mine[np.isin(self.frame[mine], frame)]
            keep = np.ones(len(self.frame), np.bool_)
            keep[gone] = False
            kind = int(self.columns["class_id"][mine[0]]) if len(mine) else 0
            self.take(keep)
        else:
            frame, box = frame[~there], box[~there]
            kind = int(self.columns["class_id"][mine[0]]) if len(mine) else 0
        n = len(frame)
        self.frame = np.concatenate([self.frame, frame])
        order = np.argsort(self.frame, kind="stable")
        self.frame = self.frame[order]
        self.identity = np.concatenate([self.identity, np.full(n, identity, np.int32)])[order]
        given = {**BY_HAND, "state": int(state), "class_id": kind}
        if state == TrackState.COASTING:
            given["confidence"] = 0.0
        for name, column in self.columns.items():
            more = box.astype(np.float32) if name == "box" else np.full(n, given[name], column.dtype)
            self.columns[name] = np.concatenate([column, more])[order]
        return n

    def class_number(self, name: str) -> int:
        """The place of a class among the names; a new one where nobody has it."""
        if name not in self.names:
            self.names.append(name)
        return self.names.index(name)

    def table(self) -> Tracks:
        """The rows as tracks again."""
        bare = replace(self.source, class_names=tuple(self.names), scene_box=None)
        return with_rows(bare, self.frame, self.identity, self.columns)
