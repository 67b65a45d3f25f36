"""Parts of a project read from its tables; every column is converted, nothing in a file is trusted."""

from __future__ import annotations

import sqlite3
from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import ProjectError
from drover.core.project.contents import KeptRun, ProjectContents
from drover.core.project.counted import read_audit
from drover.core.recipe import parse_recipe
from drover.core.types import LOOK, ClipInfo, Crossings, Detections, Tracks, TrackState, Truth

__all__ = ["read_all"]

_STATES = {state.name.lower(): int(state) for state in TrackState}


def read_all(db: sqlite3.Connection) -> ProjectContents:
    """A whole project from its tables.

    Raises
    ------
    ProjectError, ValueError, TypeError, KeyError
        When a row makes no sense.
    """
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
