"""Parts of a project written to its tables."""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np

from drover import __version__
from drover.core.document import KeptRun, now
from drover.core.edits.edit import Edit, write_edits
from drover.core.footage_types import ClipInfo
from drover.core.project.counted import write_zones
from drover.core.project.tables import fill
from drover.core.recipe import parse_recipe
from drover.core.types import Crossings, Detections, TrackState, Truth, rows_to_frames

__all__ = [
    "crossing_rows", "detection_rows", "run_row", "track_rows", "write_clip", "write_corrections", "write_crossings",
    "write_imported", "write_meta", "write_recipe", "write_truth",
]  # fmt: skip

_STATE_NAMES = {int(state): state.name.lower() for state in TrackState}


def write_clip(db: sqlite3.Connection, clip: ClipInfo) -> None:
    """The clip and the times of its frames."""
    fill(db, "clip", [(1, clip.path, clip.width, clip.height, clip.rate, clip.fingerprint)])
    fill(db, "frame_time", ((n, t) for n, t in enumerate(clip.times.tolist(), 1)))


def write_recipe(db: sqlite3.Connection, text: str) -> None:
    """The recipe as text, and its lines and zones as rows."""
    fill(db, "recipe", [(1, text)])
    lines = parse_recipe(text).count.line
    rows = [(line.name, n, json.dumps(line.points), line.reference) for n, line in enumerate(lines, 1)]
    fill(db, "line", rows)
    write_zones(db, parse_recipe(text).count)


def write_corrections(db: sqlite3.Connection, edits: tuple[Edit, ...]) -> None:
    """What was corrected by hand, in order."""
    lines = write_edits(edits).splitlines()
    fill(
        db,
        "correction",
        ((n, edit.kind, edit.at, line) for n, (edit, line) in enumerate(zip(edits, lines, strict=True), 1)),
    )


def write_meta(db: sqlite3.Connection, facts: dict[str, str]) -> None:
    """Where the user was and what is compared, and when and by what it was saved."""
    fill(db, "meta", [("saved", now()), ("version", __version__), *facts.items()])


def run_row(run: KeptRun, number: int, found: int) -> tuple[Any, ...]:
    """The run's own row, not yet complete; ``found`` is the number under which its detections stand."""
    return (
        number, run.name, run.when, __version__, run.recipe_text, run.detect_key, run.track_key, run.count_key,
        run.tracks.frame_count, run.detect.seconds, run.histogram.astype("<i8").tobytes(),
        run.tracks.nearest_refused.astype("<f4").tobytes(), run.note, 0, found,
    )  # fmt: skip


def detection_rows(run: KeptRun, number: int) -> Iterator[tuple[Any, ...]]:
    """Every box of the run."""
    found = run.detections
    frames = (rows_to_frames(found.frame_start) + 1).tolist()
    starts = found.run_start.tolist()
    runs = np.ascontiguousarray(found.runs, "<i2")
    looks = len(found.look) > 0
    for n, (f, box, c, k, a) in enumerate(
        zip(
            frames, found.box.tolist(), found.confidence.tolist(), found.class_id.tolist(), found.area.tolist(),
            strict=True,
        )
    ):  # fmt: skip
        look = found.look[n].tobytes() if looks else None
        yield number, n, f, *box, c, found.class_names[k], a, runs[starts[n] : starts[n + 1]].tobytes(), look


def track_rows(run: KeptRun, number: int) -> Iterator[tuple[Any, ...]]:
    """Every identity in every frame."""
    t = run.tracks
    unknown = np.full(len(t), np.nan, np.float32)
    margin, nis = (unknown if column is None else column for column in (t.margin, t.nis))
    for f, i, box, s, d, c, k, *of_link in zip(
        (t.frame + 1).tolist(), t.identity.tolist(), t.box.tolist(), t.state.tolist(), t.detection.tolist(),
        t.confidence.tolist(), t.class_id.tolist(), t.distance.tolist(), margin.tolist(), nis.tolist(), strict=True,
    ):  # fmt: skip
        yield (number, f, i, *box, _STATE_NAMES[s], d if d >= 0 else None, c, t.class_names[k], *map(_known, of_link))


def _known(value: float) -> float | None:
    return None if math.isnan(value) else value


def crossing_rows(c: Crossings) -> Iterator[tuple[Any, ...]]:
    """Crossings, counted or true."""
    for n, i, k, f, t, d, x, y, s in zip(
        c.line.tolist(), c.identity.tolist(), c.class_id.tolist(), c.frame.tolist(), c.time.tolist(),
        c.direction.tolist(), c.x.tolist(), c.y.tolist(), c.seen.tolist(), strict=True,
    ):  # fmt: skip
        yield c.line_names[n], i, c.class_names[k], f + 1, t, d, x, y, int(s)


def write_crossings(db: sqlite3.Connection, c: Crossings | None) -> None:
    """True crossings."""
    fill(db, "true_crossing", () if c is None else crossing_rows(c))


def write_truth(db: sqlite3.Connection, truth: Truth | None) -> None:
    """What was really there."""
    rows: Iterable[tuple[Any, ...]] = ()
    if truth is not None:
        rows = (
            (f, i, *box, int(k), truth.class_names[c], v)
            for f, i, box, k, c, v in zip(
                (rows_to_frames(truth.frame_start) + 1).tolist(), truth.identity.tolist(), truth.box.tolist(),
                truth.consider.tolist(), truth.class_id.tolist(), truth.visibility.tolist(), strict=True,
            )
        )  # fmt: skip
    fill(db, "truth", rows)


def write_imported(db: sqlite3.Connection, boxes: Detections | None) -> None:
    """Boxes of another detector."""
    rows: Iterable[tuple[Any, ...]] = ()
    if boxes is not None:
        rows = (
            (f, *box, c, boxes.class_names[k])
            for f, box, c, k in zip(
                (rows_to_frames(boxes.frame_start) + 1).tolist(), boxes.box.tolist(), boxes.confidence.tolist(),
                boxes.class_id.tolist(), strict=True,
            )
        )  # fmt: skip
    fill(db, "imported", rows)
