"""The values that pass between stages: frozen, columnar, a row per box.

Pixels: x right, y down, origin at the top-left corner of the top-left pixel. Boxes are x1, y1, x2, y2.
Frames count from 0 here and from 1 in files and on screen. Times are seconds.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, fields, replace
from enum import IntEnum
from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from drover.core.ordering import order_of

__all__ = [
    "DEFAULT_CLASS",
    "LOOK",
    "Crossings",
    "Detections",
    "LabelledRows",
    "PathTable",
    "TrackState",
    "Tracks",
    "Truth",
    "rows_to_frames",
]

Float = NDArray[np.float64]
Float32 = NDArray[np.float32]
Int = NDArray[np.int64]
LOOK = 32  # numbers that say how a detection looks
DEFAULT_CLASS = "object"  # of what nobody has classed


class TrackState(IntEnum):
    """How a track stands at one frame; ``LOST`` never appears in a row, it is where rows end."""

    TENTATIVE = 0
    CONFIRMED = 1
    COASTING = 2
    LOST = 3


class LabelledRows(Protocol):
    """What scoring needs of tracks and of truth alike."""

    @property
    def frame_start(self) -> Int:
        """(frames + 1,) int64, first row of each frame."""
        ...

    @property
    def identity(self) -> NDArray[np.int32]:
        """(rows,) int32."""
        ...

    @property
    def box(self) -> Float32:
        """(rows, 4) float32, px."""
        ...


def rows_to_frames(frame_start: Int) -> Int:
    """Frame number of every row.

    Parameters
    ----------
    frame_start : (frames + 1,) int64
        First row of each frame, and the row count last.

    Returns
    -------
    (rows,) int64
    """
    return np.repeat(np.arange(len(frame_start) - 1, dtype=np.int64), np.diff(frame_start))


class _Digested:
    """What every table can do: be told from others by what it holds."""

    @cached_property
    def digest(self) -> str:
        """Fingerprint of all that the table holds; classes by name, whatever their numbers."""
        parts = hashlib.sha256()
        for column in fields(self):  # type: ignore[arg-type]
            value = getattr(self, column.name)
            if column.name == "class_names":
                continue
            if column.name == "class_id":
                names: tuple[str, ...] = self.class_names  # type: ignore[attr-defined]
                used = sorted({names[k] for k in np.unique(value).tolist()})
                rank = np.array([used.index(name) if name in used else -1 for name in names], np.int16)
                value = rank[value]
                parts.update("|".join(used).encode())
            parts.update(value.tobytes() if isinstance(value, np.ndarray) else repr(value).encode())
        return parts.hexdigest()[:24]


class _FrameRows(_Digested):
    """What every table of rows by frame can do."""

    frame_start: Int

    @property
    def frame_count(self) -> int:
        """Frames covered, with or without rows."""
        return len(self.frame_start) - 1

    def rows_of(self, frame: int) -> slice:
        """Rows of one frame; an empty slice outside the frames covered."""
        if not 0 <= frame < self.frame_count:
            return slice(0, 0)
        return slice(int(self.frame_start[frame]), int(self.frame_start[frame + 1]))


@dataclass(frozen=True)
class Detections(_FrameRows):
    """Boxes found in each frame, with the blob behind each one as run lengths.

    Attributes
    ----------
    frame_start : (frames + 1,) int64
    box : (rows, 4) float32, px
    confidence : (rows,) float32, fraction 0..1
    class_id : (rows,) int16, index into ``class_names``
    area : (rows,) float32, px, pixels in the blob (box area where there is no blob)
    run_start : (rows + 1,) int64, first run of each row's blob
    runs : (runs, 3) int16: y, first x, one past the last x
    size : (width, height) of the frame, px
    look : (rows, 32) uint8, how each looks; all zero where nobody looked, no rows where nobody ever did
    view : (frames, 4) float32, in the scene: what of it each picture shows, px; None in the picture itself
    """

    frame_start: Int
    box: Float32
    confidence: Float32
    class_id: NDArray[np.int16]
    area: Float32
    run_start: Int
    runs: NDArray[np.int16]
    size: tuple[int, int]
    class_names: tuple[str, ...] = (DEFAULT_CLASS,)
    look: NDArray[np.uint8] = field(default_factory=lambda: np.zeros((0, LOOK), np.uint8))
    view: Float32 | None = None

    def __len__(self) -> int:
        return len(self.box)

    def frozen(self) -> Detections:
        """The same rows through views that cannot be written.

        Kernels are compiled for each kind of array they meet; so they always meet the same, wherever rows come from.
        """
        columns = ("frame_start", "box", "confidence", "class_id", "area", "run_start", "runs", "look")
        views = {name: getattr(self, name).view(np.ndarray) for name in columns}
        for view in views.values():
            view.flags.writeable = False
        return replace(self, **views)

    def runs_of(self, row: int) -> NDArray[np.int16]:
        """(n, 3) int16 runs of one row's blob; empty for a box without a blob."""
        return self.runs[int(self.run_start[row]) : int(self.run_start[row + 1])]

    @staticmethod
    def from_boxes(
        frame: Int,
        box: Float32,
        confidence: Float32,
        *,
        frame_count: int,
        size: tuple[int, int],
        class_id: NDArray[np.int16] | None = None,
        class_names: tuple[str, ...] = (DEFAULT_CLASS,),
    ) -> Detections:
        """Detections without blobs, from rows in any order; rows outside the frames are left out."""
        inside = (frame >= 0) & (frame < frame_count)
        order = np.flatnonzero(inside)[order_of(frame[inside])]
        counts = np.bincount(frame[order], minlength=frame_count)
        boxes = np.ascontiguousarray(box[order], np.float32)
        ids = np.zeros(len(order), np.int16) if class_id is None else class_id[order].astype(np.int16)
        return Detections(
            frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
            box=boxes,
            confidence=confidence[order].astype(np.float32),
            class_id=ids,
            area=((boxes[:, 2] - boxes[:, 0]) * (boxes[:, 3] - boxes[:, 1])).astype(np.float32),
            run_start=np.zeros(len(order) + 1, np.int64),
            runs=np.zeros((0, 3), np.int16),
            size=size,
            class_names=class_names,
        )


