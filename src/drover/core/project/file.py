"""A project kept up to date on disk: small parts at once, whole results in pieces beside the ones they replace.

A part is noted as written only once it is committed, so what failed is tried again. A result is written under a
number of its own, not complete until its last row is there; only then does it take the place of the one before. A new
file is made beside its name and moved there whole.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
from collections.abc import Callable, Iterable, Iterator
from contextlib import closing
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

from drover.core.document import Document, KeptRun, now
from drover.core.errors import DroverError, ProjectError
from drover.core.project.connection import cannot, check_schema, connect, drop_file, interrupted, transaction, upgrade
from drover.core.project.counted import write_audit, write_counted
from drover.core.project.reading import read_all
from drover.core.project.schema import APPLICATION_ID, SCHEMA, VERSION
from drover.core.project.writing import (
    crossing_rows,
    detection_rows,
    run_row,
    track_rows,
    write_clip,
    write_corrections,
    write_crossings,
    write_imported,
    write_meta,
    write_recipe,
    write_truth,
)
from drover.core.recipe import Recipe, parse_recipe

__all__ = ["Edit", "ProjectFile", "read_project"]

PIECE = 20_000  # rows written in one transaction of a long result
Edit = tuple[str, Document, Document]  # what, before, after


@dataclass(frozen=True)
class _Written:
    """A run as it stands in the file: its number, that of its detections, and the keys it was written with."""

    number: int
    found: int
    keys: tuple[str, str, str, Recipe]


class ProjectFile:
    """A project being kept up to date on disk; use it from one thread at a time.

    Parameters
    ----------
    path : Path
    held : Document, optional
        What the file holds already, when it was just read: only what differs from it will be written.
    """

    def __init__(self, path: Path, held: Document | None = None) -> None:
        self.path = path
        self._stamps: dict[str, object] = {}
        self._runs: dict[str, _Written] | None = None
        if held is not None:
            self._stamps = {name: stamp for name, stamp, _ in _parts(held, {})}
            self._stamps.pop("meta")

    def save(
        self,
        document: Document,
        view: dict[str, str] | None = None,
        *,
        edits: Iterable[Edit] = (),
        newer: Callable[[], tuple[Document, dict[str, str], list[Edit]] | None] = lambda: None,
    ) -> None:
        """Bring the file up to date with the document.

        ``newer`` is asked between the pieces of a long result for a document that has changed meanwhile; its small
        parts are written first, so that nothing waits for the long result.

        Raises
        ------
        ProjectError
            When the file cannot be written; what was there stays.
        """
        try:
            if not self.path.exists():
                self._stamps, self._runs = {}, None
                self._make(document, view or {}, list(edits))
                return
            with closing(connect(self.path)) as db:
                upgrade(db)
                self._save_small(db, document, view or {}, edits)
                self._save_runs(db, document, newer)
        except (sqlite3.Error, OSError) as error:
            raise cannot(self.path, error) from error

    def _make(self, document: Document, view: dict[str, str], edits: list[Edit]) -> None:
        """Write a new file beside its name and move it there whole."""
        draft = self.path.with_name(f".{self.path.name}.{os.getpid()}.draft")
        self.path.parent.mkdir(parents=True, exist_ok=True)
        drop_file(draft)
        try:
            with closing(connect(draft)) as db:
                # No other program can see the draft, so its safety is that of the move.
                db.execute("PRAGMA journal_mode = MEMORY")
                db.executescript(SCHEMA)
                db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
                db.execute(f"PRAGMA user_version = {VERSION}")
                self._save_small(db, document, view, edits)
                self._save_runs(db, document, lambda: None)
            draft.replace(self.path)
        except BaseException:
            self._stamps, self._runs = {}, None
            drop_file(draft)
            raise

    def save_as(self, path: Path, document: Document, view: dict[str, str] | None = None) -> ProjectFile:
        """A new file with the document and the log of edits so far; an older file of that name stays until it is whole.

        Raises
        ------
        ProjectError
            When it cannot be written; whatever was there stays.
        """
        made = ProjectFile(path)
        try:
            made._make(document, view or {}, [])
            made._copy_log(self.path)
        except (sqlite3.Error, OSError) as error:
            raise cannot(path, error) from error
        return made

    def _copy_log(self, source: Path) -> None:
        """Take over the edits noted in another file."""
        rows: list[tuple[Any, ...]] = []
        with contextlib.suppress(sqlite3.Error, OSError), closing(connect(source, read_only=True)) as db:
            rows = db.execute("SELECT at, what, before, after FROM edit").fetchall()
        with closing(connect(self.path)) as db, transaction(db):
            db.executemany("INSERT INTO edit (at, what, before, after) VALUES (?, ?, ?, ?)", rows)

    def _save_small(
        self, db: sqlite3.Connection, document: Document, view: dict[str, str], edits: Iterable[Edit]
    ) -> None:
        """Everything but long results, in one transaction."""
        due = [part for part in _parts(document, view) if self._stamps.get(part[0], _NEVER) != part[1]]
        edits = list(edits)
        if not due and not edits:
            return
        with transaction(db):
            for _, _, write in due:
                write(db)
            rows = [(now(), what, before.text, after.text) for what, before, after in edits]
            db.executemany("INSERT INTO edit (at, what, before, after) VALUES (?, ?, ?, ?)", rows)
        self._stamps |= {name: stamp for name, stamp, _ in due}

    # --- runs -------------------------------------------------------------------------------------------------

    def _save_runs(self, db: sqlite3.Connection, document: Document, newer: Callable[[], Any]) -> None:
        if self._runs is None:
            self._runs = _runs_there(db)
        wanted = {run.name: run for run in (document.latest, *document.runs) if run is not None}
        for name in [name for name in self._runs if name not in wanted]:
            if name == "latest":
                continue  # a kept result stays until a finished one replaces it
            with transaction(db):
                _delete_run(db, self._runs[name].number)
                _sweep(db)
            del self._runs[name]
        for name, run in wanted.items():
            there = self._runs.get(name)
            if there is None or there.keys != run.keys:
                self._runs[name] = self._write_run(db, run, there, document, newer)

    def _write_run(
        self,
        db: sqlite3.Connection,
        run: KeptRun,
        before: _Written | None,
        document: Document,
        newer: Callable[[], Any],
    ) -> _Written:
        """Write a run beside the one of its name, then put it in that one's place."""
        assert self._runs is not None
        if before is not None and before.keys[:2] == run.keys[:2]:
            return self._recount(db, run, before, document)
        number = 1 + max((db.execute("SELECT max(id) FROM run").fetchone()[0] or 0), 0)
        same = next((w for w in self._runs.values() if w.keys[0] == run.detect_key), None)
        found = same.found if same is not None else number
        with transaction(db):
            db.execute(f"INSERT INTO run VALUES ({_marks(15)})", run_row(run, number, found))
        parts: list[tuple[str, int, Iterator[tuple[Any, ...]]]] = [("track", 14, track_rows(run, number))]
        if same is None:
            parts.append(("detection", 12, detection_rows(run, number)))
        parts.append(("crossing", 10, ((number, *row) for row in crossing_rows(run.crossings))))
        for table, width, rows in parts:
            while piece := list(islice(rows, PIECE)):
                with transaction(db):
                    db.executemany(f"INSERT INTO {table} VALUES ({_marks(width)})", piece)
                meanwhile = newer()
                if meanwhile is not None:
                    self._save_small(db, *meanwhile)
        with transaction(db):
            if before is not None:
                _delete_run(db, before.number)
            db.execute("UPDATE run SET complete = 1 WHERE id = ?", (number,))
            _sweep(db)
            if run.name == "latest":
                write_counted(db, run.counted, document.clip.duration)
        return _Written(number, found, run.keys)

    def _recount(self, db: sqlite3.Connection, run: KeptRun, before: _Written, document: Document) -> _Written:
        """The same tracks counted anew: a moved line rewrites crossings, not tracks."""
        with transaction(db):
            db.execute(
                "UPDATE run SET recipe = ?, count_key = ?, saved = ? WHERE id = ?",
                (run.recipe_text, run.count_key, run.when, before.number),
            )
            db.execute("DELETE FROM crossing WHERE run = ?", (before.number,))
            rows = ((before.number, *row) for row in crossing_rows(run.crossings))
            db.executemany(f"INSERT INTO crossing VALUES ({_marks(10)})", rows)
            if run.name == "latest":
                write_counted(db, run.counted, document.clip.duration)
        return _Written(before.number, before.found, run.keys)


