"""What a live run writes: every crossing, stay and alarm the moment it holds, and the totals every few seconds."""

from __future__ import annotations

import csv
import json
import os
from collections import OrderedDict
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import IO, Any

from drover.core.count.live import LiveEvents, LiveRows
from drover.core.errors import DroverError
from drover.core.formats.box_rows import HEADER
from drover.core.formats.count_tables import ALARM_COLUMNS
from drover.core.formats.crossing_rows import CROSSING_COLUMNS, write_counts
from drover.core.live_session.object_rows import ObjectRows
from drover.core.live_session.outbox import Outbox
from drover.core.recipe import Recipe
from drover.core.types import DEFAULT_CLASS

__all__ = ["LiveResults"]

MOST_REMEMBERED = 20_000  # identities that are known to have crossed: more are of long ago
TRACKS = "tracks.csv"
STAY_COLUMNS = ("zone", "identity", "enter", "leave", "dwell", "at")


class LiveResults:
    """The files of one live run, in a folder of its own; rows are on disk when a call returns.

    Parameters
    ----------
    folder : Path
    recipe : Recipe
    started : the time at which the stream's clock began; it may be set again when the first picture comes
    tracks : bool
        Keep the objects of every picture too, as beside a recording.

    Raises
    ------
    DroverError
        When the folder cannot be written, or holds another live run already.
    """

    def __init__(self, folder: Path, recipe: Recipe, started: datetime, *, tracks: bool = False) -> None:
        self._folder, self._recipe, self.started = folder, recipe, started
        self._totals = {line.name: [0, 0, 0, 0] for line in recipe.count.line}
        self._known: OrderedDict[tuple[str, int, int], None] = OrderedDict()
        self._object_rows = ObjectRows()
        self.crossings = 0
        try:
            self._outbox = Outbox(folder, started.astimezone(UTC).strftime("%Y%m%dT%H%M%S%f"))
            self._files = {
                name: self._opened(name, columns)
                for name, columns in (
                    ("crossings.csv", (*CROSSING_COLUMNS, "at")),
                    ("zones.csv", STAY_COLUMNS),
                    ("alarms.csv", (*ALARM_COLUMNS, "at")),
                )
            }
            if tracks:
                self._files[TRACKS] = self._opened(TRACKS, tuple(HEADER.split(",")))
        except FileExistsError as error:
            raise DroverError(f"{folder}: holds a live run already; choose another folder with --out") from error
        except OSError as error:
            raise self._cannot(error) from error

    def add(self, events: LiveEvents, frame: int, rows: LiveRows | None = None) -> None:
        """Write what one frame brought; ``rows`` are the identities in it, objects or not.

        Raises
        ------
        DroverError
            When it cannot be written, as on a full disk; what was written stays.
        """
        try:
            for one in events.crossings:
                name = self._recipe.count.line[one.line].name
                self._count(name, one.identity, one.direction)
                self._row("crossings.csv", [
                    name, one.identity, DEFAULT_CLASS, frame + 1, f"{one.time:.4f}", one.direction, f"{one.x:.2f}",
                    f"{one.y:.2f}", self._at(one.time),
                ])  # fmt: skip
            for zone, who, enter, leave in events.stays:
                name = self._recipe.count.zone[zone].name
                self._row(
                    "zones.csv", [name, who, f"{enter:.4f}", f"{leave:.4f}", f"{leave - enter:.4f}", self._at(leave)]
                )
            for one in events.alarms:
                self._row("alarms.csv", [
                    one.kind, one.place, one.identity, frame + 1, f"{one.time:.4f}", f"{one.value:g}", f"{one.limit:g}",
                    self._at(one.time),
                ])  # fmt: skip
            for name, came in (
                ("crossings.csv", events.crossings), ("zones.csv", events.stays), ("alarms.csv", events.alarms)
            ):  # fmt: skip
                if came:
                    self._files[name].flush()
                    os.fsync(self._files[name].fileno())
            self._outbox.add(self._told(events))
            if rows is not None and TRACKS in self._files:
                self._keep(frame, rows)
        except OSError as error:
            raise self._cannot(error) from error

    def _keep(self, frame: int, rows: LiveRows) -> None:
        """The objects of a picture, and of new ones where they were before; they are on disk when the file is next
        written through, as it fills or ends."""
        for row in self._object_rows.step(frame, rows):
            left, top, right, bottom = (round(v, 2) for v in row.box)
            self._row(TRACKS, [
                row.frame + 1, row.identity, left, top, round(right - left, 2), round(bottom - top, 2), int(row.seen),
                -1, -1, -1,
            ])  # fmt: skip

    def _told(self, events: LiveEvents) -> list[dict[str, Any]]:
        """The same as events for others, in order of time."""
        lines, zones = self._recipe.count.line, self._recipe.count.zone
        told: list[dict[str, Any]] = [
            {"kind": "crossing", "line": lines[one.line].name, "identity": one.identity, "class": DEFAULT_CLASS,
             "direction": one.direction, "way": lines[one.line].way(one.direction), "time": round(one.time, 4),
             "at": self._at(one.time), "x": round(one.x, 2), "y": round(one.y, 2)}
            for one in events.crossings
        ]  # fmt: skip
        told += [
            {"kind": "stay", "zone": zones[zone].name, "identity": who, "enter": round(enter, 4),
             "leave": round(leave, 4), "time": round(leave, 4), "at": self._at(leave)}
            for zone, who, enter, leave in events.stays
        ]  # fmt: skip
        told += [
            {"kind": "alarm", "what": one.kind, "place": one.place, "identity": one.identity,
             "time": round(one.time, 4), "at": self._at(one.time), "value": one.value, "limit": one.limit}
            for one in events.alarms
        ]  # fmt: skip
        return sorted(told, key=lambda event: event["time"])

    def tell_totals(self, time: float) -> None:
        """An event of the totals so far, at ``time`` s.

        Raises
        ------
        DroverError
        """
        lines = {name: {"forward": t[0], "back": t[1]} for name, t in self._totals.items()}
        try:
            self._outbox.add([{"kind": "totals", "time": round(time, 4), "at": self._at(time), "lines": lines}])
        except OSError as error:
            raise self._cannot(error) from error

    def sum_up(self, facts: dict[str, Any]) -> None:
        """Write ``counts.csv`` and ``live.json``, each whole.

        Raises
        ------
        DroverError
        """
        rows: list[dict[str, str | int]] = [
            {"line": name, "class": DEFAULT_CLASS, "forward": t[0], "back": t[1], "net": t[0] - t[1],
             "passages": t[0] + t[1], "identities_forward": t[2], "identities_back": t[3]}
            for name, t in self._totals.items()
        ]  # fmt: skip
        counts, live = self._folder / ".counts.draft", self._folder / ".live.draft"
        try:
            write_counts(counts, rows)
            counts.replace(self._folder / "counts.csv")
            live.write_text(json.dumps({"started": self.started.isoformat(), **facts}, indent=2) + "\n", "utf-8")
            live.replace(self._folder / "live.json")
        except OSError as error:
            raise self._cannot(error) from error

    def totals(self) -> dict[str, tuple[int, int]]:
        """Passages forward and back of each line so far."""
        return {name: (t[0], t[1]) for name, t in self._totals.items()}

    def close(self) -> None:
        """Let go of the files."""
        for file in (*self._files.values(), self._outbox):
            with suppress(OSError):
                file.close()

    def _opened(self, name: str, columns: tuple[str, ...]) -> IO[str]:
        file = (self._folder / name).open("x", encoding="utf-8", newline="")
        csv.writer(file, lineterminator="\n").writerow(columns)
        file.flush()
        return file

    def _row(self, name: str, values: list[Any]) -> None:
        csv.writer(self._files[name], lineterminator="\n").writerow(values)

    def _count(self, name: str, who: int, way: int) -> None:
        self.crossings += 1
        back = way < 0
        totals, key = self._totals[name], (name, who, way)
        totals[back] += 1
        if key not in self._known:
            totals[2 + back] += 1
            self._known[key] = None
        self._known.move_to_end(key)
        while len(self._known) > MOST_REMEMBERED:
            self._known.popitem(last=False)

    def _at(self, seconds: float) -> str:
        """A moment of the stream by the clock on the wall, UTC."""
        return (self.started + timedelta(seconds=seconds)).astimezone(UTC).isoformat(timespec="milliseconds")

    def _cannot(self, error: OSError) -> DroverError:
        return DroverError(f"{self._folder}: cannot be written ({error.strerror}); free some space")
