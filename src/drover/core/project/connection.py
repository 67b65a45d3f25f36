"""Opening the database of a project: modes, one transaction, what is refused, and what is left of a killed program."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

from drover.core.errors import ProjectError
from drover.core.project.columns import MOST_BYTES
from drover.core.project.schema import APPLICATION_ID, TABLES, UPGRADES, VERSION

__all__ = ["BUSY", "cannot", "check_schema", "connect", "drop_file", "interrupted", "transaction", "upgrade"]

BUSY = 5.0  # s to wait for another program that reads the file


@contextlib.contextmanager
def transaction(db: sqlite3.Connection) -> Iterator[None]:
    """All or nothing: what is written inside is taken back when anything fails."""
    db.execute("BEGIN IMMEDIATE")
    try:
        yield
        db.execute("COMMIT")
    except BaseException:
        with contextlib.suppress(sqlite3.Error):
            db.execute("ROLLBACK")
        raise


def drop_file(path: Path) -> None:
    """Remove a project file and all that stands beside it."""
    for ending in ("", "-journal", "-wal", "-shm"):
        with contextlib.suppress(OSError):
            Path(f"{path}{ending}").unlink(missing_ok=True)


def cannot(path: Path, error: Exception) -> ProjectError:
    """What is said when a project cannot be written."""
    return ProjectError(f"{path}: cannot be written ({error}); free some space or save the project somewhere else")


def interrupted(path: Path) -> bool:
    """Whether a killed program left something to roll back, which takes a connection that may write."""
    return any(Path(f"{path}{ending}").exists() for ending in ("-journal", "-wal"))


def connect(path: Path, *, read_only: bool = False) -> sqlite3.Connection:
    """An open database that runs nothing of what its file brings."""
    if read_only:
        db = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=BUSY, isolation_level=None)
    else:
        db = sqlite3.connect(path, timeout=BUSY, isolation_level=None)
    db.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, MOST_BYTES)
    db.execute("PRAGMA trusted_schema = OFF")
    return db


def upgrade(db: sqlite3.Connection) -> None:
    """Give a file of an earlier version what it lacks, each version in one transaction."""
    version = db.execute("PRAGMA user_version").fetchone()[0]
    for earlier in range(version, VERSION):
        db.executescript(f"BEGIN; {UPGRADES[earlier]} PRAGMA user_version = {earlier + 1}; COMMIT;")


def check_schema(db: sqlite3.Connection, path: Path) -> None:
    """Refuse what is no project, is damaged, comes from a later version, or holds code; ProjectError says which."""
    if db.execute("PRAGMA application_id").fetchone()[0] != APPLICATION_ID:
        raise ProjectError(f"{path}: is not a Drover project; open a .drover file")
    version = db.execute("PRAGMA user_version").fetchone()[0]
    if version > VERSION:
        raise ProjectError(f"{path}: was made by a later version of Drover (format {version}); update Drover")
    if version < 1:
        raise ProjectError(f"{path}: is damaged (format {version}); use a copy of it")
    for kind, name, sql in db.execute("SELECT type, name, sql FROM sqlite_master"):
        if kind not in ("table", "index") or (kind == "table" and not str(sql).startswith("CREATE TABLE")):
            raise ProjectError(
                f"{path}: holds code of its own ('{str(name)[:60]}') that no Drover project has; it was not opened"
            )
    found = {row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
    added = {
        name for name in TABLES for earlier in range(version, VERSION) if f" {name} (" in UPGRADES.get(earlier, "")
    }
    missing = [name for name in TABLES if name not in found and name not in added]
    if missing or db.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
        raise ProjectError(f"{path}: is damaged; use a copy of it")
    for name in set(TABLES) & found:
        if any(column[6] for column in db.execute(f"PRAGMA table_xinfo({name})")):
            raise ProjectError(f"{path}: holds columns made by code ('{name}') that no Drover project has")
