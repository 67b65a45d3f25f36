"""Writing and reading a project file, part by part, each part in one transaction.

A program killed while writing leaves the file as it was before that part. Reading trusts nothing: the file is
checked first, only known tables are read, and every column is converted.
"""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Iterable
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover import __version__
from drover.core.errors import DroverError, ProjectError
from drover.core.project.contents import KeptRun, ProjectContents
from drover.core.project.counted import read_audit, write_audit, write_counted, write_zones
from drover.core.project.schema import APPLICATION_ID, SCHEMA, TABLES, UPGRADES, VERSION
from drover.core.recipe import parse_recipe
from drover.core.types import LOOK, ClipInfo, Crossings, Detections, Tracks, TrackState, Truth, rows_to_frames

__all__ = ["ProjectFile", "read_project"]

_STATES = {state.name.lower(): int(state) for state in TrackState}
_STATE_NAMES = {value: name for name, value in _STATES.items()}


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
                        (_now(), what, before, after),
                    )
        except (sqlite3.Error, OSError) as error:
            raise ProjectError(f"{self.path}: cannot be written ({error}); save the project somewhere else") from error

    def _save_parts(self, db: sqlite3.Connection, contents: ProjectContents) -> None:
        run = contents.run
        parts: list[tuple[str, Any, Any]] = [
            ("clip", contents.clip.fingerprint + contents.clip.path, lambda: _write_clip(db, contents.clip)),
            ("recipe", contents.recipe_text, lambda: _write_recipe(db, contents.recipe_text)),
            ("truth", id(contents.truth), lambda: _write_truth(db, contents.truth)),
            (
                "true",
                id(contents.true_crossings),
                lambda: _write_crossings(db, "true_crossing", contents.true_crossings),
            ),
            ("imported", id(contents.imported), lambda: _write_imported(db, contents.imported)),
            ("audit", contents.audit, lambda: write_audit(db, contents.audit)),
            ("counted", run and run.count_key, lambda: write_counted(db, run and run.counted, contents.clip.duration)),
            ("view", tuple(sorted(contents.view.items())), lambda: _write_view(db, contents.view)),
            ("run", _run_stamp(run), lambda: _write_run(db, run)),
            ("detections", run and run.detect_key, lambda: _write_detections(db, run)),
            ("tracks", run and run.track_key, lambda: _write_tracks(db, run)),
            (
                "crossings",
                run and run.count_key,
                lambda: _write_crossings(db, "crossing", run and run.crossings),
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
            return _read_all(db)
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


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


def _run_stamp(run: KeptRun | None) -> Any:
    return run and (run.detect_key, run.track_key, run.count_key, run.recipe_text)


# --- writing parts -----------------------------------------------------------------------------------------


def _fill(
    db: sqlite3.Connection, table: str, rows: Iterable[tuple[Any, ...]], width: int, *, replace: bool = True
) -> None:
    if replace:
        db.execute(f"DELETE FROM {table}")
    db.executemany(f"INSERT INTO {table} VALUES ({','.join('?' * width)})", rows)


def _write_clip(db: sqlite3.Connection, clip: ClipInfo) -> None:
    _fill(db, "clip", [(1, clip.path, clip.width, clip.height, clip.rate, clip.fingerprint)], 6)
    _fill(db, "frame_time", ((n, t) for n, t in enumerate(clip.times.tolist(), 1)), 2)


def _write_recipe(db: sqlite3.Connection, text: str) -> None:
    _fill(db, "recipe", [(1, text)], 2)
    lines = parse_recipe(text).count.line
    rows = [(line.name, n, json.dumps(line.points), line.reference) for n, line in enumerate(lines, 1)]
    _fill(db, "line", rows, 4)
    write_zones(db, parse_recipe(text).count)


def _write_view(db: sqlite3.Connection, view: dict[str, str]) -> None:
    _fill(
        db,
        "meta",
        [("saved", _now()), ("version", __version__), *((f"view.{k}", v) for k, v in view.items())],
        2,
    )


def _write_run(db: sqlite3.Connection, run: KeptRun | None) -> None:
    if run is None:
        for table in ("run", "detection", "track", "crossing"):
            db.execute(f"DELETE FROM {table}")
        return
    row = (
        1, "current", _now(), __version__, run.recipe_text, run.detect_key, run.track_key, run.count_key,
        run.tracks.frame_count, run.seconds, run.histogram.astype("<i8").tobytes(),
        run.tracks.nearest_refused.astype("<f4").tobytes(),
    )  # fmt: skip
    _fill(db, "run", [row], 12)


def _write_detections(db: sqlite3.Connection, run: KeptRun | None) -> None:
    if run is None:
        return
    found = run.detections
    frames = (rows_to_frames(found.frame_start) + 1).tolist()
    starts = found.run_start.tolist()
    runs = np.ascontiguousarray(found.runs, "<i2")
    looks = [look.tobytes() for look in found.look] if len(found.look) else [None] * len(found)
    rows = (
        (1, n, f, *box, c, found.class_names[k], a, runs[starts[n] : starts[n + 1]].tobytes(), looks[n])
        for n, (f, box, c, k, a) in enumerate(
            zip(
                frames,
                found.box.tolist(),
                found.confidence.tolist(),
                found.class_id.tolist(),
                found.area.tolist(),
                strict=True,
            )
        )
    )
    _fill(db, "detection", rows, 12)


def _write_tracks(db: sqlite3.Connection, run: KeptRun | None) -> None:
    if run is None:
        return
    t = run.tracks
    unknown = np.full(len(t), np.nan, np.float32)
    margin, nis = (unknown if column is None else column for column in (t.margin, t.nis))
    rows = (
        (1, f, i, *box, _STATE_NAMES[s], d if d >= 0 else None, c, t.class_names[k], *map(_known, of_link))
        for f, i, box, s, d, c, k, *of_link in zip(
            (t.frame + 1).tolist(), t.identity.tolist(), t.box.tolist(), t.state.tolist(), t.detection.tolist(),
            t.confidence.tolist(), t.class_id.tolist(), t.distance.tolist(), margin.tolist(),
            nis.tolist(), strict=True,
        )
    )  # fmt: skip
    _fill(db, "track", rows, 14)


def _known(value: float) -> float | None:
    return None if math.isnan(value) else value


def _write_crossings(db: sqlite3.Connection, table: str, c: Crossings | None) -> None:
    rows: Iterable[tuple[Any, ...]] = ()
    head = (1,) if table == "crossing" else ()
    if c is not None:
        rows = (
            (*head, c.line_names[n], i, c.class_names[k], f + 1, t, d, x, y, int(s))
            for n, i, k, f, t, d, x, y, s in zip(
                c.line.tolist(), c.identity.tolist(), c.class_id.tolist(), c.frame.tolist(), c.time.tolist(),
                c.direction.tolist(), c.x.tolist(), c.y.tolist(), c.seen.tolist(), strict=True,
            )
        )  # fmt: skip
    _fill(db, table, rows, 9 + len(head))


def _write_truth(db: sqlite3.Connection, truth: Truth | None) -> None:
    rows: Iterable[tuple[Any, ...]] = ()
    if truth is not None:
        rows = (
            (f, i, *box, int(k), truth.class_names[c], v)
            for f, i, box, k, c, v in zip(
                (rows_to_frames(truth.frame_start) + 1).tolist(), truth.identity.tolist(), truth.box.tolist(),
                truth.consider.tolist(), truth.class_id.tolist(), truth.visibility.tolist(), strict=True,
            )
        )  # fmt: skip
    _fill(db, "truth", rows, 9)


def _write_imported(db: sqlite3.Connection, boxes: Detections | None) -> None:
    rows: Iterable[tuple[Any, ...]] = ()
    if boxes is not None:
        rows = (
            (f, *box, c, boxes.class_names[k])
            for f, box, c, k in zip(
                (rows_to_frames(boxes.frame_start) + 1).tolist(), boxes.box.tolist(), boxes.confidence.tolist(),
                boxes.class_id.tolist(), strict=True,
            )
        )  # fmt: skip
    _fill(db, "imported", rows, 7)


# --- reading parts -----------------------------------------------------------------------------------------


def _read_all(db: sqlite3.Connection) -> ProjectContents:
    clip = _read_clip(db)
    row = db.execute("SELECT toml FROM recipe").fetchone()
    recipe_text = str(row[0]) if row else ""
    parse_recipe(recipe_text, "its recipe")
    truth, true_crossings = _read_truth(db, clip.frame_count), _read_crossings(db, "true_crossing", ())
    view = {
        str(k).removeprefix("view."): str(v)
        for k, v in db.execute("SELECT key, value FROM meta WHERE key LIKE 'view.%'")
    }
    return ProjectContents(
        clip, recipe_text, _read_run(db, clip), truth, true_crossings if len(true_crossings) else None, view,
        _read_imported(db, clip), read_audit(db),
    )  # fmt: skip


def _read_clip(db: sqlite3.Connection) -> ClipInfo:
    row = db.execute("SELECT path, width, height, rate, fingerprint FROM clip").fetchone()
    if row is None:
        raise ProjectError("the project names no clip; open the clip and save again")
    times = np.asarray([float(t) for (t,) in db.execute("SELECT time FROM frame_time ORDER BY frame")], np.float64)
    width, height, rate = int(row[1]), int(row[2]), float(row[3])
    if (
        len(times) == 0
        or not np.isfinite(times).all()
        or (np.diff(times) <= 0).any()
        or min(width, height) < 1
        or not rate > 0
    ):
        raise ProjectError("the clip's size, rate or frame times make no sense; use a copy of the project")
    return ClipInfo(str(row[0]), width, height, rate, times, str(row[4]))


def _columns(rows: list[tuple[Any, ...]], width: int) -> list[tuple[Any, ...]]:
    return list(zip(*rows, strict=True)) if rows else [() for _ in range(width)]


def _boxes(columns: list[tuple[Any, ...]]) -> NDArray[np.float32]:
    box = np.column_stack([np.asarray(column, np.float32) for column in columns]).reshape(-1, 4)
    if not np.isfinite(box).all():
        raise ValueError("a box that is not finite")
    return box


def _starts(frames: tuple[Any, ...], count: int) -> NDArray[np.int64]:
    frame = np.asarray(frames, np.int64) - 1
    if len(frame) and (frame.min() < 0 or frame.max() >= count):
        raise ValueError("a row beyond the clip's frames")
    return np.concatenate([[0], np.cumsum(np.bincount(frame, minlength=count))]).astype(np.int64)


def _names(values: tuple[Any, ...]) -> tuple[tuple[str, ...], NDArray[np.int16]]:
    names = tuple(dict.fromkeys(map(str, values))) or ("animal",)
    number = {name: place for place, name in enumerate(names)}
    return names, np.asarray([number[str(value)] for value in values], np.int16)


def _read_run(db: sqlite3.Connection, clip: ClipInfo) -> KeptRun | None:
    row = db.execute(
        "SELECT recipe, detect_key, track_key, count_key, frames, seconds, histogram, refused FROM run ORDER BY id DESC"
    ).fetchone()
    if row is None:
        return None
    frames = int(row[4])
    if not 0 <= frames <= clip.frame_count:
        raise ValueError("a run longer than its clip")
    refused = np.frombuffer(bytes(row[7]), "<f4").astype(np.float32)
    tracks = _read_tracks(db, frames, (clip.width, clip.height), refused)
    names = tuple(line.name for line in parse_recipe(str(row[0]), "its run").count.line)
    histogram = np.frombuffer(bytes(row[6]), "<i8").astype(np.int64)
    return KeptRun(
        recipe_text=str(row[0]),
        detect_key=str(row[1]),
        track_key=str(row[2]),
        count_key=str(row[3]),
        detections=_read_detections(db, frames, (clip.width, clip.height)),
        tracks=tracks,
        crossings=_read_crossings(db, "crossing", names),
        histogram=histogram if len(histogram) == 256 else np.zeros(256, np.int64),
        seconds=float(row[5]),
    )


def _read_detections(db: sqlite3.Connection, frames: int, size: tuple[int, int]) -> Detections:
    query = "SELECT frame, x1, y1, x2, y2, confidence, class, area, runs, {} FROM detection ORDER BY frame, row"
    with_look = query.format("look" if _has_column(db, "detection", "look") else "NULL")
    frame, x1, y1, x2, y2, confidence, kind, area, blobs, looks = _columns(db.execute(with_look).fetchall(), 10)
    runs = [np.frombuffer(bytes(blob), "<i2").reshape(-1, 3) for blob in blobs]
    names, class_id = _names(kind)
    return Detections(
        frame_start=_starts(frame, frames),
        box=_boxes([x1, y1, x2, y2]),
        confidence=np.asarray(confidence, np.float32),
        class_id=class_id,
        area=np.asarray(area, np.float32),
        run_start=np.concatenate([[0], np.cumsum([len(part) for part in runs])]).astype(np.int64),
        runs=np.concatenate([np.zeros((0, 3), np.int16), *runs]).astype(np.int16),
        size=size,
        class_names=names,
        look=_read_looks(looks),
    )


def _read_looks(looks: tuple[Any, ...]) -> NDArray[np.uint8]:
    """Looks of all detections; without rows where a file has none."""
    if not any(looks):
        return np.zeros((0, LOOK), np.uint8)
    parts = [np.frombuffer(bytes(look or bytes(LOOK)), np.uint8) for look in looks]
    if any(len(part) != LOOK for part in parts):
        raise ValueError("a look of another length")
    return np.stack(parts)


def _has_column(db: sqlite3.Connection, table: str, column: str) -> bool:
    return column in {row[1] for row in db.execute(f"PRAGMA table_info({table})")}


def _read_imported(db: sqlite3.Connection, clip: ClipInfo) -> Detections | None:
    if not db.execute("SELECT count(*) FROM sqlite_master WHERE name = 'imported'").fetchone()[0]:
        return None
    query = "SELECT frame, x1, y1, x2, y2, confidence, class FROM imported ORDER BY frame, rowid"
    frame, x1, y1, x2, y2, confidence, kind = _columns(db.execute(query).fetchall(), 7)
    if not frame:
        return None
    _starts(frame, clip.frame_count)
    names, class_id = _names(kind)
    return Detections.from_boxes(
        np.asarray(frame, np.int64) - 1, _boxes([x1, y1, x2, y2]), np.asarray(confidence, np.float32),
        frame_count=clip.frame_count, size=(clip.width, clip.height), class_id=class_id, class_names=names,
    )  # fmt: skip


def _read_tracks(db: sqlite3.Connection, frames: int, size: tuple[int, int], refused: NDArray[np.float32]) -> Tracks:
    query = (
        "SELECT frame, identity, x1, y1, x2, y2, state, detection, confidence, class, distance, {} "
        "FROM track ORDER BY frame, identity"
    )
    query = query.format("margin, nis" if _has_column(db, "track", "margin") else "NULL, NULL")
    frame, identity, x1, y1, x2, y2, state, detection, confidence, kind, distance, margin, nis = _columns(
        db.execute(query).fetchall(), 13
    )
    names, class_id = _names(kind)
    return Tracks(
        frame_start=_starts(frame, frames),
        identity=np.asarray(identity, np.int32),
        box=_boxes([x1, y1, x2, y2]),
        state=np.asarray([_STATES[str(value)] for value in state], np.int8),
        detection=np.asarray([-1 if value is None else int(value) for value in detection], np.int32),
        confidence=np.asarray(confidence, np.float32),
        class_id=class_id,
        distance=_or_unknown(distance),
        margin=_or_unknown(margin) if any(value is not None for value in margin) else None,
        nis=_or_unknown(nis) if any(value is not None for value in nis) else None,
        nearest_refused=refused,
        size=size,
        class_names=names,
    )


def _or_unknown(values: tuple[Any, ...]) -> NDArray[np.float32]:
    return np.asarray([np.nan if value is None else value for value in values], np.float32)


def _read_crossings(db: sqlite3.Connection, table: str, line_names: tuple[str, ...]) -> Crossings:
    query = f"SELECT line, identity, class, frame, time, direction, x, y, seen FROM {table} ORDER BY time"
    line, identity, kind, frame, time, direction, x, y, seen = _columns(db.execute(query).fetchall(), 9)
    lines = tuple(dict.fromkeys((*line_names, *map(str, line))))
    names, class_id = _names(kind)
    return Crossings(
        line=np.asarray([lines.index(str(name)) for name in line], np.int16),
        identity=np.asarray(identity, np.int32),
        class_id=class_id,
        frame=np.asarray(frame, np.int64) - 1,
        time=np.asarray(time, np.float64),
        direction=np.asarray(direction, np.int8),
        x=np.asarray(x, np.float32),
        y=np.asarray(y, np.float32),
        seen=np.asarray(seen, np.bool_),
        line_names=lines,
        class_names=names,
    )


def _read_truth(db: sqlite3.Connection, frames: int) -> Truth | None:
    query = "SELECT frame, identity, x1, y1, x2, y2, consider, class, visibility FROM truth ORDER BY frame, identity"
    frame, identity, x1, y1, x2, y2, consider, kind, visibility = _columns(db.execute(query).fetchall(), 9)
    if not frame:
        return None
    names, class_id = _names(kind)
    return Truth(
        frame_start=_starts(frame, frames),
        identity=np.asarray(identity, np.int32),
        box=_boxes([x1, y1, x2, y2]),
        consider=np.asarray(consider, np.bool_),
        class_id=class_id,
        visibility=np.asarray(visibility, np.float32),
        class_names=names,
    )
