"""Whether anybody has worked in a project."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from drover.core.project.connection import connect, interrupted

__all__ = ["was_worked_in"]

WORK = ("edit", "verdict", "missed", "hand_total", "sign_off", "truth", "imported")  # tables that only a person fills


def was_worked_in(path: Path) -> bool:
    """Whether a project holds anything that a person did; one that cannot be read counts as such."""
    try:
        with closing(connect(path, read_only=not interrupted(path))) as db:
            return any(db.execute(f"SELECT 1 FROM {table} LIMIT 1").fetchone() for table in WORK)
    except sqlite3.Error:
        return True
