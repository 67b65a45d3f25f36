"""The audit: what a person said of each crossing, what they added, their own totals, and who signed off what.

An audit is a value: every change gives a new one, so that each can be undone. Verdicts are kept by line, direction
and time, not by row: they stay with their crossing when the clip is linked again and identities change.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from drover.core.recipe import LineSettings
from drover.core.types import DEFAULT_CLASS, Crossings

__all__ = [
    "Audit", "AuditTotals", "HandTotal", "Missed", "SignOff", "Verdict", "audit_totals", "crossing_trust", "rule_words",
    "verdicts_of", "with_added", "with_hand_total", "with_line_renamed", "with_sign_off", "with_verdict",
    "without_added",
]  # fmt: skip

SAME = 0.3  # s within which a verdict belongs to a crossing
NEAR = 1.0  # s within which a moment casts doubt on a crossing of the same identity
UNSEEN_TRUST = 0.6  # of a crossing that nobody saw, at most

Said = Literal["confirmed", "rejected"]


@dataclass(frozen=True)
class Verdict:
    """What was said of one crossing; ``time`` s."""

    line: str
    direction: int
    time: float
    identity: int
    said: Said


@dataclass(frozen=True)
class Missed:
    """A crossing that a person added; ``time`` s, ``frame`` from 0."""

    line: str
    direction: int
    time: float
    frame: int
    class_name: str = DEFAULT_CLASS


@dataclass(frozen=True)
class HandTotal:
    """A total counted by hand."""

    line: str
    direction: int
    total: int


@dataclass(frozen=True)
class SignOff:
    """A line's totals as signed: when (ISO 8601), by which rule, counted and corrected each way."""

    line: str
    at: str
    rule: str
    counted_forward: int
    counted_back: int
    forward: int
    back: int


@dataclass(frozen=True)
class Audit:
    """Everything said of a result."""

    verdicts: tuple[Verdict, ...] = ()
    missed: tuple[Missed, ...] = ()
    hand: tuple[HandTotal, ...] = ()
    signed: tuple[SignOff, ...] = ()

    def signed_off(self, line: str) -> SignOff | None:
        """The last sign-off of a line."""
        return next((one for one in reversed(self.signed) if one.line == line), None)

    def hand_total(self, line: str, direction: int) -> int | None:
        """What was counted by hand."""
        return next((one.total for one in self.hand if (one.line, one.direction) == (line, direction)), None)


@dataclass(frozen=True)
class AuditTotals:
    """One line and direction: counted, confirmed and rejected among those, added, and the corrected total."""

    counted: int
    confirmed: int
    rejected: int
    added: int

    @property
    def corrected(self) -> int:
        """What stands after the audit."""
        return self.counted - self.rejected + self.added

    @property
    def open(self) -> int:
        """Crossings nobody has looked at."""
        return self.counted - self.confirmed - self.rejected


def verdicts_of(audit: Audit, crossings: Crossings) -> list[Said | None]:
    """What was said of each crossing, each verdict going to the one crossing nearest to it."""
    out: list[Said | None] = [None] * len(crossings)
    for verdict in audit.verdicts:
        row = _row_of(verdict, crossings, out)
        if row is not None:
            out[row] = verdict.said
    return out


def _row_of(verdict: Verdict, crossings: Crossings, taken: list[Said | None]) -> int | None:
    if verdict.line not in crossings.line_names:
        return None
    line = crossings.line_names.index(verdict.line)
    # Crossings are in order of time, so only the few near the verdict are looked at.
    first, past = np.searchsorted(crossings.time, [verdict.time - SAME, verdict.time + SAME], side="left").tolist()
    rows = [
        row
        for row in range(first, min(past + 1, len(crossings)))
        if taken[row] is None
        and crossings.line[row] == line
        and crossings.direction[row] == verdict.direction
        and abs(crossings.time[row] - verdict.time) <= SAME
    ]
    if not rows:
        return None
    return min(
        rows, key=lambda row: (crossings.identity[row] != verdict.identity, abs(crossings.time[row] - verdict.time))
    )


def with_verdict(audit: Audit, crossings: Crossings, row: int, said: Said | None) -> Audit:
    """The audit with another verdict on a crossing; None takes it back."""
    taken: list[Said | None] = [None] * len(crossings)
    kept = []
    for verdict in audit.verdicts:
        mine = _row_of(verdict, crossings, taken)
        if mine is not None:
            taken[mine] = verdict.said
        if mine != row:
            kept.append(verdict)
    if said is not None:
        name = crossings.line_names[int(crossings.line[row])]
        kept.append(
            Verdict(name, int(crossings.direction[row]), float(crossings.time[row]), int(crossings.identity[row]), said)
        )
    return replace(audit, verdicts=tuple(kept))


