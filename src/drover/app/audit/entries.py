"""The cards of an audit: crossings counted and crossings added, in order of time, filtered."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from drover.app.session import Session
from drover.core.count.audit import crossing_trust, verdicts_of
from drover.core.doubt.moments import Moment

__all__ = ["TRUSTS", "Choice", "Entry", "make_entries"]

# What a card may be chosen by: the most trust it may have, by what that is called.
TRUSTS = {"any trust": 1.01, "under 80 %": 0.8, "under 50 %": 0.5}


@dataclass(frozen=True)
class Entry:
    """One card: the ``row``-th crossing counted, or the ``added``-th one added (the other is -1)."""

    row: int
    added: int
    line: str
    way: str
    direction: int
    class_name: str
    identity: int
    frame: int
    time: float
    trust: float
    seen: bool
    said: str
    x: float
    y: float

    @property
    def open(self) -> bool:
        """Whether nobody has said anything of it."""
        return self.said == ""


@dataclass(frozen=True)
class Choice:
    """Which cards are shown: by line, direction (0 both), class ("" all), most trust, and open ones alone."""

    line: str = ""
    direction: int = 0
    class_name: str = ""
    trust: float = 1.01
    open_only: bool = False

    def takes(self, entry: Entry) -> bool:
        """Whether a card is shown."""
        return (
            self.line in ("", entry.line)
            and self.direction in (0, entry.direction)
            and self.class_name in ("", entry.class_name)
            and entry.trust < self.trust
            and (entry.open or not self.open_only)
        )


def make_entries(session: Session, moments: Sequence[Moment]) -> list[Entry]:
    """All cards of the session's result, in order of time."""
    crossings, clip = session.crossings, session.clip
    if crossings is None or clip is None:
        return []
    said = verdicts_of(session.audit, crossings)
    trust = _trust(session, moments)
    lines = {line.name: line for line in session.recipe.count.line}
    out = []
    for row in range(len(crossings)):
        name, way = crossings.line_names[crossings.line[row]], int(crossings.direction[row])
        out.append(
            Entry(
                row, -1, name, lines[name].way(way) if name in lines else "", way,
                crossings.class_names[crossings.class_id[row]], int(crossings.identity[row]),
                int(crossings.frame[row]), float(crossings.time[row]), float(trust[row]), bool(crossings.seen[row]),
                said[row] or "", float(crossings.x[row]), float(crossings.y[row]),
            )
        )  # fmt: skip
    for place, one in enumerate(session.audit.missed):
        line = lines.get(one.line)
        points = np.array(line.points if line else [(0.5, 0.5)]) * (clip.width, clip.height)
        x, y = points.mean(axis=0)
        way = line.way(one.direction) if line else ""
        out.append(
            Entry(
                -1, place, one.line, way, one.direction, one.class_name, 0, one.frame, one.time, 1.0, True, "added",
                float(x), float(y),
            )
        )  # fmt: skip
    return sorted(out, key=lambda entry: (entry.time, entry.line, entry.identity))


def _trust(session: Session, moments: Sequence[Moment]) -> np.ndarray:
    crossings, clip = session.crossings, session.clip
    assert crossings is not None and clip is not None
    first = np.array([clip.times[m.first] for m in moments], np.float64)
    last = np.array([clip.times[m.last] for m in moments], np.float64)
    doubt = np.array([m.doubt for m in moments], np.float64)
    return crossing_trust(crossings, first, last, doubt, [m.identities for m in moments])
