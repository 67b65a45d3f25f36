"""Boxes of a file as they are collected: rows, classes, and every fault counted and named."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import Cancelled
from drover.core.names import plain_name
from drover.core.types import DEFAULT_CLASS, Detections

__all__ = [
    "MOST_CLASSES",
    "MOST_PIXELS",
    "MOST_ROWS",
    "NAMED_FAULTS",
    "PACKED",
    "WATCHED",
    "BoxFile",
    "BoxTable",
    "Watch",
]

MOST_ROWS = 20_000_000
MOST_PIXELS = 1e6
MOST_CLASSES = 10_000
NAMED_FAULTS = 20
PACKED = 65_536  # rows kept loose before they are packed
WATCHED = 20_000  # rows between two looks up

Watch = Callable[[int], bool]


@dataclass(frozen=True)
class BoxFile:
    """What a file of boxes holds.

    ``frame`` (n,) int64 from 0, ``box`` (n, 4) float32 px, ``confidence`` (n,) float32 fraction, ``class_id`` (n,)
    int16; ``faults`` are plain lines, the first few of each kind; ``bad_rows`` counts all rows left out.
    """

    kind: str
    frame: NDArray[np.int64]
    box: NDArray[np.float32]
    confidence: NDArray[np.float32]
    class_id: NDArray[np.int16]
    class_names: tuple[str, ...]
    faults: tuple[str, ...]
    bad_rows: int

    def per_class(self) -> dict[str, int]:
        """Boxes of each class."""
        counts = np.bincount(self.class_id, minlength=len(self.class_names))
        return {name: int(count) for name, count in zip(self.class_names, counts, strict=True)}

    @property
    def frames_covered(self) -> int:
        """Frames with at least one box."""
        return len(np.unique(self.frame))

    def detections(
        self, *, frame_count: int, size: tuple[int, int], least_confidence: dict[str, float] | None = None
    ) -> Detections:
        """The good rows as detections; classes missing in ``least_confidence`` are dropped where it is given."""
        keep = np.ones(len(self.frame), np.bool_)
        if least_confidence is not None:
            limits = np.array([least_confidence.get(name, np.inf) for name in self.class_names], np.float64)
            keep = self.confidence >= limits[self.class_id]
        return Detections.from_boxes(
            self.frame[keep], self.box[keep], self.confidence[keep], frame_count=frame_count, size=size,
            class_id=self.class_id[keep], class_names=self.class_names,
        )  # fmt: skip


class BoxTable:
    """Collects good rows, packed as they come, and counts the bad ones."""

    def __init__(self, frame_count: int, size: tuple[int, int], watch: Watch | None) -> None:
        self.frame_count, self.size, self._watch = frame_count, size, watch
        self._loose: list[tuple[int, float, float, float, float, float, int]] = []
        self._packed: list[NDArray[np.float32]] = []
        self._seen = self.count = 0
        self.names: dict[str, int] = {}
        self.faults: list[str] = []
        self.kinds: Counter[str] = Counter()

    def fault(self, where: str, kind: str, detail: str = "") -> None:
        """Note a row that cannot be used: the first few of a kind are named, all are counted."""
        self.kinds[kind] += 1
        if self.kinds[kind] <= 3 and len(self.faults) < NAMED_FAULTS:
            self.faults.append(f"{where}: {kind}{': ' + detail if detail else ''}")

    def look_up(self, rows: int = 1) -> None:
        """Say how far the reading is, now and then; stop when told to."""
        before, self._seen = self._seen, self._seen + rows
        if self._watch is not None and before // WATCHED != self._seen // WATCHED and self._watch(self._seen):
            raise Cancelled("reading the boxes was stopped")

    def number_of(self, name: str) -> int:
        """Number of a class."""
        return self.names.setdefault(plain_name(name) or DEFAULT_CLASS, len(self.names))

    def add_table(self, table: NDArray[np.float32]) -> None:
        """Rows already known to be good: frame, x1, y1, x2, y2, confidence, class."""
        self._pack()
        self._packed.append(table)
        self.count += len(table)

    def _pack(self) -> None:
        if self._loose:
            self._packed.append(np.asarray(self._loose, np.float32).reshape(-1, 7))
            self._loose = []

    def add(self, where: str, frame: int, box: tuple[float, float, float, float], sure: float, name: str) -> None:
        """Take one row, ``box`` px, or note what is wrong with it."""
        x1, y1, x2, y2 = box
        width, height = self.size
        if not all(map(math.isfinite, (*box, sure))):
            self.fault(where, "holds a value that is not a finite number")
        elif x2 <= x1 or y2 <= y1:
            self.fault(where, "width and height must be above 0", f"got {x2 - x1:g} x {y2 - y1:g}")
        elif max(map(abs, box)) > MOST_PIXELS:
            self.fault(where, f"the box reaches beyond {MOST_PIXELS:.0f} px")
        elif name not in self.names and len(self.names) >= MOST_CLASSES:
            self.fault(where, f"there are more than {MOST_CLASSES} classes")
        elif not 0 <= frame < self.frame_count:
            self.fault(where, f"is beyond the clip's {self.frame_count} frames", f"frame {frame + 1}")
        elif x2 <= 0 or y2 <= 0 or x1 >= width or y1 >= height:
            self.fault(where, f"the box lies outside the {width} x {height} frame")
        elif self.count >= MOST_ROWS:
            self.fault(where, f"there are more than {MOST_ROWS} rows")
        else:
            self._loose.append((frame, x1, y1, x2, y2, min(max(sure, 0.0), 1.0), self.number_of(name)))
            self.count += 1
            if len(self._loose) >= PACKED:
                self._pack()

    def result(self, kind: str) -> BoxFile:
        """All that was read, as one frozen value."""
        self._pack()
        table = np.concatenate(self._packed) if self._packed else np.zeros((0, 7), np.float32)
        self._packed = []
        counted = [f"{count} rows: {what}" for what, count in self.kinds.most_common() if count > 3]
        return BoxFile(
            kind=kind,
            frame=table[:, 0].astype(np.int64),
            box=np.ascontiguousarray(table[:, 1:5]),
            confidence=np.ascontiguousarray(table[:, 5]),
            class_id=table[:, 6].astype(np.int16),
            class_names=tuple(self.names) or (DEFAULT_CLASS,),
            faults=(*self.faults, *counted),
            bad_rows=sum(self.kinds.values()),
        )
