"""Zones, intervals, alarms and ways over the ground as comma-separated tables."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Mapping
from pathlib import Path

__all__ = ["ALARM_COLUMNS", "INTERVAL_COLUMNS", "WAY_COLUMNS", "ZONE_COLUMNS", "write_table"]

ZONE_COLUMNS = (
    "zone", "identity", "class", "enter", "leave", "dwell", "enter_frame", "leave_frame", "entered", "left",
)  # fmt: skip
INTERVAL_COLUMNS = ("start", "end", "line", "class", "forward", "back", "forward_so_far", "back_so_far")
ALARM_COLUMNS = ("kind", "place", "identity", "frame", "time", "value", "limit")
WAY_COLUMNS = ("identity", "class", "first", "last", "metres", "mean_speed", "top_speed")

Value = str | int | float | bool


def write_table(path: Path, columns: tuple[str, ...], rows: Iterable[Mapping[str, Value]]) -> None:
    """Write rows under a header; numbers with up to four decimals, switches as 1 and 0."""
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(columns)
        writer.writerows([_text(row[name]) for name in columns] for row in rows)


def _text(value: Value) -> str | int:
    if isinstance(value, bool):
        return int(value)
    return f"{value:.4f}".rstrip("0").rstrip(".") if isinstance(value, float) else value
