"""Boxes of other detectors: three open formats recognised by their content, looked at before they are taken.

- comma-separated rows: ``frame,id,left,top,width,height,confidence,...`` (column 8 may name a class);
- COCO JSON: an object with ``images`` and ``annotations``, or a list of results;
- a folder with one text file an image: class, centre x, centre y, width, height as fractions, confidence if any.

Nothing is thrown away unsaid: every row that cannot be used is counted and the first of each kind is named by its
line. The good rows are taken only when the caller says so.
"""

from __future__ import annotations

import csv
import json
import math
import re
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import Cancelled, FormatError
from drover.core.names import plain_name
from drover.core.types import DEFAULT_CLASS, Detections

__all__ = ["BoxFile", "first_line_has_commas", "read_box_file"]

MOST_ROWS = 20_000_000
MOST_BYTES = 4 << 30
MOST_PIXELS = 1e6
MOST_CLASSES = 10_000
MOST_COLUMNS = 10
NAMED_FAULTS = 20
PACKED = 65_536  # rows kept loose before they are packed
CHUNK = 20_000  # lines read at once
WATCHED = 20_000  # rows between two looks up

Watch = Callable[[int], bool]


@dataclass(frozen=True)
class BoxFile:
    """What a file of boxes holds.

    ``frame`` (n,) int64 from 0, ``box`` (n, 4) float32 px, ``confidence`` (n,) float32 fraction, ``class_id`` (n,)
    int16; ``faults`` are plain lines, the first few of each kind; ``bad_rows`` counts all rows left out.
    """

    kind: str
    frame: NDArray[np.int64]
    box: NDArray[np.float32]
    confidence: NDArray[np.float32]
    class_id: NDArray[np.int16]
    class_names: tuple[str, ...]
    faults: tuple[str, ...]
    bad_rows: int

    def per_class(self) -> dict[str, int]:
        """Boxes of each class."""
        counts = np.bincount(self.class_id, minlength=len(self.class_names))
        return {name: int(count) for name, count in zip(self.class_names, counts, strict=True)}

    @property
    def frames_covered(self) -> int:
        """Frames with at least one box."""
        return len(np.unique(self.frame))

    def detections(
        self, *, frame_count: int, size: tuple[int, int], least_confidence: dict[str, float] | None = None
    ) -> Detections:
        """The good rows as detections; classes missing in ``least_confidence`` are dropped where it is given."""
        keep = np.ones(len(self.frame), np.bool_)
        if least_confidence is not None:
            limits = np.array([least_confidence.get(name, np.inf) for name in self.class_names], np.float64)
            keep = self.confidence >= limits[self.class_id]
        return Detections.from_boxes(
            self.frame[keep], self.box[keep], self.confidence[keep], frame_count=frame_count, size=size,
            class_id=self.class_id[keep], class_names=self.class_names,
        )  # fmt: skip


