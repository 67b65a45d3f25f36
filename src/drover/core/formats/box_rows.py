"""Boxes as comma-separated rows: detections, tracks and truth.

Ten columns, ``frame,id,left,top,width,height,confidence,x,y,z``; in truth column 7 says whether the row is to
be considered, column 8 is the class by name or number and column 9 the visibility. A header line is optional
on reading. Frames count from 1 in the file and from 0 in memory. Coordinates are continuous pixels.
"""

from __future__ import annotations

import csv
import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from drover.core.errors import FormatError
from drover.core.names import plain_name
from drover.core.types import DEFAULT_CLASS, Detections, Tracks, Truth, rows_to_frames

__all__ = ["read_tracks", "read_truth", "write_detections", "write_tracks", "write_truth"]

HEADER = "frame,id,left,top,width,height,confidence,x,y,z"
TRUTH_HEADER = "frame,id,left,top,width,height,consider,class,visibility"
MOST_FRAMES = 10_000_000
MOST_PIXELS = 1e6
MOST_COLUMNS = 10
MOST_CLASSES = 10_000


@dataclass(frozen=True)
class _Row:
    line: int
    frame: int
    identity: int
    box: tuple[float, float, float, float]
    rest: tuple[str, ...]


def _write(path: Path, header: str, lines: Iterable[str]) -> None:
    with path.open("w", encoding="utf-8", newline="") as file:
        file.write(header + "\n")
        file.writelines(line + "\n" for line in lines)


def write_detections(path: Path, detections: Detections) -> None:
    """Write detections; the identity column is -1."""
    frames = rows_to_frames(detections.frame_start) + 1
    _write(
        path,
        HEADER,
        (
            f"{f},-1,{b[0]:.2f},{b[1]:.2f},{b[2] - b[0]:.2f},{b[3] - b[1]:.2f},{c:.3f},-1,-1,-1"
            for f, b, c in zip(frames.tolist(), detections.box.tolist(), detections.confidence.tolist(), strict=True)
        ),
    )


def write_tracks(path: Path, tracks: Tracks) -> None:
    """Write tracks; confidence is 0 in frames where an identity coasted unseen."""
    _write(
        path,
        HEADER,
        (
            f"{f},{i},{b[0]:.2f},{b[1]:.2f},{b[2] - b[0]:.2f},{b[3] - b[1]:.2f},{c:.3f},-1,-1,-1"
            for f, i, b, c in zip(
                (tracks.frame + 1).tolist(),
                tracks.identity.tolist(),
                tracks.box.tolist(),
                tracks.confidence.tolist(),
                strict=True,
            )
        ),
    )


def write_truth(path: Path, truth: Truth) -> None:
    """Write truth with its class names and visibility."""
    frames = rows_to_frames(truth.frame_start) + 1
    _write(
        path,
        TRUTH_HEADER,
        (
            f"{f},{i},{b[0]:.2f},{b[1]:.2f},{b[2] - b[0]:.2f},{b[3] - b[1]:.2f},{int(k)},{truth.class_names[c]},{v:.3f}"
            for f, i, b, k, c, v in zip(
                frames.tolist(),
                truth.identity.tolist(),
                truth.box.tolist(),
                truth.consider.tolist(),
                truth.class_id.tolist(),
                truth.visibility.tolist(),
                strict=True,
            )
        ),
    )


def read_tracks(path: Path) -> Tracks:
    """Tracks written by Drover or another program.

    Raises
    ------
    FormatError
        Naming the first line that cannot be used, or an identity that stands twice in one frame.
    """
    rows = _sorted(path, list(_rows(path)))
    count = max((row.frame for row in rows), default=-1) + 1
    confidence = np.asarray([_confidence(path, row) for row in rows], np.float32)
    return Tracks(
        frame_start=_frame_start(rows, count),
        identity=np.asarray([row.identity for row in rows], np.int32),
        box=np.asarray([row.box for row in rows], np.float32).reshape(-1, 4),
        state=np.where(confidence > 0, 1, 2).astype(np.int8),
        detection=np.full(len(rows), -1, np.int32),
        confidence=confidence,
        class_id=np.zeros(len(rows), np.int16),
        distance=np.full(len(rows), np.nan, np.float32),
        nearest_refused=np.zeros(0, np.float32),
        size=(0, 0),
    )


