"""Rows a tracker writes as it goes, and the finished table made from them."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.kernel_parts import longer
from drover.core.ordering import order_by
from drover.core.types import Tracks, TrackState

__all__ = ["TrackRows", "boxes_seen", "write_rows"]

Float = NDArray[np.float64]
_COLUMNS: dict[str, tuple[type[np.generic], int]] = {
    "number": (np.int32, 0),
    "box": (np.float32, 4),
    "measured": (np.float32, 4),
    "state": (np.int8, 0),
    "detection": (np.int32, 0),
    "confidence": (np.float32, 0),
    "class_id": (np.int16, 0),
    "distance": (np.float32, 0),
    "margin": (np.float32, 0),
    "nis": (np.float32, 0),
}
MOST_IDENTITIES = 10_000  # by number, kept for work that has no end
MELTED = 1.6  # times the area of the filter's box: what is larger holds others too
TENTATIVE, CONFIRMED, COASTING = int(TrackState.TENTATIVE), int(TrackState.CONFIRMED), int(TrackState.COASTING)


class NewestRows(NamedTuple):
    """``identity`` (n,), ``box`` (n, 4) px, ``state`` (n,), ``class_id`` (n,) as in Tracks; ``found`` (n, 4) px and
    ``confidence`` (n,) of what each was linked to."""

    identity: NDArray[np.int32]
    box: NDArray[np.float32]
    state: NDArray[np.int8]
    class_id: NDArray[np.int16]
    found: NDArray[np.float32]
    confidence: NDArray[np.float32]


class TrackRows:
    """Collects rows frame by frame, in columns that grow by doubling.

    Numbers are births; identities are given in order of first belief.
    """

    def __init__(self) -> None:
        self._room = 1024
        self.columns: dict[str, NDArray] = {
            name: np.zeros((self._room, width) if width else self._room, dtype)
            for name, (dtype, width) in _COLUMNS.items()
        }
        self._count = 0
        self._frame_start = [0]
        self._identity: dict[int, int] = {}
        self._named = 0
        self._refused: list[NDArray[np.float32]] = []

    @property
    def count(self) -> int:
        """Rows written so far."""
        return self._count

    def room_for(self, more: int) -> None:
        """See that so many rows can be written after those there are."""
        while self._count + more > self._room:
            self._room *= 2
            self.columns = {name: longer(column, self._room) for name, column in self.columns.items()}

    def wrote(self, rows: int) -> None:
        """So many rows were written at the end."""
        self._count += rows

    def believe(self, numbers: NDArray[np.int32]) -> None:
        """Give an identity to each number that has none yet."""
        for number in numbers.tolist():
            if number not in self._identity:
                self._named += 1
                self._identity[number] = self._named

    def take_up(self, number: int, before: int) -> None:
        """A new number is an earlier one come back: it has that one's identity."""
        self._named += number not in self._identity
        self._identity[number] = self._identity[before]

    def refuse(self, distance: NDArray[np.float32]) -> None:
        """Note the nearest detection that a believed track could not have."""
        self._refused.append(distance)

    def end_frame(self) -> None:
        """Close the frame being written."""
        self._frame_start.append(self._count)

    def forget(self, needed: Callable[[], set[int]]) -> None:
        """Let go of all rows, and now and then of the identities of all but the numbers ``needed``: for live work."""
        self._count, self._frame_start, self._refused = 0, [0], []
        if len(self._identity) > MOST_IDENTITIES:
            keep = needed()
            self._identity = {number: who for number, who in self._identity.items() if number in keep}

    def links_of(self, number: int, most: int) -> NDArray[np.int32]:
        """The detections that a number was linked to last, at most so many, the newest at the end."""
        link = self.columns["detection"][: self._count][self.columns["number"][: self._count] == number]
        return link[link >= 0][-most:]

    def short_lives(self) -> NDArray[np.int64]:
        """How often each number was seen that has no identity."""
        number, link = (self.columns[name][: self._count] for name in ("number", "detection"))
        seen = np.bincount(number[link >= 0])
        seen[[known for known in self._identity if known < len(seen)]] = 0
        return seen[seen > 0]

    def newest(self, *, measured: bool) -> NewestRows:
        """The believed rows of the frame closed last, with boxes as found, or the filters'."""
        part = slice(self._frame_start[-2] if len(self._frame_start) > 1 else 0, self._frame_start[-1])
        identity = np.array([self._identity.get(n, 0) for n in self.columns["number"][part].tolist()], np.int32)
        keep = identity > 0
        found, own, state, kind, confidence = (
            self.columns[name][part][keep] for name in ("measured", "box", "state", "class_id", "confidence")
        )
        return NewestRows(identity[keep], found if measured else own, state, kind, found, confidence)

    def tracks(self, size: tuple[int, int], class_names: tuple[str, ...]) -> Tracks:
        """The finished table: believed tracks only, each ending where it was last seen."""
        table = {name: column[: self._count] for name, column in self.columns.items()}
        frame = np.repeat(np.arange(len(self._frame_start) - 1), np.diff(self._frame_start))
        identity = _lookup(self._identity, table["number"])
        keep = (identity > 0) & ~_after_last_seen(identity, frame, table["state"])
        order = np.flatnonzero(keep)
        coasts = table["state"][order] == TrackState.COASTING
        order = order[order_by(frame[order], identity[order], coasts.astype(np.int8))]
        # One that came back was seen while its former track still coasted: what was seen holds.
        twice = (np.diff(identity[order]) == 0) & (np.diff(frame[order]) == 0)
        order = np.delete(order, np.flatnonzero(twice) + 1)
        counts = np.bincount(frame[order], minlength=len(self._frame_start) - 1)
        refused = np.concatenate(self._refused) if self._refused else np.zeros(0, np.float32)
        return Tracks(
            frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
            identity=identity[order],
            nearest_refused=refused,
            size=size,
            class_names=class_names,
            **{name: column[order] for name, column in table.items() if name not in ("number", "measured")},
        )


