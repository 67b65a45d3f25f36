"""Tables of a project file. docs/project-file.md says the same in prose."""

from __future__ import annotations

__all__ = ["APPLICATION_ID", "SCHEMA", "TABLES", "UPGRADES", "VERSION"]

APPLICATION_ID = 0x44524F56  # "DROV"
VERSION = 5

SCHEMA = """
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE clip (
    id INTEGER PRIMARY KEY, path TEXT NOT NULL, width INTEGER NOT NULL, height INTEGER NOT NULL,
    rate REAL NOT NULL, fingerprint TEXT NOT NULL
);
CREATE TABLE frame_time (frame INTEGER PRIMARY KEY, time REAL NOT NULL);
CREATE TABLE recipe (id INTEGER PRIMARY KEY CHECK (id = 1), toml TEXT NOT NULL);
CREATE TABLE line (name TEXT PRIMARY KEY, position INTEGER NOT NULL, points TEXT NOT NULL, reference TEXT NOT NULL);
CREATE TABLE run (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, saved TEXT NOT NULL, version TEXT NOT NULL, recipe TEXT NOT NULL,
    detect_key TEXT NOT NULL, track_key TEXT NOT NULL, count_key TEXT NOT NULL,
    frames INTEGER NOT NULL, seconds REAL NOT NULL, histogram BLOB NOT NULL, refused BLOB NOT NULL,
    note TEXT NOT NULL DEFAULT '', complete INTEGER NOT NULL DEFAULT 1, found INTEGER
);
CREATE TABLE detection (
    run INTEGER NOT NULL, row INTEGER NOT NULL, frame INTEGER NOT NULL, x1 REAL NOT NULL, y1 REAL NOT NULL,
    x2 REAL NOT NULL, y2 REAL NOT NULL, confidence REAL NOT NULL, class TEXT NOT NULL, area REAL NOT NULL,
    runs BLOB NOT NULL, look BLOB, PRIMARY KEY (run, row)
) WITHOUT ROWID;
CREATE TABLE track (
    run INTEGER NOT NULL, frame INTEGER NOT NULL, identity INTEGER NOT NULL, x1 REAL NOT NULL, y1 REAL NOT NULL,
    x2 REAL NOT NULL, y2 REAL NOT NULL, state TEXT NOT NULL, detection INTEGER, confidence REAL NOT NULL,
    class TEXT NOT NULL, distance REAL, margin REAL, nis REAL, PRIMARY KEY (run, frame, identity)
) WITHOUT ROWID;
CREATE TABLE crossing (
    run INTEGER NOT NULL, line TEXT NOT NULL, identity INTEGER NOT NULL, class TEXT NOT NULL, frame INTEGER NOT NULL,
    time REAL NOT NULL, direction INTEGER NOT NULL, x REAL NOT NULL, y REAL NOT NULL, seen INTEGER NOT NULL
);
CREATE TABLE truth (
    frame INTEGER NOT NULL, identity INTEGER NOT NULL, x1 REAL NOT NULL, y1 REAL NOT NULL, x2 REAL NOT NULL,
    y2 REAL NOT NULL, consider INTEGER NOT NULL, class TEXT NOT NULL, visibility REAL NOT NULL,
    PRIMARY KEY (frame, identity)
) WITHOUT ROWID;
CREATE TABLE true_crossing (
    line TEXT NOT NULL, identity INTEGER NOT NULL, class TEXT NOT NULL, frame INTEGER NOT NULL, time REAL NOT NULL,
    direction INTEGER NOT NULL, x REAL NOT NULL, y REAL NOT NULL, seen INTEGER NOT NULL
);
CREATE TABLE imported (
    frame INTEGER NOT NULL, x1 REAL NOT NULL, y1 REAL NOT NULL, x2 REAL NOT NULL, y2 REAL NOT NULL,
    confidence REAL NOT NULL, class TEXT NOT NULL
);
CREATE TABLE zone (
    name TEXT PRIMARY KEY, position INTEGER NOT NULL, points TEXT NOT NULL, inside_by TEXT NOT NULL
);
CREATE TABLE visit (
    zone TEXT NOT NULL, identity INTEGER NOT NULL, class TEXT NOT NULL, enter REAL NOT NULL, leave REAL NOT NULL,
    dwell REAL NOT NULL, enter_frame INTEGER NOT NULL, leave_frame INTEGER NOT NULL, entered INTEGER NOT NULL,
    left INTEGER NOT NULL
);
CREATE TABLE interval (
    start REAL NOT NULL, end REAL NOT NULL, line TEXT NOT NULL, class TEXT NOT NULL, forward INTEGER NOT NULL,
    back INTEGER NOT NULL, forward_so_far INTEGER NOT NULL, back_so_far INTEGER NOT NULL
);
CREATE TABLE alarm (
    kind TEXT NOT NULL, place TEXT NOT NULL, identity INTEGER NOT NULL, frame INTEGER NOT NULL, time REAL NOT NULL,
    value REAL NOT NULL, "limit" REAL NOT NULL
);
CREATE TABLE verdict (
    line TEXT NOT NULL, direction INTEGER NOT NULL, time REAL NOT NULL, identity INTEGER NOT NULL, said TEXT NOT NULL
);
CREATE TABLE missed (
    line TEXT NOT NULL, direction INTEGER NOT NULL, time REAL NOT NULL, frame INTEGER NOT NULL, class TEXT NOT NULL
);
CREATE TABLE hand_total (line TEXT NOT NULL, direction INTEGER NOT NULL, total INTEGER NOT NULL);
CREATE TABLE sign_off (
    line TEXT NOT NULL, at TEXT NOT NULL, rule TEXT NOT NULL, counted_forward INTEGER NOT NULL,
    counted_back INTEGER NOT NULL, forward INTEGER NOT NULL, back INTEGER NOT NULL
);
CREATE TABLE correction (
    position INTEGER PRIMARY KEY, kind TEXT NOT NULL, time REAL NOT NULL, content TEXT NOT NULL
);
CREATE TABLE edit (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, what TEXT NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL
);
"""

