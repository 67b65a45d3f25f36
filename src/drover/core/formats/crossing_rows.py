"""Crossings and counts as comma-separated tables."""

from __future__ import annotations

import csv
import math
from pathlib import Path

import numpy as np

from drover.core.errors import FormatError
from drover.core.names import plain_name
from drover.core.types import DEFAULT_CLASS, Crossings

__all__ = ["COUNT_COLUMNS", "CROSSING_COLUMNS", "read_crossings", "write_counts", "write_crossings"]

MOST_NAMES = 10_000
MOST_FRAMES = 10_000_000
MOST_TIME = 1e8  # s
MOST_PIXELS = 1e6
CROSSING_COLUMNS = ("line", "identity", "class", "frame", "time", "direction", "x", "y")
COUNT_COLUMNS = (
    "line",
    "class",
    "forward",
    "back",
    "net",
    "passages",
    "identities_forward",
    "identities_back",
)


def write_crossings(path: Path, crossings: Crossings) -> None:
    """Write one row a passage; direction +1 forward, -1 back; frames from 1; time in s; x, y in px."""
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(CROSSING_COLUMNS)
        for k in range(len(crossings)):
            writer.writerow(
                [
                    crossings.line_names[crossings.line[k]],
                    int(crossings.identity[k]),
                    crossings.class_names[crossings.class_id[k]],
                    int(crossings.frame[k]) + 1,
                    f"{crossings.time[k]:.4f}",
                    int(crossings.direction[k]),
                    f"{crossings.x[k]:.2f}",
                    f"{crossings.y[k]:.2f}",
                ]
            )


def write_counts(path: Path, rows: list[dict[str, str | int]]) -> None:
    """Write the tallies, a row per line and class."""
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(COUNT_COLUMNS)
        writer.writerows([row[name] for name in COUNT_COLUMNS] for row in rows)


def read_crossings(path: Path) -> Crossings:
    """Crossings from a file of the same columns, in order of time.

    Raises
    ------
    FormatError
        Naming the first line that cannot be used.
    """
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            reader = csv.DictReader(file)
            missing = [name for name in CROSSING_COLUMNS if name not in (reader.fieldnames or [])]
            if missing:
                raise FormatError(f"{path}: lacks the column '{missing[0]}'; expected {','.join(CROSSING_COLUMNS)}")
            rows = sorted((_row(path, reader.line_num, row) for row in reader), key=lambda row: row[4])
    except FileNotFoundError as error:
        raise FormatError(f"{path}: there is no such file; check the name") from error
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise FormatError(f"{path}: cannot be read as comma-separated text ({error})") from error
    lines = tuple(dict.fromkeys(row[0] for row in rows))
    classes = tuple(dict.fromkeys(row[2] for row in rows)) or (DEFAULT_CLASS,)
    if max(len(lines), len(classes)) > MOST_NAMES:
        raise FormatError(f"{path}: names more than {MOST_NAMES} lines or classes; check its columns")
    line_of, class_of = ({name: n for n, name in enumerate(names)} for names in (lines, classes))
    return Crossings(
        line=np.asarray([line_of[row[0]] for row in rows], np.int16),
        identity=np.asarray([row[1] for row in rows], np.int32),
        class_id=np.asarray([class_of[row[2]] for row in rows], np.int16),
        frame=np.asarray([row[3] for row in rows], np.int64),
        time=np.asarray([row[4] for row in rows], np.float64),
        direction=np.asarray([row[5] for row in rows], np.int8),
        x=np.asarray([row[6] for row in rows], np.float32),
        y=np.asarray([row[7] for row in rows], np.float32),
        seen=np.ones(len(rows), np.bool_),
        line_names=lines,
        class_names=classes,
    )


def _row(path: Path, line: int, row: dict[str, str]) -> tuple[str, int, str, int, float, int, float, float]:
    try:
        time, x, y = float(row["time"]), float(row["x"]), float(row["y"])
        identity, frame, direction = int(row["identity"]), int(row["frame"]), int(row["direction"])
    except (TypeError, ValueError) as error:
        raise FormatError(f"{path}: line {line}: {error}; expected {','.join(CROSSING_COLUMNS)}") from error
    if direction not in (1, -1):
        raise FormatError(f"{path}: line {line}: direction must be 1 or -1; got {direction}")
    if not all(map(math.isfinite, (time, x, y))):
        raise FormatError(f"{path}: line {line}: holds a value that is not a finite number")
    for name, value, low, high in (
        ("identity", identity, 0, 2**31 - 1), ("frame", frame, 1, MOST_FRAMES), ("time", time, 0, MOST_TIME),
        ("x", x, -MOST_PIXELS, MOST_PIXELS), ("y", y, -MOST_PIXELS, MOST_PIXELS),
    ):  # fmt: skip
        if not low <= value <= high:
            raise FormatError(f"{path}: line {line}: {name} must be in {low:g}..{high:g}")
    named = plain_name(row["line"] or ""), plain_name(row["class"] or "") or DEFAULT_CLASS
    return named[0], identity, named[1], frame - 1, time, direction, x, y