_NEVER = object()


def _parts(document: Document, view: dict[str, str]) -> list[tuple[str, object, Callable[[sqlite3.Connection], None]]]:
    """The small parts: name, what tells whether it changed, and how it is written."""
    d = document
    facts = {f"view.{key}": value for key, value in view.items()}
    facts |= {"held": d.held} if d.held else {}
    facts |= {"span": f"{d.span[0] + 1}-{d.span[1]}"} if d.span is not None else {}
    return [
        ("clip", (d.clip.fingerprint, d.clip.path), lambda db: write_clip(db, d.clip)),
        ("recipe", d.text, lambda db: write_recipe(db, d.text)),
        ("truth", d.truth and d.truth.digest, lambda db: write_truth(db, d.truth)),
        ("true", d.true_crossings and d.true_crossings.digest, lambda db: write_crossings(db, d.true_crossings)),
        ("imported", d.imported and d.imported.digest, lambda db: write_imported(db, d.imported)),
        ("audit", d.audit, lambda db: write_audit(db, d.audit)),
        ("corrections", d.edits, lambda db: write_corrections(db, d.edits)),
        ("meta", tuple(sorted(facts.items())), lambda db: write_meta(db, facts)),
    ]


def _runs_there(db: sqlite3.Connection) -> dict[str, _Written]:
    """The runs in the file; what a killed program left unfinished is dropped."""
    with transaction(db):
        for (number,) in db.execute("SELECT id FROM run WHERE complete != 1").fetchall():
            _delete_run(db, number)
        _sweep(db)
    rows = db.execute("SELECT id, found, name, detect_key, track_key, count_key, recipe FROM run").fetchall()
    return {
        str(name): _Written(number, found, (str(dk), str(tk), str(ck), parse_recipe(str(text))))
        for number, found, name, dk, tk, ck, text in rows
    }