class _Rows:
    """Collects good rows, packed as they come, and counts the bad ones."""

    def __init__(self, frame_count: int, size: tuple[int, int], watch: Watch | None) -> None:
        self.frame_count, self.size, self._watch = frame_count, size, watch
        self._loose: list[tuple[int, float, float, float, float, float, int]] = []
        self._packed: list[NDArray[np.float32]] = []
        self._seen = self.count = 0
        self.names: dict[str, int] = {}
        self.faults: list[str] = []
        self.kinds: Counter[str] = Counter()

    def fault(self, where: str, kind: str, detail: str = "") -> None:
        self.kinds[kind] += 1
        if self.kinds[kind] <= 3 and len(self.faults) < NAMED_FAULTS:
            self.faults.append(f"{where}: {kind}{': ' + detail if detail else ''}")

    def look_up(self, rows: int = 1) -> None:
        """Say how far the reading is, now and then; stop when told to."""
        before, self._seen = self._seen, self._seen + rows
        if self._watch is not None and before // WATCHED != self._seen // WATCHED and self._watch(self._seen):
            raise Cancelled("reading the boxes was stopped")

    def number_of(self, name: str) -> int:
        """Number of a class."""
        return self.names.setdefault(plain_name(name) or DEFAULT_CLASS, len(self.names))

    def add_table(self, table: NDArray[np.float32]) -> None:
        """Rows already known to be good: frame, x1, y1, x2, y2, confidence, class."""
        self._pack()
        self._packed.append(table)
        self.count += len(table)

    def _pack(self) -> None:
        if self._loose:
            self._packed.append(np.asarray(self._loose, np.float32).reshape(-1, 7))
            self._loose = []

    def add(self, where: str, frame: int, box: tuple[float, float, float, float], sure: float, name: str) -> None:
        x1, y1, x2, y2 = box
        width, height = self.size
        if not all(map(math.isfinite, (*box, sure))):
            self.fault(where, "holds a value that is not a finite number")
        elif x2 <= x1 or y2 <= y1:
            self.fault(where, "width and height must be above 0", f"got {x2 - x1:g} x {y2 - y1:g}")
        elif max(map(abs, box)) > MOST_PIXELS:
            self.fault(where, f"the box reaches beyond {MOST_PIXELS:.0f} px")
        elif name not in self.names and len(self.names) >= MOST_CLASSES:
            self.fault(where, f"there are more than {MOST_CLASSES} classes")
        elif not 0 <= frame < self.frame_count:
            self.fault(where, f"is beyond the clip's {self.frame_count} frames", f"frame {frame + 1}")
        elif x2 <= 0 or y2 <= 0 or x1 >= width or y1 >= height:
            self.fault(where, f"the box lies outside the {width} x {height} frame")
        elif self.count >= MOST_ROWS:
            self.fault(where, f"there are more than {MOST_ROWS} rows")
        else:
            self._loose.append((frame, x1, y1, x2, y2, min(max(sure, 0.0), 1.0), self.number_of(name)))
            self.count += 1
            if len(self._loose) >= PACKED:
                self._pack()

    def result(self, kind: str) -> BoxFile:
        self._pack()
        table = np.concatenate(self._packed) if self._packed else np.zeros((0, 7), np.float32)
        self._packed = []
        counted = [f"{count} rows: {what}" for what, count in self.kinds.most_common() if count > 3]
        return BoxFile(
            kind=kind,
            frame=table[:, 0].astype(np.int64),
            box=np.ascontiguousarray(table[:, 1:5]),
            confidence=np.ascontiguousarray(table[:, 5]),
            class_id=table[:, 6].astype(np.int16),
            class_names=tuple(self.names) or (DEFAULT_CLASS,),
            faults=(*self.faults, *counted),
            bad_rows=sum(self.kinds.values()),
        )


def read_box_file(path: Path, *, frame_count: int, size: tuple[int, int], watch: Watch | None = None) -> BoxFile:
    """Look at a file or folder of boxes for a clip of ``frame_count`` frames of ``size`` (width, height) px.

    ``watch`` is called now and then with the number of rows read; when it says True the reading stops.

    Raises
    ------
    FormatError
        When it is none of the three formats or cannot be read at all.
    Cancelled
        When told to stop.
    """
    rows = _Rows(frame_count, size, watch)
    try:
        if path.is_dir():
            _read_folder(path, rows)
            return rows.result("a text file an image")
        if path.stat().st_size > MOST_BYTES:
            raise FormatError(f"{path}: is larger than {MOST_BYTES >> 30} GB; split it")
        with path.open(encoding="utf-8-sig") as file:
            first = file.read(4096).lstrip()[:1]
        if first in ("{", "["):
            _read_coco(path, rows)
            return rows.result("COCO JSON")
        _read_rows(path, rows)
        return rows.result("comma-separated rows")
    except FileNotFoundError as error:
        raise FormatError(f"{path}: there is no such file; check the name") from error
    except UnicodeDecodeError as error:
        raise FormatError(f"{path}: is not a text file in UTF-8; save it as text") from error
    except (OSError, csv.Error, ValueError, OverflowError, MemoryError, RecursionError) as error:
        raise FormatError(f"{path}: cannot be read ({str(error)[:160]})") from error


def first_line_has_commas(path: Path) -> bool:
    """Whether a text file holds comma-separated rows; one of a folder with a text file an image does not."""
    try:
        with path.open(encoding="utf-8-sig", errors="replace") as file:
            return "," in file.readline(4096)
    except OSError:
        return True


# --- comma-separated rows ----------------------------------------------------------------------------------


def _read_rows(path: Path, rows: _Rows) -> None:
    with path.open(encoding="utf-8-sig", newline="") as file:
        first = 1
        while lines := list(islice(file, CHUNK)):
            _read_lines(lines, first, rows)
            rows.look_up(len(lines))
            first += len(lines)
    if not rows.count and not rows.kinds:
        raise FormatError(f"{path}: holds no rows; expected frame,id,left,top,width,height,confidence")


