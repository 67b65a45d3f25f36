"""Counts over time: per interval, added up, and the interval with the most."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.types import Crossings

__all__ = ["INTERVALS", "IntervalCounts", "count_intervals", "interval_rows"]

# Lengths on offer, s, by what they are called.
INTERVALS = {
    "10 s": 10.0, "30 s": 30.0, "1 min": 60.0, "5 min": 300.0, "15 min": 900.0, "1 hour": 3600.0, "1 day": 86400.0,
}  # fmt: skip
MOST = 100_000


@dataclass(frozen=True)
class IntervalCounts:
    """Crossings of one line in each interval: ``start`` (n,) s, ``forward`` and ``back`` (n,), ``length`` s."""

    start: NDArray[np.float64]
    forward: NDArray[np.int64]
    back: NDArray[np.int64]
    length: float

    @property
    def peak(self) -> int:
        """The interval with the most crossings, the first of them; 0 where there are none."""
        return int(np.argmax(self.forward + self.back)) if len(self.start) else 0


def count_intervals(
    crossings: Crossings, line: int, length: float, duration: float, class_id: int | None = None
) -> IntervalCounts:
    """Crossings of a line, of one class or of all, in each ``length`` s of a clip ``duration`` s long."""
    count = int(min(max(1, np.ceil(duration / length - 1e-9)), MOST))
    rows = crossings.line == line
    if class_id is not None:
        rows &= crossings.class_id == class_id
    place = np.clip((crossings.time / length).astype(np.int64), 0, count - 1)
    forward = np.bincount(place[rows & (crossings.direction > 0)], minlength=count)
    back = np.bincount(place[rows & (crossings.direction < 0)], minlength=count)
    return IntervalCounts(np.arange(count, dtype=np.float64) * length, forward, back, length)


def interval_rows(crossings: Crossings, length: float, duration: float) -> list[dict[str, str | int | float]]:
    """Rows of ``intervals.csv``: one an interval, line and class, with running sums; times in s."""
    rows: list[dict[str, str | int | float]] = []
    for line, name in enumerate(crossings.line_names):
        for class_id, kind in enumerate(crossings.class_names):
            counted = count_intervals(crossings, line, length, duration, class_id)
            sums = np.cumsum(counted.forward), np.cumsum(counted.back)
            for k, start in enumerate(counted.start.tolist()):
                rows.append(
                    {
                        "start": start,
                        "end": min(start + length, duration),
                        "line": name,
                        "class": kind,
                        "forward": int(counted.forward[k]),
                        "back": int(counted.back[k]),
                        "forward_so_far": int(sums[0][k]),
                        "back_so_far": int(sums[1][k]),
                    }
                )
    return rows
