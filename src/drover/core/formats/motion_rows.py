"""The camera's motion, and outlines of what is followed, as comma-separated tables."""

from __future__ import annotations

import csv
import math
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import FormatError

__all__ = ["MOTION_COLUMNS", "OUTLINE_COLUMNS", "read_motion", "write_motion", "write_outlines"]

Float = NDArray[np.float64]
MOTION_COLUMNS = ("frame", "xx", "xy", "x", "yx", "yy", "y", "wx", "wy", "w", "state")
OUTLINE_COLUMNS = ("frame", "x1", "y1", "x2", "y2", "x3", "y3", "x4", "y4", "seen")
MOST_FRAMES = 10_000_000


def write_motion(path: Path, to_scene: Float, states: list[str] | None = None) -> None:
    """A row a frame, from 1: the nine numbers, row by row, that take its px to those of its shot's first frame."""
    words = states or ["followed"] * len(to_scene)
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(MOTION_COLUMNS)
        for frame, (matrix, word) in enumerate(zip(to_scene, words, strict=True), 1):
            writer.writerow([frame, *(f"{value:.9g}" for value in matrix.ravel()), word])


def read_motion(path: Path) -> Float:
    """The matrices (frames, 3, 3) of such a table.

    Raises
    ------
    FormatError
        When a row is missing or holds no numbers.
    """
    try:
        with path.open(encoding="utf-8", newline="") as file:
            rows = list(csv.reader(file))[1:]
        numbers = [[float(cell) for cell in row[1:10]] for row in rows[:MOST_FRAMES]]
    except (OSError, ValueError, csv.Error, UnicodeDecodeError) as error:
        raise FormatError(f"{path}: is no table of a camera's motion ({error})") from error
    if any(len(row) != 9 or not all(math.isfinite(value) for value in row) for row in numbers):
        raise FormatError(f"{path}: a row does not hold nine numbers; write the table again")
    return np.array(numbers).reshape(-1, 3, 3)


def write_outlines(path: Path, rows: list[tuple[int, Float, float]]) -> None:
    """Outlines of one thing: frame, from 1, four corners in px and the share of it that is seen."""
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(OUTLINE_COLUMNS)
        for frame, corners, seen in rows:
            writer.writerow([frame + 1, *(f"{value:.3f}" for value in np.asarray(corners).ravel()), f"{seen:.3f}"])