@dataclass(frozen=True)
class PathTable:
    """Track rows put in path order: all of one identity, frame by frame, then the next identity.

    ``row`` maps each path row to its row in :class:`Tracks`; ``start`` is (identities + 1,) int64.
    """

    identity: NDArray[np.int32]
    start: Int
    row: Int
    frame: Int


@dataclass(frozen=True)
class Tracks(_FrameRows):
    """Identities over the whole clip, a row per identity and frame, sorted by frame, then identity.

    Attributes
    ----------
    frame_start : (frames + 1,) int64
    identity : (rows,) int32, from 1
    box : (rows, 4) float32, px; the filtered box, or the forecast while coasting
    state : (rows,) int8, see :class:`TrackState`
    detection : (rows,) int32, row in the detections, -1 while coasting
    confidence : (rows,) float32, fraction; 0 while coasting
    class_id : (rows,) int16
    distance : (rows,) float32, match distance in standard deviations; NaN where nothing was matched
    nearest_refused : (refusals,) float32, distance of the nearest detection where a confirmed track found none
    margin : (rows,) float32, by how much the link beats its runner-up in cost; infinite without a rival
    nis : (rows,) float32, normalised innovation squared of the link; 2 on average when the noises are right
    scene_box : (rows, 4) float32, px, where it lies in its shot's first picture; None where the camera stands
    """

    frame_start: Int
    identity: NDArray[np.int32]
    box: Float32
    state: NDArray[np.int8]
    detection: NDArray[np.int32]
    confidence: Float32
    class_id: NDArray[np.int16]
    distance: Float32
    nearest_refused: Float32
    size: tuple[int, int]
    class_names: tuple[str, ...] = (DEFAULT_CLASS,)
    margin: Float32 | None = None
    nis: Float32 | None = None
    scene_box: Float32 | None = None

    def __len__(self) -> int:
        return len(self.identity)

    @property
    def lying(self) -> Float32:
        """(rows, 4) float32 px, the boxes in the scene, where the ground stands still."""
        return self.box if self.scene_box is None else self.scene_box

    @cached_property
    def frame(self) -> Int:
        """(rows,) int64, frame of each row."""
        return rows_to_frames(self.frame_start)

    @cached_property
    def class_of_identity(self) -> NDArray[np.int16]:
        """(largest identity + 1,) int16, the class that each identity has in most of its rows."""
        kinds = max(1, len(self.class_names))
        votes = np.bincount(
            self.identity.astype(np.int64) * kinds + self.class_id,
            minlength=(int(self.identity.max(initial=0)) + 1) * kinds,
        )
        return votes.reshape(-1, kinds).argmax(axis=1).astype(np.int16)

    @cached_property
    def paths(self) -> PathTable:
        """The rows in path order, made once."""
        order = order_of(self.identity)  # rows of one identity stand in frame order already
        ranked = self.identity[order]
        first = np.flatnonzero(np.diff(ranked, prepend=-1)) if len(ranked) else np.zeros(0, np.int64)
        ids = ranked[first]
        start = np.concatenate([first, [len(order)]]).astype(np.int64)
        return PathTable(ids.astype(np.int32), start, order.astype(np.int64), self.frame[order])

    def path_of(self, identity: int) -> Int:
        """Rows of one identity in frame order; empty when there is none."""
        place = int(np.searchsorted(self.paths.identity, identity))
        if place >= len(self.paths.identity) or self.paths.identity[place] != identity:
            return np.zeros(0, np.int64)
        return self.paths.row[self.paths.start[place] : self.paths.start[place + 1]]


@dataclass(frozen=True)
class Crossings(_Digested):
    """Every passage of a track's reference point over a line, sorted by time.

    ``frame`` is the first frame at or after the crossing; ``time`` is exact, between frames;
    ``direction`` is +1 forward or -1 back; ``seen`` is false where the track coasted across.
    """

    line: NDArray[np.int16]
    identity: NDArray[np.int32]
    class_id: NDArray[np.int16]
    frame: Int
    time: Float
    direction: NDArray[np.int8]
    x: Float32
    y: Float32
    seen: NDArray[np.bool_]
    line_names: tuple[str, ...]
    class_names: tuple[str, ...] = (DEFAULT_CLASS,)

    def __len__(self) -> int:
        return len(self.line)

    def take(self, rows: NDArray[np.bool_] | Int) -> Crossings:
        """The same table with only some rows."""
        columns = ("line", "identity", "class_id", "frame", "time", "direction", "x", "y", "seen")
        return replace(self, **{name: getattr(self, name)[rows] for name in columns})


@dataclass(frozen=True)
class Truth(_FrameRows):
    """What was really there: boxes with identity, class, visibility and whether a row is to be considered."""

    frame_start: Int
    identity: NDArray[np.int32]
    box: Float32
    consider: NDArray[np.bool_]
    class_id: NDArray[np.int16]
    visibility: Float32
    class_names: tuple[str, ...] = (DEFAULT_CLASS,)

    def __len__(self) -> int:
        return len(self.identity)