TABLES = (
    "meta", "clip", "frame_time", "recipe", "line", "run", "detection", "track", "crossing", "truth", "true_crossing",
    "imported", "edit", "correction", "zone", "visit", "interval", "alarm", "verdict", "missed", "hand_total",
    "sign_off",
)  # fmt: skip

# What a file of an earlier version lacks, by that version.
UPGRADES = {
    4: """
CREATE TABLE IF NOT EXISTS correction (
    position INTEGER PRIMARY KEY, kind TEXT NOT NULL, time REAL NOT NULL, content TEXT NOT NULL
);
""",
    3: """
ALTER TABLE run ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN complete INTEGER NOT NULL DEFAULT 1;
ALTER TABLE run ADD COLUMN found INTEGER;
UPDATE run SET found = id, name = 'latest';
""",
    1: """
CREATE TABLE IF NOT EXISTS imported (
    frame INTEGER NOT NULL, x1 REAL NOT NULL, y1 REAL NOT NULL, x2 REAL NOT NULL, y2 REAL NOT NULL,
    confidence REAL NOT NULL, class TEXT NOT NULL
);
""",
    2: """
ALTER TABLE detection ADD COLUMN look BLOB;
ALTER TABLE track ADD COLUMN margin REAL;
ALTER TABLE track ADD COLUMN nis REAL;
CREATE TABLE IF NOT EXISTS zone (
    name TEXT PRIMARY KEY, position INTEGER NOT NULL, points TEXT NOT NULL, inside_by TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS visit (
    zone TEXT NOT NULL, identity INTEGER NOT NULL, class TEXT NOT NULL, enter REAL NOT NULL, leave REAL NOT NULL,
    dwell REAL NOT NULL, enter_frame INTEGER NOT NULL, leave_frame INTEGER NOT NULL, entered INTEGER NOT NULL,
    left INTEGER NOT NULL
);
CREATE TABLE IF NOT EXISTS interval (
    start REAL NOT NULL, end REAL NOT NULL, line TEXT NOT NULL, class TEXT NOT NULL, forward INTEGER NOT NULL,
    back INTEGER NOT NULL, forward_so_far INTEGER NOT NULL, back_so_far INTEGER NOT NULL
);
CREATE TABLE IF NOT EXISTS alarm (
    kind TEXT NOT NULL, place TEXT NOT NULL, identity INTEGER NOT NULL, frame INTEGER NOT NULL, time REAL NOT NULL,
    value REAL NOT NULL, "limit" REAL NOT NULL
);
CREATE TABLE IF NOT EXISTS verdict (
    line TEXT NOT NULL, direction INTEGER NOT NULL, time REAL NOT NULL, identity INTEGER NOT NULL, said TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS missed (
    line TEXT NOT NULL, direction INTEGER NOT NULL, time REAL NOT NULL, frame INTEGER NOT NULL, class TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS hand_total (line TEXT NOT NULL, direction INTEGER NOT NULL, total INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS sign_off (
    line TEXT NOT NULL, at TEXT NOT NULL, rule TEXT NOT NULL, counted_forward INTEGER NOT NULL,
    counted_back INTEGER NOT NULL, forward INTEGER NOT NULL, back INTEGER NOT NULL
);
""",
}
