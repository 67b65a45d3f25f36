"""How rows are put into a table."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from typing import Any

__all__ = ["fill"]


def fill(db: sqlite3.Connection, table: str, rows: Iterable[tuple[Any, ...]]) -> None:
    """Put whole rows into a table, in place of those there."""
    width = len(db.execute(f'PRAGMA table_info("{table}")').fetchall())
    db.execute(f"DELETE FROM {table}")
    db.executemany(f"INSERT INTO {table} VALUES ({','.join('?' * width)})", rows)