def _read_lines(lines: list[str], first: int, rows: _Rows) -> None:
    """Some lines at once where they are plain numbers, else row by row."""
    header = first == 1 and lines[0].split(",")[0].strip().lower() == "frame"
    table = None if header else _plain_table(lines)
    if table is None:
        for number, cells in enumerate(csv.reader(lines), first):
            if cells and not (header and number == 1):
                _read_row(f"line {number}", cells, rows)
        return
    good = _usable(table, rows)
    sure = np.where(table[:, 6] < 0, 1.0, np.minimum(table[:, 6], 1.0))
    kinds = table[:, 7] if table.shape[1] > 7 else np.full(len(table), -1.0)
    number = np.zeros(len(table))
    for kind in np.unique(kinds[good]):
        number[kinds == kind] = rows.number_of(DEFAULT_CLASS if kind == -1 else f"{kind:g}")
    corner = table[:, 2:4] + table[:, 4:6]
    columns = [table[:, :1] - 1, table[:, 2:4], corner, sure[:, None], number[:, None]]
    rows.add_table(np.hstack(columns)[good].astype(np.float32))
    for place in np.flatnonzero(~good):
        _read_row(f"line {first + place}", next(csv.reader([lines[place]])), rows)


def _plain_table(lines: list[str]) -> NDArray[np.float64] | None:
    """Lines as numbers; None where they are not all numbers in the same seven columns or more."""
    try:
        table = np.loadtxt(lines, delimiter=",", ndmin=2, comments=None)
    except ValueError:
        return None
    return table if 7 <= table.shape[1] <= MOST_COLUMNS and len(table) == len(lines) else None


def _usable(table: NDArray[np.float64], rows: _Rows) -> NDArray[np.bool_]:
    """Which rows are good beyond doubt; the others are looked at one by one."""
    if rows.count + len(table) > MOST_ROWS:
        return np.zeros(len(table), np.bool_)
    frame, left, top, wide, tall = (table[:, k] for k in (0, 2, 3, 4, 5))
    width, height = rows.size
    with np.errstate(invalid="ignore", over="ignore"):
        return (
            np.isfinite(table).all(axis=1)
            & (frame == np.floor(frame))
            & (frame >= 1)
            & (frame <= rows.frame_count)
            & (np.abs(table[:, 2:6]).max(axis=1) < MOST_PIXELS / 2)
            & (wide > 0)
            & (tall > 0)
            & (left < width)
            & (top < height)
            & (left + wide > 0)
            & (top + tall > 0)
        )


def _read_row(where: str, cells: list[str], rows: _Rows) -> None:
    if len(cells) > MOST_COLUMNS:
        rows.fault(where, f"has more than {MOST_COLUMNS} columns; numbers are written with a point, not with a comma")
        return
    if len(cells) < 6:
        rows.fault(where, "needs at least 6 columns: frame, id, left, top, width, height", f"has {len(cells)}")
        return
    try:
        frame, _, left, top, width, height = (float(cell) for cell in cells[:6])
        sure = float(cells[6]) if len(cells) > 6 and cells[6].strip() else 1.0
    except ValueError as error:
        rows.fault(where, "the first seven columns must be numbers", str(error))
        return
    if not math.isfinite(frame) or frame != int(frame):
        rows.fault(where, "frame must be a whole number from 1", cells[0].strip()[:40])
        return
    name = cells[7].strip() if len(cells) > 7 else ""
    name = name if name and name not in ("-1", "-1.0") else DEFAULT_CLASS
    rows.add(where, int(frame) - 1, (left, top, left + width, top + height), 1.0 if sure < 0 else sure, name)


# --- COCO JSON ---------------------------------------------------------------------------------------------


def _read_coco(path: Path, rows: _Rows) -> None:
    try:
        data = json.loads(path.read_text(encoding="utf-8-sig"))
    except (ValueError, RecursionError) as error:
        raise FormatError(f"{path}: is not valid JSON ({str(error)[:120]})") from error
    if isinstance(data, dict):
        items, names, frames = data.get("annotations"), _coco_names(data), _coco_frames(data)
    else:
        items, names, frames = data, {}, None
    if not isinstance(items, list):
        raise FormatError(f"{path}: lacks 'annotations'; expected COCO JSON or a list of results")
    for number, item in enumerate(items, 1):
        rows.look_up()
        _read_coco_item(f"entry {number}", item, names, frames, rows)


def _coco_names(data: dict[str, Any]) -> dict[Any, str]:
    kinds = data.get("categories")
    entries = kinds if isinstance(kinds, list) else []
    return {_plain(k.get("id")): str(k.get("name", k.get("id"))) for k in entries if isinstance(k, dict)}


