"""Rows a tracker writes as it goes, and the finished table made from them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.types import Tracks, TrackState

__all__ = ["TrackRows"]

_COLUMNS: dict[str, tuple[type[np.generic], int]] = {
    "number": (np.int32, 0),
    "box": (np.float32, 4),
    "state": (np.int8, 0),
    "detection": (np.int32, 0),
    "confidence": (np.float32, 0),
    "class_id": (np.int16, 0),
    "distance": (np.float32, 0),
}


class TrackRows:
    """Collects rows frame by frame. Numbers are births; identities are given in order of first belief."""

    def __init__(self) -> None:
        self._parts: dict[str, list[NDArray[np.generic]]] = {name: [] for name in _COLUMNS}
        self._count = 0
        self._frame_start = [0]
        self._identity: dict[int, int] = {}
        self._refused: list[NDArray[np.float32]] = []

    def add(self, **columns: NDArray[np.generic]) -> None:
        """Add rows to the frame being written."""
        for name, part in columns.items():
            self._parts[name].append(part)
        self._count += len(columns["number"])

    def believe(self, numbers: NDArray[np.int32]) -> None:
        """Give an identity to each number that has none yet."""
        for number in numbers.tolist():
            if number not in self._identity:
                self._identity[number] = len(self._identity) + 1

    def refuse(self, distance: NDArray[np.float32]) -> None:
        """Note the nearest detection that a believed track could not have."""
        self._refused.append(distance)

    def end_frame(self) -> None:
        """Close the frame being written."""
        self._frame_start.append(self._count)

    def tracks(self, size: tuple[int, int], class_names: tuple[str, ...]) -> Tracks:
        """The finished table: believed tracks only, each ending where it was last seen."""
        table = {name: self._column(name) for name in _COLUMNS}
        frame = np.repeat(np.arange(len(self._frame_start) - 1), np.diff(self._frame_start))
        identity = _lookup(self._identity, table["number"])
        keep = (identity > 0) & ~_after_last_seen(identity, frame, table["state"])
        order = np.flatnonzero(keep)
        order = order[np.lexsort((identity[order], frame[order]))]
        counts = np.bincount(frame[order], minlength=len(self._frame_start) - 1)
        refused = np.concatenate(self._refused) if self._refused else np.zeros(0, np.float32)
        return Tracks(
            frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
            identity=identity[order],
            box=table["box"][order],
            state=table["state"][order],
            detection=table["detection"][order],
            confidence=table["confidence"][order],
            class_id=table["class_id"][order],
            distance=table["distance"][order],
            nearest_refused=refused,
            size=size,
            class_names=class_names,
        )

    def _column(self, name: str) -> NDArray:
        parts = self._parts[name]
        if len(parts) > 1:
            parts[:] = [np.concatenate(parts)]
        dtype, width = _COLUMNS[name]
        return parts[0] if parts else np.zeros((0, width) if width else 0, dtype)


def _lookup(identity: dict[int, int], number: NDArray[np.int32]) -> NDArray[np.int32]:
    table = np.zeros(int(number.max(initial=-1)) + 1, np.int32)
    for key, value in identity.items():
        if key < len(table):
            table[key] = value
    return table[number]


def _after_last_seen(
    identity: NDArray[np.int32], frame: NDArray[np.int64], state: NDArray[np.int8]
) -> NDArray[np.bool_]:
    """Rows that come after the last frame in which their identity was seen."""
    last = np.full(int(identity.max(initial=0)) + 1, -1, np.int64)
    seen = state != TrackState.COASTING
    np.maximum.at(last, identity[seen], frame[seen])
    return frame > last[identity]
