"""What Count made and what the audit said of it, written to the tables of a project file."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import astuple

from drover.core.count.audit import Audit
from drover.core.count.intervals import interval_rows
from drover.core.count.rows import alarm_rows, usual_interval, visit_rows
from drover.core.count.whole_clip import Counted
from drover.core.project.tables import fill
from drover.core.recipe import CountSettings

__all__ = ["write_audit", "write_counted", "write_zones"]


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
