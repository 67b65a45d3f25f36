"""Boxes of other detectors: three open formats recognised by their content, looked at before they are taken.

- comma-separated rows: ``frame,id,left,top,width,height,confidence,...`` (column 8 may name a class);
- COCO JSON: an object with ``images`` and ``annotations``, or a list of results;
- a folder with one text file an image: class, centre x, centre y, width, height as fractions, confidence if any.

Nothing is thrown away unsaid: every row that cannot be used is counted and the first of each kind is named by its
line. The good rows are taken only when the caller says so.
"""

from __future__ import annotations

import csv
import math
import re
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import FormatError
from drover.core.formats.box_table import MOST_PIXELS, MOST_ROWS, BoxFile, BoxTable, Watch
from drover.core.formats.coco_boxes import read_coco
from drover.core.names import natural_order
from drover.core.types import DEFAULT_CLASS

__all__ = ["first_line_has_commas", "read_box_file"]

MOST_BYTES = 4 << 30
MOST_COLUMNS = 10
CHUNK = 20_000  # lines read at once


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
    rows = BoxTable(frame_count, size, watch)
    try:
        if path.is_dir():
            _read_folder(path, rows)
            return rows.result("a text file an image")
        if path.stat().st_size > MOST_BYTES:
            raise FormatError(f"{path}: is larger than {MOST_BYTES >> 30} GB; split it")
        with path.open(encoding="utf-8-sig") as file:
            first = file.read(4096).lstrip()[:1]
        if first in ("{", "["):
            read_coco(path, rows)
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


def _read_rows(path: Path, rows: BoxTable) -> None:
    with path.open(encoding="utf-8-sig", newline="") as file:
        first = 1
        while lines := list(islice(file, CHUNK)):
            _read_lines(lines, first, rows)
            rows.look_up(len(lines))
            first += len(lines)
    if not rows.count and not rows.kinds:
        raise FormatError(f"{path}: holds no rows; expected frame,id,left,top,width,height,confidence")


def _read_lines(lines: list[str], first: int, rows: BoxTable) -> None:
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
    if not any(line.strip() for line in lines):
        return None
    try:
        table = np.loadtxt(lines, delimiter=",", ndmin=2, comments=None)
    except ValueError:
        return None
    return table if 7 <= table.shape[1] <= MOST_COLUMNS and len(table) == len(lines) else None


def _usable(table: NDArray[np.float64], rows: BoxTable) -> NDArray[np.bool_]:
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


def _read_row(where: str, cells: list[str], rows: BoxTable) -> None:
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


# --- a text file an image ----------------------------------------------------------------------------------


def _read_folder(path: Path, rows: BoxTable) -> None:
    files = sorted(
        (file for file in path.glob("*.txt") if file.name != "classes.txt"), key=lambda f: natural_order(f.stem)
    )
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


def _read_fractions(where: str, cells: list[str], frame: int, names: list[str], rows: BoxTable) -> None:
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


def _last_number(text: str) -> int | None:
    found = re.findall(r"[0-9]+", text)
    return int(found[-1]) if found and len(found[-1]) < 10 else None