def read_truth(path: Path, *, frame_count: int | None = None) -> Truth:
    """Truth: identities with consider flag, class and visibility where the file has them.

    Raises
    ------
    FormatError
        Naming the first line that cannot be used.
    """
    rows = _sorted(path, list(_rows(path)))
    if not rows:
        raise FormatError(f"{path}: holds no true boxes, so nothing can be scored against it; check the file")
    count = max((row.frame for row in rows), default=-1) + 1
    if frame_count is not None:
        if count > frame_count:
            raise FormatError(
                f"{path}: reaches frame {count} but the clip has {frame_count} frames; "
                "check that the file belongs to this clip"
            )
        count = frame_count
    classes = [plain_name(row.rest[1] if len(row.rest) > 1 else "") or DEFAULT_CLASS for row in rows]
    names = tuple(dict.fromkeys(classes)) or (DEFAULT_CLASS,)
    if len(names) > MOST_CLASSES:
        raise FormatError(f"{path}: names {len(names)} classes, more than {MOST_CLASSES}; check column 8")
    number = {name: place for place, name in enumerate(names)}
    return Truth(
        frame_start=_frame_start(rows, count),
        identity=np.asarray([row.identity for row in rows], np.int32),
        box=np.asarray([row.box for row in rows], np.float32).reshape(-1, 4),
        consider=np.asarray([_number(path, row, 0, 1.0) != 0 for row in rows], np.bool_),
        class_id=np.asarray([number[name] for name in classes], np.int16),
        visibility=np.asarray([_visibility(path, row) for row in rows], np.float32),
        class_names=names,
    )


def _frame_start(rows: list[_Row], count: int) -> np.ndarray:
    counts = np.bincount(np.asarray([row.frame for row in rows], np.int64), minlength=count)
    return np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)


def _sorted(path: Path, rows: list[_Row]) -> list[_Row]:
    rows.sort(key=lambda row: (row.frame, row.identity))
    for before, row in zip(rows[:-1], rows[1:], strict=True):
        if (before.frame, before.identity) == (row.frame, row.identity):
            raise FormatError(
                f"{path}: line {max(row.line, before.line)}: identity {row.identity} stands twice in frame "
                f"{row.frame + 1}; remove one of the rows"
            )
    return rows


def _rows(path: Path) -> Iterator[_Row]:
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            for number, cells in enumerate(csv.reader(file), 1):
                if not cells or (number == 1 and cells[0].strip().lower() == "frame"):
                    continue
                yield _row(path, number, cells)
    except FileNotFoundError as error:
        raise FormatError(f"{path}: there is no such file; check the name") from error
    except UnicodeDecodeError as error:
        raise FormatError(f"{path}: is not a text file in UTF-8; save it as comma-separated text") from error
    except (OSError, csv.Error) as error:
        raise FormatError(f"{path}: cannot be read as comma-separated text ({error})") from error


def _row(path: Path, line: int, cells: list[str]) -> _Row:
    where = f"{path}: line {line}"
    if len(cells) > MOST_COLUMNS:
        raise FormatError(
            f"{where}: has {len(cells)} columns, at most {MOST_COLUMNS} are known; "
            "write numbers with a point, not with a comma"
        )
    if len(cells) < 6:
        raise FormatError(f"{where}: has {len(cells)} columns, needs at least 6: frame, id, left, top, width, height")
    try:
        values = [float(cell) for cell in cells[:6]]
    except ValueError as error:
        raise FormatError(f"{where}: {str(error)[:120]}; the first six columns must be numbers") from error
    if not all(math.isfinite(value) for value in values):
        raise FormatError(f"{where}: holds a value that is not a finite number; remove or mend the row")
    frame, identity, left, top, width, height = values
    if frame != int(frame) or not 1 <= frame <= MOST_FRAMES:
        raise FormatError(f"{where}: frame must be a whole number from 1; got {cells[0].strip()}")
    if identity != int(identity) or not -1 <= identity <= 2**31 - 1:
        raise FormatError(f"{where}: id must be a whole number from -1; got {cells[1].strip()}")
    if width < 0 or height < 0:
        raise FormatError(f"{where}: width and height must not be negative; got {width:g} x {height:g}")
    if max(abs(left), abs(top), width, height) > MOST_PIXELS:
        raise FormatError(f"{where}: box reaches beyond {MOST_PIXELS:.0f} px; check the columns")
    return _Row(line, int(frame) - 1, int(identity), (left, top, left + width, top + height), tuple(cells[6:]))


def _number(path: Path, row: _Row, place: int, default: float) -> float:
    if place >= len(row.rest) or not row.rest[place].strip():
        return default
    try:
        value = float(row.rest[place])
    except ValueError as error:
        raise FormatError(f"{path}: line {row.line}: {error} in column {place + 7}") from error
    if not math.isfinite(value):
        raise FormatError(f"{path}: line {row.line}: column {place + 7} is not a finite number")
    return value


def _confidence(path: Path, row: _Row) -> float:
    value = _number(path, row, 0, 1.0)
    return 1.0 if value < 0 else min(value, 1.0)


def _visibility(path: Path, row: _Row) -> float:
    value = _number(path, row, 2, 1.0)
    if value == -1:
        return 1.0  # written where nobody said
    if not 0 <= value <= 1:
        raise FormatError(f"{path}: line {row.line}: visibility must be in 0..1; got {value:g}")
    return value
