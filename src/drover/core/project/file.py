"""Writing and reading a project file, part by part, each part in one transaction.

A program killed while writing leaves the file as it was before that part. Reading trusts nothing: the file is
checked first, only known tables are read, and every column is converted.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

from drover.core.errors import DroverError, ProjectError
from drover.core.project.contents import KeptRun, ProjectContents
from drover.core.project.counted import write_audit, write_counted
from drover.core.project.reading import read_all
from drover.core.project.schema import APPLICATION_ID, SCHEMA, TABLES, UPGRADES, VERSION
from drover.core.project.writing import (
    now,
    write_clip,
    write_crossings,
    write_detections,
    write_imported,
    write_recipe,
    write_run,
    write_tracks,
    write_truth,
    write_view,
)  # fmt: skip

__all__ = ["ProjectFile", "read_project"]


class ProjectFile:
    """A project being kept up to date on disk.

    Only what changed since the last write is written: a moved line rewrites crossings, not tracks.

    Raises
    ------
    ProjectError
        When the file cannot be made or written.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._written: dict[str, Any] = {}

    def save(self, contents: ProjectContents) -> None:
        """Bring the file up to date with the contents."""
        try:
            with closing(_connect(self.path)) as db, db:
                if not _has_tables(db):
                    db.executescript(SCHEMA)
                    db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
                    db.execute(f"PRAGMA user_version = {VERSION}")
                    self._written.clear()
                _upgrade(db)
                db.execute("BEGIN")
                self._save_parts(db, contents)
        except (sqlite3.Error, OSError) as error:
            raise ProjectError(f"{self.path}: cannot be written ({error}); save the project somewhere else") from error

    def log_edit(self, what: str, before: str, after: str) -> None:
        """Note one change of the recipe, so that a total can be traced to the settings it was counted with."""
        try:
            with closing(_connect(self.path)) as db, db:
                if _has_tables(db):
                    db.execute(
                        "INSERT INTO edit (at, what, before, after) VALUES (?, ?, ?, ?)",
                        (now(), what, before, after),
                    )
        except (sqlite3.Error, OSError) as error:
            raise ProjectError(f"{self.path}: cannot be written ({error}); save the project somewhere else") from error

    def _save_parts(self, db: sqlite3.Connection, contents: ProjectContents) -> None:
        run = contents.run
        parts: list[tuple[str, Any, Any]] = [
            ("clip", contents.clip.fingerprint + contents.clip.path, lambda: write_clip(db, contents.clip)),
            ("recipe", contents.recipe_text, lambda: write_recipe(db, contents.recipe_text)),
            ("truth", id(contents.truth), lambda: write_truth(db, contents.truth)),
            (
                "true",
                id(contents.true_crossings),
                lambda: write_crossings(db, "true_crossing", contents.true_crossings),
            ),
            ("imported", id(contents.imported), lambda: write_imported(db, contents.imported)),
            ("audit", contents.audit, lambda: write_audit(db, contents.audit)),
            ("counted", run and run.count_key, lambda: write_counted(db, run and run.counted, contents.clip.duration)),
            ("view", tuple(sorted(contents.view.items())), lambda: write_view(db, contents.view)),
            ("run", _run_stamp(run), lambda: write_run(db, run)),
            ("detections", run and run.detect_key, lambda: write_detections(db, run)),
            ("tracks", run and run.track_key, lambda: write_tracks(db, run)),
            (
                "crossings",
                run and run.count_key,
                lambda: write_crossings(db, "crossing", run and run.crossings),
            ),
        ]
        fresh = {}
        for name, stamp, write in parts:
            fresh[name] = stamp
            if name not in self._written or self._written[name] != stamp:
                write()
        self._written = fresh


def read_project(path: Path) -> ProjectContents:
    """A project from its file.

    Raises
    ------
    ProjectError
        One line: the file is missing, not a project, damaged, or made by a later version.
    """
    if not path.exists():
        raise ProjectError(f"{path}: there is no such project file; check the name")
    try:
        with closing(_connect(path, read_only=True)) as db:
            _check(db, path)
            return read_all(db)
    except sqlite3.DatabaseError as error:
        raise ProjectError(f"{path}: is damaged or not a Drover project ({error}); use a copy of it") from error
    except (ValueError, TypeError, KeyError, IndexError, OverflowError) as error:
        raise ProjectError(f"{path}: holds values that make no sense ({error}); use a copy of it") from error
    except ProjectError:
        raise
    except DroverError as error:
        raise ProjectError(f"{path}: {error}") from error


def _connect(path: Path, *, read_only: bool = False) -> sqlite3.Connection:
    if read_only:
        db = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=5)
    else:
        db = sqlite3.connect(path, timeout=5)
    db.execute("PRAGMA trusted_schema = OFF")
    return db


def _has_tables(db: sqlite3.Connection) -> bool:
    return bool(db.execute("SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name = 'meta'").fetchone()[0])


def _upgrade(db: sqlite3.Connection) -> None:
    """Give a file of an earlier version what it lacks."""
    version = db.execute("PRAGMA user_version").fetchone()[0]
    for earlier in range(version, VERSION):
        # One transaction a step: a file is never left between two versions.
        db.executescript(f"BEGIN; {UPGRADES[earlier]} PRAGMA user_version = {earlier + 1}; COMMIT;")


def _check(db: sqlite3.Connection, path: Path) -> None:
    if db.execute("PRAGMA application_id").fetchone()[0] != APPLICATION_ID:
        raise ProjectError(f"{path}: is not a Drover project; open a .drover file")
    version = db.execute("PRAGMA user_version").fetchone()[0]
    if version > VERSION:
        raise ProjectError(f"{path}: was made by a later version of Drover (format {version}); update Drover")
    found = {row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
    added = {
        name for name in TABLES for earlier in range(version, VERSION) if f" {name} (" in UPGRADES.get(earlier, "")
    }
    missing = [name for name in TABLES if name not in found and name not in added]
    if missing or db.execute("PRAGMA quick_check").fetchone()[0] != "ok":
        raise ProjectError(f"{path}: is damaged; use a copy of it")
    odd = db.execute("SELECT name FROM sqlite_master WHERE type IN ('view', 'trigger') LIMIT 1").fetchone()
    if odd:
        raise ProjectError(f"{path}: holds code of its own ('{odd[0]}') that no Drover project has; it was not opened")


def _run_stamp(run: KeptRun | None) -> Any:
    return run and (run.detect_key, run.track_key, run.count_key, run.recipe_text)