@njit(cache=True, nogil=True, inline="always")
def melted(own: NDArray[np.float32], r: int, box: NDArray[np.float32], d: int) -> bool:  # pragma: no cover
    """Whether a box that was found is so much larger than the filter's that it must hold more than the one."""
    found, expected = 1.0, 1.0
    for axis in range(2):
        found *= box[d, axis + 2] - box[d, axis]
        expected *= own[r, axis + 2] - own[r, axis]
    return found > MELTED * expected


@njit(cache=True, nogil=True)
def boxes_seen(
    own: NDArray[np.float32], link: NDArray[np.int32], box: NDArray[np.float32]
) -> NDArray[np.float32]:  # pragma: no cover
    """Boxes of a finished table as :func:`write_rows` has them; ``own`` (rows, 4) px are the filters' own."""
    owners, out = np.zeros(box.shape[0], np.int64), own.copy()
    for r in range(link.shape[0]):
        if 0 <= link[r] < box.shape[0]:
            owners[link[r]] += 1
    for r in range(link.shape[0]):
        if 0 <= link[r] < box.shape[0] and owners[link[r]] == 1 and not melted(own, r, box, link[r]):
            out[r] = box[link[r]]
    return out


@njit(cache=True, nogil=True)
def write_rows(
    at: int,
    count: int,
    number: NDArray[np.int32],
    mean: Float,
    believed: NDArray[np.bool_],
    class_id: NDArray[np.int16],
    link: NDArray[np.int64],
    seen: NDArray[np.bool_],
    box: NDArray[np.float32],
    confidence: NDArray[np.float32],
    distance: Float,
    margin: Float,
    nis: Float,
    first_row: int,
    out_number: NDArray[np.int32],
    out_box: NDArray[np.float32],
    out_measured: NDArray[np.float32],
    out_state: NDArray[np.int8],
    out_detection: NDArray[np.int32],
    out_confidence: NDArray[np.float32],
    out_class: NDArray[np.int16],
    out_distance: NDArray[np.float32],
    out_margin: NDArray[np.float32],
    out_nis: NDArray[np.float32],
) -> int:  # pragma: no cover
    """Write one frame's rows of the first ``count`` tracks from row ``at`` on; returns how many.

    Tracks that are seen, and believed ones that are not (they coast), have a row. ``link`` (tracks,) is the
    detection each is linked to, -1 for none; ``distance``, ``margin`` and ``nis`` belong to the link. What was
    measured is the box that was found, where one alone is linked to it and it is not too large; else the filter's.
    """
    n = at
    owners = np.zeros(box.shape[0], np.int64)
    for k in range(count):
        if seen[k] and link[k] >= 0:
            owners[link[k]] += 1
    for k in range(count):
        if not (seen[k] or believed[k]):
            continue
        out_number[n] = number[k]
        half_w, half_h = max(mean[k, 2], 1.0) / 2, max(mean[k, 3], 1.0) / 2
        out_box[n, 0], out_box[n, 1] = mean[k, 0] - half_w, mean[k, 1] - half_h
        out_box[n, 2], out_box[n, 3] = mean[k, 0] + half_w, mean[k, 1] + half_h
        out_state[n] = COASTING if not seen[k] else CONFIRMED if believed[k] else TENTATIVE
        out_class[n] = class_id[k]
        linked = seen[k] and link[k] >= 0
        trusted = linked and owners[link[k]] == 1 and not melted(out_box, n, box, link[k])
        out_measured[n] = box[link[k]] if trusted else out_box[n]
        out_detection[n] = link[k] + first_row if linked else -1
        out_confidence[n] = confidence[link[k]] if linked else 0.0
        out_distance[n] = distance[k] if linked else np.nan
        out_margin[n] = margin[k] if linked else np.nan
        out_nis[n] = nis[k] if linked else np.nan
        n += 1
    return n - at


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
