"""What Count made and what the audit said of it, in the tables of a project file."""

from __future__ import annotations

import json
import math
import sqlite3
from dataclasses import astuple
from typing import Any

from drover.core.count.audit import Audit, HandTotal, Missed, SignOff, Verdict
from drover.core.count.intervals import interval_rows
from drover.core.count.rows import alarm_rows, usual_interval, visit_rows
from drover.core.pipeline import Counted
from drover.core.project.tables import fill
from drover.core.recipe import CountSettings

__all__ = ["read_audit", "write_audit", "write_counted", "write_zones"]

AUDIT_TABLES = {"verdict": Verdict, "missed": Missed, "hand_total": HandTotal, "sign_off": SignOff}


def write_zones(db: sqlite3.Connection, settings: CountSettings) -> None:
    """The zones of the recipe."""
    rows = [(zone.name, n, json.dumps(zone.points), zone.inside_by) for n, zone in enumerate(settings.zone, 1)]
    fill(db, "zone", rows)


def write_counted(db: sqlite3.Connection, counted: Counted | None, duration: float) -> None:
    """Stays in zones, counts by interval, alarms."""
    visits, intervals, alarms = [], [], []
    if counted is not None:
        visits, alarms = visit_rows(counted.visits), alarm_rows(counted.alarms)
        intervals = interval_rows(counted.crossings, usual_interval(duration), duration)
    for table, rows in (("visit", visits), ("interval", intervals), ("alarm", alarms)):
        fill(db, table, (tuple(row.values()) for row in rows))


def write_audit(db: sqlite3.Connection, audit: Audit) -> None:
    """Verdicts, additions, hand totals and sign-offs."""
    fill(db, "verdict", map(astuple, audit.verdicts))
    fill(db, "missed", ((m.line, m.direction, m.time, m.frame + 1, m.class_name) for m in audit.missed))
    fill(db, "hand_total", map(astuple, audit.hand))
    fill(db, "sign_off", map(astuple, audit.signed))


def read_audit(db: sqlite3.Connection) -> Audit:
    """The audit; an empty one from a file that has none.

    Raises
    ------
    ValueError
        When a row makes no sense.
    """
    known = {row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
    if not set(AUDIT_TABLES) <= known:
        return Audit()
    return Audit(
        verdicts=tuple(
            Verdict(str(line), _way(way), _time(time), int(who), _said(said))
            for line, way, time, who, said in db.execute("SELECT line, direction, time, identity, said FROM verdict")
        ),
        missed=tuple(
            Missed(str(line), _way(way), _time(time), max(0, int(frame) - 1), str(kind))
            for line, way, time, frame, kind in db.execute("SELECT line, direction, time, frame, class FROM missed")
        ),
        hand=tuple(
            HandTotal(str(line), _way(way), max(0, int(total)))
            for line, way, total in db.execute("SELECT line, direction, total FROM hand_total")
        ),
        signed=tuple(
            SignOff(str(line), str(at), str(rule), *map(int, totals))
            for line, at, rule, *totals in db.execute(
                "SELECT line, at, rule, counted_forward, counted_back, forward, back FROM sign_off"
            )
        ),
    )


def _way(value: Any) -> int:
    if int(value) not in (1, -1):
        raise ValueError("a direction that is neither 1 nor -1")
    return int(value)


def _time(value: Any) -> float:
    if not math.isfinite(float(value)):
        raise ValueError("a time that is not finite")
    return float(value)


def _said(value: Any) -> Any:
    if value not in ("confirmed", "rejected"):
        raise ValueError("a verdict that is neither confirmed nor rejected")
    return value
