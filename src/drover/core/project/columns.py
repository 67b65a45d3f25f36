"""Columns of a project file's tables, read with nothing taken on trust.

Every number is checked against its bounds before anything works on it, every name is cut and freed of control
characters, and no table is read that is longer than its bound (docs/project-file.md states them).
"""

from __future__ import annotations

import sqlite3
from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import ProjectError
from drover.core.names import plain_name
from drover.core.types import DEFAULT_CLASS

__all__ = ["LATEST", "MOST_BYTES", "MOST_IDENTITY", "MOST_ROWS", "has_table", "names_of", "numbers", "rows_of", "whole"]

MOST_ROWS = {
    "frame_time": 10_000_000, "detection": 10_000_000, "track": 20_000_000, "crossing": 1_000_000, "truth": 20_000_000,
    "true_crossing": 1_000_000, "imported": 20_000_000, "verdict": 20_000, "missed": 20_000, "hand_total": 1_000,
    "correction": 20_000,    "sign_off": 10_000, "run": 100, "meta": 200, "clip": 1, "recipe": 1,
}  # fmt: skip
MOST_BYTES = 4 << 20  # of one value
MOST_NAMES = 2_000  # different classes
LATEST = 1e8  # s: three years
MOST_IDENTITY = 2**31 - 1


def has_table(db: sqlite3.Connection, name: str) -> bool:
    """Whether there is a table of that name."""
    return bool(db.execute("SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = ?", (name,)).fetchone())


def rows_of(db: sqlite3.Connection, table: str, columns: str, rest: str = "", values: tuple[Any, ...] = ()) -> Any:
    """Columns of a table as tuples, one a column; empty tuples where there are no rows.

    Raises
    ------
    ProjectError
        When the table is longer than any project's.
    """
    count = db.execute(f"SELECT count(*) FROM {table} {rest.split('ORDER BY')[0]}", values).fetchone()[0]
    if count > MOST_ROWS[table]:
        raise ProjectError(f"its table '{table}' has {count} rows, more than the {MOST_ROWS[table]} that can be read")
    rows = db.execute(f"SELECT {columns} FROM {table} {rest}", values).fetchall()
    return list(zip(*rows, strict=True)) if rows else [() for _ in columns.split(",")]


def numbers(
    values: tuple[Any, ...], what: str, low: float, high: float, *, unknown: bool = False
) -> NDArray[np.float64]:
    """A column of numbers within bounds; with ``unknown``, missing ones are NaN.

    Raises
    ------
    ValueError
        When one is not a number, or out of bounds.
    """
    if unknown:
        values = tuple(np.nan if value is None else value for value in values)
    if not all(isinstance(value, (int, float)) for value in values):
        raise ValueError(f"{what} that is not a number")
    out = np.asarray(values, np.float64)
    with np.errstate(invalid="ignore"):
        good = (out >= low) & (out <= high)
    if unknown:
        good |= np.isnan(out)
    if not good.all():
        raise ValueError(f"{what} out of {low:g}..{high:g}")
    return out


def whole(values: tuple[Any, ...], what: str, low: int, high: int) -> NDArray[np.int64]:
    """A column of whole numbers within bounds.

    Raises
    ------
    ValueError
        When one is not a whole number, or out of bounds.
    """
    if not all(isinstance(value, int) for value in values):
        raise ValueError(f"{what} that is not a whole number")
    return numbers(values, what, low, high).astype(np.int64)


def names_of(values: tuple[Any, ...], default: str = DEFAULT_CLASS) -> tuple[tuple[str, ...], NDArray[np.int16]]:
    """Different names in order of first sight, and the number of each row's.

    Raises
    ------
    ValueError
        When there are more than any project has.
    """
    places: dict[Any, int] = {}
    number = np.asarray([places.setdefault(value, len(places)) for value in values], np.int64)
    if len(places) > MOST_NAMES:
        raise ValueError(f"more than {MOST_NAMES} classes")
    shown = [plain_name(value) or default for value in places]
    names = tuple(dict.fromkeys(shown)) or (default,)
    renumbered = np.asarray([names.index(name) for name in shown] or [0], np.int16)
    return names, renumbered[number] if len(number) else np.zeros(0, np.int16)