def _coco_frames(data: dict[str, Any]) -> dict[Any, int] | None:
    """Frame of each image: its own frame number where it has one, else its place in order of file name."""
    listed = data.get("images")
    images = [image for image in listed if isinstance(image, dict)] if isinstance(listed, list) else []
    if not images:
        return None
    if all(isinstance(image.get("frame_id"), int) for image in images):
        first = min(image["frame_id"] for image in images)
        return {_plain(image.get("id")): image["frame_id"] - min(first, 1) for image in images}
    ordered = sorted(images, key=lambda image: _natural(str(image.get("file_name", image.get("id")))))
    return {_plain(image.get("id")): place for place, image in enumerate(ordered)}


def _plain(value: Any) -> Any:
    return value if isinstance(value, (int, str)) else str(value)


def _read_coco_item(where: str, item: Any, names: dict[Any, str], frames: dict[Any, int] | None, rows: _Rows) -> None:
    if not isinstance(item, dict):
        rows.fault(where, "is not an object")
        return
    image, bbox, kind = _plain(item.get("image_id")), item.get("bbox"), _plain(item.get("category_id"))
    if not (isinstance(bbox, list) and len(bbox) == 4 and all(_is_number(v) for v in bbox)):
        rows.fault(where, "bbox must be four numbers: left, top, width, height")
        return
    if frames is None:
        frame = image - 1 if isinstance(image, int) else None
    else:
        frame = frames.get(image)
    if frame is None:
        rows.fault(where, "belongs to no known image", str(image)[:40])
        return
    if names and kind not in names:
        rows.fault(where, "has a class that is not listed", str(kind)[:40])
        return
    score = item.get("score", 1.0)
    left, top, width, height = (float(v) for v in bbox)
    name = names.get(kind, str(kind) if item.get("category_id") is not None else DEFAULT_CLASS)
    rows.add(where, frame, (left, top, left + width, top + height), float(score) if _is_number(score) else 1.0, name)


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and abs(value) < 1e300


# --- a text file an image ----------------------------------------------------------------------------------


def _read_folder(path: Path, rows: _Rows) -> None:
    files = sorted((file for file in path.glob("*.txt") if file.name != "classes.txt"), key=lambda f: _natural(f.stem))
    if not files:
        raise FormatError(f"{path}: holds no .txt files; expected one an image")
    names = _class_names(path / "classes.txt")
    numbered = [_last_number(file.stem) for file in files]
    whole = [number for number in numbered if number is not None]
    by_number = len(whole) == len(files) and len(set(whole)) == len(files)
    first = min(whole, default=0)
    for place, file in enumerate(files):
        frame = whole[place] - min(first, 1) if by_number else place
        for number, line in enumerate(_lines(file), 1):
            rows.look_up()
            _read_fractions(f"{file.name} line {number}", line.split(), frame, names, rows)


def _lines(file: Path) -> Iterator[str]:
    for line in file.read_text(encoding="utf-8-sig").splitlines():
        if line.strip():
            yield line


def _class_names(file: Path) -> list[str]:
    return [line.strip() for line in _lines(file)] if file.exists() else []


def _read_fractions(where: str, cells: list[str], frame: int, names: list[str], rows: _Rows) -> None:
    if len(cells) not in (5, 6):
        rows.fault(where, "needs class, centre x, centre y, width, height and perhaps confidence", f"has {len(cells)}")
        return
    try:
        x, y, width, height = (float(cell) for cell in cells[1:5])
        sure = float(cells[5]) if len(cells) == 6 else 1.0
    except ValueError as error:
        rows.fault(where, "holds a word where a number belongs", str(error))
        return
    if not all(-0.5 <= value <= 1.5 for value in (x, y)) or max(width, height) > 1.5:
        rows.fault(where, "values must be fractions of the frame, 0..1")
        return
    w, h = rows.size
    kind = cells[0]
    name = names[int(kind)] if kind.isascii() and kind.isdigit() and len(kind) < 10 and int(kind) < len(names) else kind
    box = ((x - width / 2) * w, (y - height / 2) * h, (x + width / 2) * w, (y + height / 2) * h)
    rows.add(where, frame, box, sure, name)


def _natural(text: str) -> list[tuple[int, str]]:
    """Order in which 2 comes before 10."""
    parts = re.split(r"([0-9]+)", text)
    return [(len(p.lstrip("0")), p.lstrip("0")) if p.isdigit() and p.isascii() else (-1, p) for p in parts]


def _last_number(text: str) -> int | None:
    found = re.findall(r"[0-9]+", text)
    return int(found[-1]) if found and len(found[-1]) < 10 else None