def _delete_run(db: sqlite3.Connection, number: int) -> None:
    for table in ("track", "crossing"):
        db.execute(f"DELETE FROM {table} WHERE run = ?", (number,))
    db.execute("DELETE FROM run WHERE id = ?", (number,))


def _sweep(db: sqlite3.Connection) -> None:
    """Drop detections that no run refers to."""
    sets = db.execute("SELECT DISTINCT run FROM detection WHERE run NOT IN (SELECT found FROM run)").fetchall()
    db.executemany("DELETE FROM detection WHERE run = ?", sets)


def _marks(width: int) -> str:
    return ",".join("?" * width)


# --- reading ----------------------------------------------------------------------------------------------------


def read_project(path: Path) -> tuple[Document, dict[str, str]]:
    """A project from its file, and where the user was; what a killed program left half written is rolled back.

    Raises
    ------
    ProjectError
        One line: the file is missing, not a project, damaged, or made by a later version.
    """
    if not path.is_file():
        raise ProjectError(f"{path}: there is no such project file; check the name")
    try:
        with closing(connect(path, read_only=not interrupted(path))) as db:
            check_schema(db, path)
            return read_all(db)
    except sqlite3.DatabaseError as error:
        raise ProjectError(f"{path}: is damaged or not a Drover project ({error}); use a copy of it") from error
    except (ValueError, TypeError, KeyError, IndexError, OverflowError) as error:
        why = str(error)[:160]
        raise ProjectError(f"{path}: holds values that make no sense ({why}); use a copy of it") from error
    except MemoryError as error:
        raise ProjectError(f"{path}: holds more than this machine has memory for") from error
    except ProjectError as error:
        raise error if str(error).startswith(str(path)) else ProjectError(f"{path}: {error}") from error
    except DroverError as error:
        raise ProjectError(f"{path}: {error}") from error
