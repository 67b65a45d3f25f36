"""Parts of a project read from its tables; every column is checked, nothing in a file is trusted."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.result import DetectResult
from drover.core.document import Document, KeptRun
from drover.core.edits.edit import Edit, read_edits
from drover.core.errors import ProjectError
from drover.core.footage_types import ClipInfo
from drover.core.names import MOST_NAME, plain_name
from drover.core.project.columns import LATEST, MOST_IDENTITY, has_table, names_of, numbers, rows_of, whole
from drover.core.project.reading_audit import read_audit
from drover.core.recipe import parse_recipe
from drover.core.types import LOOK, Crossings, Detections, Tracks, TrackState, Truth

__all__ = ["read_all"]

_STATES = {state.name.lower(): int(state) for state in TrackState}
MOST_META = 4_000  # characters of one small fact
MOST_SIDE = 65_536  # px
FARTHEST = 1e6  # px
NAME = f"substr(class,1,{MOST_NAME + 1})"
LINE = f"substr(line,1,{MOST_NAME + 1})"


def read_all(db: sqlite3.Connection) -> tuple[Document, dict[str, str]]:
    """A whole project from its tables, and where the user was.

    Raises
    ------
    ProjectError, ValueError, TypeError, KeyError
        When a row makes no sense.
    """
    clip = _read_clip(db)
    row = db.execute("SELECT toml FROM recipe").fetchone()
    text = str(row[0]) if row else ""
    recipe = parse_recipe(text, "its recipe")
    truth, true_crossings = _read_truth(db, clip), _read_crossings(db, "true_crossing", (), clip)
    meta = {str(k)[:80]: str(v)[:MOST_META] for k, v in zip(*rows_of(db, "meta", "key, value"), strict=True)}
    view = {key.removeprefix("view."): value for key, value in meta.items() if key.startswith("view.")}
    runs = _read_runs(db, clip)
    latest = next((run for run in runs if run.name == "latest"), None)
    kept = tuple(run for run in runs if run.name != "latest")
    document = Document(
        clip, recipe, text, truth, true_crossings if len(true_crossings) else None, _read_imported(db, clip),
        read_audit(db), _read_corrections(db), _read_span(meta, clip), kept, plain_name(meta.get("held", "")), latest,
    )  # fmt: skip
    return document, view


def _read_clip(db: sqlite3.Connection) -> ClipInfo:
    row = db.execute("SELECT path, width, height, rate, fingerprint FROM clip").fetchone()
    if row is None:
        raise ProjectError("the project names no clip; open the clip and save again")
    (stamps,) = rows_of(db, "frame_time", "time", "ORDER BY frame")
    try:
        times = numbers(stamps, "a time", 0.0, LATEST)
        width, height = (int(side) for side in whole(row[1:3], "a side", 1, MOST_SIDE))
        rate = float(numbers(row[3:4], "a rate", 1e-3, 1e5)[0])
    except ValueError as error:
        raise _no_clip(error) from error
    if len(times) == 0 or (np.diff(times) <= 0).any():
        raise _no_clip("time must rise")
    return ClipInfo(str(row[0])[:4096], width, height, rate, times, str(row[4])[:64])


def _no_clip(why: object) -> ProjectError:
    return ProjectError(f"the clip's size, rate or frame times make no sense ({why}); use a copy of the project")


def _read_corrections(db: sqlite3.Connection) -> tuple[Edit, ...]:
    """What was corrected by hand; nothing in a file that has no table for it."""
    if not has_table(db, "correction"):
        return ()
    (lines,) = rows_of(db, "correction", "content", "ORDER BY position")
    return read_edits("\n".join(" ".join(str(line).splitlines()) for line in lines))


def _read_span(meta: dict[str, str], clip: ClipInfo) -> tuple[int, int] | None:
    parts = meta.get("span", "").split("-")
    if len(parts) != 2 or not all(part.isdigit() and len(part) < 10 for part in parts):
        return None
    first, past = int(parts[0]) - 1, int(parts[1])
    return (first, past) if 0 <= first < past <= clip.frame_count else None


def _boxes(columns: list[tuple[Any, ...]]) -> NDArray[np.float32]:
    sides = [numbers(column, "a box", -FARTHEST, FARTHEST) for column in columns]
    box = np.column_stack(sides).reshape(-1, 4).astype(np.float32)
    if (box[:, 2:] < box[:, :2]).any():
        raise ValueError("a box that ends before it begins")
    return box


def _starts(frames: tuple[Any, ...], count: int) -> NDArray[np.int64]:
    frame = whole(frames, "a frame beyond the clip's, or", 1, count) - 1
    return np.concatenate([[0], np.cumsum(np.bincount(frame, minlength=count))]).astype(np.int64)


def _read_runs(db: sqlite3.Connection, clip: ClipInfo) -> list[KeptRun]:
    """All kept runs that were written to their end."""
    new = bool([row for row in db.execute("PRAGMA table_info(run)") if row[1] == "complete"])
    columns = "id, recipe, detect_key, track_key, count_key, frames, seconds, histogram, refused, name, saved"
    more = ", note, complete, found" if new else ", '', 1, id"
    known: dict[int, Detections] = {}
    out = []
    for row in zip(*rows_of(db, "run", columns + more, "ORDER BY id"), strict=True):
        if row[12] == 1:
            run = _read_run(db, clip, row, known)
            out.append(run if new else replace(run, name="latest"))
    return out


def _read_run(db: sqlite3.Connection, clip: ClipInfo, row: tuple[Any, ...], known: dict[int, Detections]) -> KeptRun:
    number, found = (int(n) for n in whole((row[0], row[13]), "a run's number", 0, 2**31))
    frames = int(whole(row[5:6], "a run longer than its clip, or", 0, clip.frame_count)[0])
    size = clip.width, clip.height
    if found not in known:
        known[found] = _read_detections(db, found, frames, size)
    detections = known[found]
    refused = _blob(row[8], "<f4").astype(np.float32)
    tracks = _read_tracks(db, number, frames, size, refused, len(detections))
    recipe = parse_recipe(str(row[1]), "its run")
    histogram = _blob(row[7], "<i8").astype(np.int64)
    histogram = histogram if len(histogram) == 256 else np.zeros(256, np.int64)
    seconds = float(numbers(row[6:7], "a duration", 0.0, 1e9)[0])
    names = tuple(line.name for line in recipe.count.line)
    detect_key, track_key, count_key = (str(key)[:64] for key in row[2:5])
    return KeptRun(
        recipe=recipe,
        detect_key=detect_key,
        track_key=track_key,
        count_key=count_key,
        detect=DetectResult(detections, histogram, (), seconds, frames),
        tracks=tracks,
        crossings=_read_crossings(db, "crossing", names, clip, number),
        name=plain_name(row[9]) or "kept",
        note=str(row[11])[:2000],
        when=plain_name(row[10]),
    )


def _blob(value: Any, kind: str) -> NDArray:
    if not isinstance(value, bytes) or len(value) % np.dtype(kind).itemsize:
        raise ValueError("a list of another length than it can have")
    return np.frombuffer(value, kind)


def _read_detections(db: sqlite3.Connection, run: int, frames: int, size: tuple[int, int]) -> Detections:
    look = "look" if _has_column(db, "detection", "look") else "NULL"
    columns = f"frame, x1, y1, x2, y2, confidence, {NAME}, area, runs, {look}"
    frame, x1, y1, x2, y2, confidence, kind, area, blobs, looks = _columns(
        rows_of(db, "detection", columns, "WHERE run = ? ORDER BY frame, row", (run,)), 10
    )
    names, class_id = names_of(kind)
    if not all(isinstance(blob, bytes) and len(blob) % 6 == 0 for blob in blobs):
        raise ValueError("a blob that is no list of runs")
    count = np.asarray([len(blob) // 6 for blob in blobs], np.int64)
    runs = np.frombuffer(b"".join(blobs), "<i2").astype(np.int16).reshape(-1, 3)
    start = np.concatenate([[0], np.cumsum(count)]).astype(np.int64)
    _check_runs(runs, start, size)
    return Detections(
        frame_start=_starts(frame, frames),
        box=_boxes([x1, y1, x2, y2]),
        confidence=numbers(confidence, "a confidence", 0.0, 1.0).astype(np.float32),
        class_id=class_id,
        area=numbers(area, "an area", 0.0, 1e12).astype(np.float32),
        run_start=start,
        runs=runs,
        size=size,
        class_names=names,
        look=_read_looks(looks),
    )


def _columns(found: list[tuple[Any, ...]], width: int) -> list[tuple[Any, ...]]:
    return found if len(found) == width else [() for _ in range(width)]


def _check_runs(runs: NDArray[np.int16], start: NDArray[np.int64], size: tuple[int, int]) -> None:
    """Runs lie in the frame, are not empty, and go on from row to row."""
    y, first, past = (runs[:, k].astype(np.int64) for k in range(3))
    width, height = size
    if ((y < 0) | (y >= height) | (first < 0) | (past <= first) | (past > width)).any():
        raise ValueError("a blob that lies outside the frame, or backwards")
    back = np.flatnonzero((np.diff(y) < 0) | ((np.diff(y) == 0) & (first[1:] < past[:-1]))) + 1
    if not np.isin(back, start).all():
        raise ValueError("a blob whose runs go backwards")


def _read_looks(looks: tuple[Any, ...]) -> NDArray[np.uint8]:
    """Looks of all detections; without rows where a file has none."""
    if not any(looks):
        return np.zeros((0, LOOK), np.uint8)
    parts = [look or bytes(LOOK) for look in looks]
    if not all(isinstance(part, bytes) and len(part) == LOOK for part in parts):
        raise ValueError("a look of another length")
    return np.frombuffer(b"".join(parts), np.uint8).reshape(-1, LOOK)


def _has_column(db: sqlite3.Connection, table: str, column: str) -> bool:
    return column in {row[1] for row in db.execute(f"PRAGMA table_info({table})")}


def _read_imported(db: sqlite3.Connection, clip: ClipInfo) -> Detections | None:
    if not has_table(db, "imported"):
        return None
    columns = f"frame, x1, y1, x2, y2, confidence, {NAME}"
    frame, x1, y1, x2, y2, confidence, kind = _columns(rows_of(db, "imported", columns, "ORDER BY frame, rowid"), 7)
    if not frame:
        return None
    _starts(frame, clip.frame_count)
    names, class_id = names_of(kind)
    sure = numbers(confidence, "a confidence", 0.0, 1.0).astype(np.float32)
    return Detections.from_boxes(
        np.asarray(frame, np.int64) - 1, _boxes([x1, y1, x2, y2]), sure, frame_count=clip.frame_count,
        size=(clip.width, clip.height), class_id=class_id, class_names=names,
    )  # fmt: skip


def _read_tracks(
    db: sqlite3.Connection, run: int, frames: int, size: tuple[int, int], refused: NDArray[np.float32], found: int
) -> Tracks:
    links = "margin, nis" if _has_column(db, "track", "margin") else "NULL, NULL"
    columns = f"frame, identity, x1, y1, x2, y2, state, detection, confidence, {NAME}, distance, {links}"
    frame, identity, x1, y1, x2, y2, state, detection, confidence, kind, distance, margin, nis = _columns(
        rows_of(db, "track", columns, "WHERE run = ? ORDER BY frame, identity", (run,)), 13
    )
    names, class_id = names_of(kind)
    link = tuple(-1 if value is None else value for value in detection)
    return Tracks(
        frame_start=_starts(frame, frames),
        # Identities are numbered without gaps, so none is larger than the number of rows.
        identity=whole(identity, "an identity", 1, max(1, len(identity))).astype(np.int32),
        box=_boxes([x1, y1, x2, y2]),
        state=np.asarray([_STATES[str(value)[:20]] for value in state], np.int8),
        detection=whole(link, "a detection that is not there, or", -1, found - 1).astype(np.int32),
        confidence=numbers(confidence, "a confidence", 0.0, 1.0).astype(np.float32),
        class_id=class_id,
        distance=_or_unknown(distance),
        margin=_or_unknown(margin) if any(value is not None for value in margin) else None,
        nis=_or_unknown(nis) if any(value is not None for value in nis) else None,
        nearest_refused=refused,
        size=size,
        class_names=names,
    )


def _or_unknown(values: tuple[Any, ...]) -> NDArray[np.float32]:
    finite = tuple(None if value is None or value in (np.inf, -np.inf) else value for value in values)
    out = numbers(finite, "a measure of a link", -1e9, 1e9, unknown=True).astype(np.float32)
    out[[value == np.inf for value in values]] = np.inf
    return out


def _read_crossings(
    db: sqlite3.Connection, table: str, line_names: tuple[str, ...], clip: ClipInfo, run: int | None = None
) -> Crossings:
    where, values = ("WHERE run = ? ORDER BY time", (run,)) if run is not None else ("ORDER BY time", ())
    columns = f"{LINE}, identity, {NAME}, frame, time, direction, x, y, seen"
    line, identity, kind, frame, time, direction, x, y, seen = _columns(rows_of(db, table, columns, where, values), 9)
    names, class_id = names_of(kind)
    named = [plain_name(name) for name in line]
    lines = tuple(dict.fromkeys((*line_names, *named)))
    if len(lines) > 2000:
        raise ValueError("more than 2000 lines")
    place = {name: n for n, name in enumerate(lines)}
    if not all(way in (1, -1) for way in direction):
        raise ValueError("a direction that is neither 1 nor -1")
    return Crossings(
        line=np.asarray([place[name] for name in named], np.int16),
        identity=whole(identity, "an identity", 0, MOST_IDENTITY).astype(np.int32),
        class_id=class_id,
        frame=whole(frame, "a frame beyond the clip's, or", 1, clip.frame_count) - 1,
        time=numbers(time, "a time", 0.0, LATEST),
        direction=np.asarray(direction, np.int8),
        x=numbers(x, "a place", -FARTHEST, FARTHEST).astype(np.float32),
        y=numbers(y, "a place", -FARTHEST, FARTHEST).astype(np.float32),
        seen=numbers(seen, "a switch", 0, 1).astype(np.bool_),
        line_names=lines,
        class_names=names,
    )


def _read_truth(db: sqlite3.Connection, clip: ClipInfo) -> Truth | None:
    columns = f"frame, identity, x1, y1, x2, y2, consider, {NAME}, visibility"
    frame, identity, x1, y1, x2, y2, consider, kind, visibility = _columns(
        rows_of(db, "truth", columns, "ORDER BY frame, identity"), 9
    )
    if not frame:
        return None
    names, class_id = names_of(kind)
    return Truth(
        frame_start=_starts(frame, clip.frame_count),
        identity=whole(identity, "an identity", -1, MOST_IDENTITY).astype(np.int32),
        box=_boxes([x1, y1, x2, y2]),
        consider=numbers(consider, "a switch", 0, 1).astype(np.bool_),
        class_id=class_id,
        visibility=numbers(visibility, "a visibility", 0.0, 1.0).astype(np.float32),
        class_names=names,
    )
