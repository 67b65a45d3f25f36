"""The audit of a project read from its tables; nothing in a file is trusted."""

from __future__ import annotations

import sqlite3
from typing import Any

from drover.core.count.audit import Audit, HandTotal, Missed, SignOff, Verdict
from drover.core.names import plain_name
from drover.core.project.columns import LATEST, MOST_IDENTITY, has_table, numbers, rows_of, whole

__all__ = ["read_audit"]


def read_audit(db: sqlite3.Connection) -> Audit:
    """The audit; an empty one from a file that has none."""
    if not all(has_table(db, name) for name in ("verdict", "missed", "hand_total", "sign_off")):
        return Audit()
    verdicts = zip(*rows_of(db, "verdict", "line, direction, time, identity, said"), strict=True)
    missed = zip(*rows_of(db, "missed", "line, direction, time, frame, class"), strict=True)
    hand = zip(*rows_of(db, "hand_total", "line, direction, total"), strict=True)
    columns = "line, at, rule, counted_forward, counted_back, forward, back"
    signed = zip(*rows_of(db, "sign_off", columns), strict=True)
    return Audit(
        verdicts=tuple(
            Verdict(plain_name(line), _way(way), _time(time), _total(who), _said(said))
            for line, way, time, who, said in verdicts
        ),
        missed=tuple(
            Missed(plain_name(line), _way(way), _time(time), max(0, _total(frame) - 1), plain_name(kind))
            for line, way, time, frame, kind in missed
        ),
        hand=tuple(HandTotal(plain_name(line), _way(way), _total(total)) for line, way, total in hand),
        signed=tuple(
            SignOff(plain_name(line), plain_name(at), str(rule)[:2000], *map(_total, totals))
            for line, at, rule, *totals in signed
        ),
    )


def _way(value: Any) -> int:
    if value not in (1, -1):
        raise ValueError("a direction that is neither 1 nor -1")
    return int(value)


def _time(value: Any) -> float:
    return float(numbers((value,), "a time", 0.0, LATEST)[0])


def _total(value: Any) -> int:
    return int(whole((value,), "a total", 0, MOST_IDENTITY)[0])


def _said(value: Any) -> Any:
    if value not in ("confirmed", "rejected"):
        raise ValueError("a verdict that is neither confirmed nor rejected")
    return value