def with_added(audit: Audit, missed: Missed) -> Audit:
    """The audit with one more crossing that was missed."""
    return replace(audit, missed=tuple(sorted((*audit.missed, missed), key=lambda one: one.time)))


def without_added(audit: Audit, place: int) -> Audit:
    """The audit without one of the crossings added."""
    return replace(audit, missed=tuple(one for n, one in enumerate(audit.missed) if n != place))


def with_hand_total(audit: Audit, line: str, direction: int, total: int | None) -> Audit:
    """The audit with a total counted by hand; None forgets it."""
    kept = tuple(one for one in audit.hand if (one.line, one.direction) != (line, direction))
    return replace(audit, hand=kept if total is None else (*kept, HandTotal(line, direction, total)))


def with_line_renamed(audit: Audit, before: str, after: str) -> Audit:
    """The audit with all that was said of a line under its new name."""

    def renamed(rows: tuple) -> tuple:
        return tuple(replace(one, line=after) if one.line == before else one for one in rows)

    return Audit(renamed(audit.verdicts), renamed(audit.missed), renamed(audit.hand), renamed(audit.signed))


def audit_totals(audit: Audit, crossings: Crossings, line: int, direction: int) -> AuditTotals:
    """Counted, confirmed, rejected and added of one line and direction."""
    said = verdicts_of(audit, crossings)
    mine = np.flatnonzero((crossings.line == line) & (crossings.direction == direction)).tolist()
    name = crossings.line_names[line]
    return AuditTotals(
        counted=len(mine),
        confirmed=sum(said[row] == "confirmed" for row in mine),
        rejected=sum(said[row] == "rejected" for row in mine),
        added=sum((one.line, one.direction) == (name, direction) for one in audit.missed),
    )


def with_sign_off(audit: Audit, crossings: Crossings, line: int, rule: str, at: str) -> Audit:
    """The audit with a line's totals signed off at a time (ISO 8601), under a rule in words."""
    forward, back = (audit_totals(audit, crossings, line, way) for way in (1, -1))
    signed = SignOff(
        crossings.line_names[line], at, rule, forward.counted, back.counted, forward.corrected, back.corrected
    )
    return replace(audit, signed=(*audit.signed, signed))


def rule_words(line: LineSettings) -> str:
    """A line's rule in words, for the record."""
    points = ", ".join(f"({x:.4f}, {y:.4f})" for x, y in line.points)
    parts = [
        f"line {points}",
        "any two points of the box" if line.reference == "two" else f"{line.reference} of the box",
        f"dead band {line.dead_band:g} sizes",
        "first crossing of an identity each way" if line.each == "identity" else "every passage",
        "classes " + ", ".join(line.classes) if line.classes else "all classes",
    ]
    if line.least_age:
        parts.append(f"known for {line.least_age:g} s")
    if line.least_travel:
        parts.append(f"come {line.least_travel:g} sizes")
    if line.from_zone:
        parts.append(f"from {line.from_zone}")
    if line.to_zone:
        parts.append(f"to {line.to_zone}")
    return "; ".join(parts)


def crossing_trust(
    crossings: Crossings, first: NDArray[np.float64], last: NDArray[np.float64], doubt: NDArray[np.float64],
    identities: list[tuple[int, ...]],
) -> NDArray[np.float64]:  # fmt: skip
    """How far each crossing can be trusted, (crossings,) 0..1.

    It is what the moments of the same identity within a second leave: one less the largest doubt; less where nobody
    saw the crossing. ``first`` and ``last`` (moments,) s, ``doubt`` (moments,) 0..1.
    """
    trust = np.where(crossings.seen, 1.0, UNSEEN_TRUST)
    concerned: dict[int, list[int]] = {}
    for n, who in enumerate(identities):
        for identity in who:
            concerned.setdefault(identity, []).append(n)
    for row in range(len(crossings)):
        mine = np.array(concerned.get(int(crossings.identity[row]), []), np.int64)
        when = crossings.time[row]
        near = mine[(first[mine] - NEAR <= when) & (when <= last[mine] + NEAR)] if len(mine) else mine
        if len(near):
            trust[row] = min(trust[row], 1.0 - doubt[near].max())
    return trust
