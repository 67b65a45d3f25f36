"""The project file: everything comes back, damage is said, hostile files are refused."""

from __future__ import annotations

import sqlite3
from dataclasses import replace

import numpy as np
import pytest

from drover.core.count.audit import Audit, Missed, with_added, with_hand_total, with_sign_off, with_verdict
from drover.core.errors import ProjectError
from drover.core.examples import example
from drover.core.formats.box_rows import read_truth
from drover.core.pipeline import boxes_key, count_key, detect_key, track_key
from drover.core.project.contents import KeptRun, ProjectContents
from drover.core.project.file import ProjectFile, read_project
from drover.core.recipe import BoxSettings, DetectSettings, dump_recipe
from drover.core.types import Detections, rows_to_frames


@pytest.fixture
def contents(short_run) -> ProjectContents:
    found = detect_key(short_run.clip, short_run.recipe.detect)
    linked = track_key(found, short_run.recipe.track)
    text = dump_recipe(short_run.recipe)
    kept = KeptRun(
        text, found, linked, count_key(linked, short_run.recipe.count),
        short_run.detect.detections, short_run.tracks, short_run.crossings, short_run.detect.histogram, 1.5,
    )  # fmt: skip
    truth = read_truth(example("gap-short").truth, frame_count=short_run.clip.frame_count)
    return ProjectContents(short_run.clip, text, kept, truth, short_run.crossings, {"frame": "77"})


@pytest.fixture
def saved(contents, tmp_path):
    path = tmp_path / "fold.drover"
    ProjectFile(path).save(contents)
    return path


def assert_same(one, other, names):
    for name in names:
        a, b = getattr(one, name), getattr(other, name)
        if isinstance(a, np.ndarray):
            assert a.dtype == b.dtype, name
            assert np.array_equal(a, b, equal_nan=a.dtype.kind == "f"), name
        else:
            assert a == b, name


def test_everything_comes_back_as_it_was(saved, contents):
    again = read_project(saved)
    assert again.recipe_text == contents.recipe_text
    assert again.view == {"frame": "77"}
    assert_same(again.clip, contents.clip, ("path", "width", "height", "rate", "times", "fingerprint"))
    assert again.run is not None
    assert_same(again.run, contents.run, ("detect_key", "track_key", "count_key", "histogram"))
    assert_same(
        again.run.detections, contents.run.detections,
        ("frame_start", "box", "confidence", "class_id", "area", "run_start", "runs", "size", "class_names",
         "look"),
    )  # fmt: skip
    assert_same(
        again.run.tracks, contents.run.tracks,
        ("frame_start", "identity", "box", "state", "detection", "confidence", "class_id", "distance",
         "nearest_refused", "margin", "nis"),
    )  # fmt: skip
    assert_same(
        again.run.crossings,
        contents.run.crossings,
        ("line", "identity", "time", "direction", "x", "y", "seen", "line_names"),
    )
    assert_same(again.truth, contents.truth, ("frame_start", "identity", "box", "consider"))


def test_any_sqlite_tool_can_read_the_results(saved, contents):
    with sqlite3.connect(saved) as db:
        forward = db.execute(
            "SELECT count(DISTINCT identity) FROM crossing WHERE line = 'Gap' AND direction = 1"
        ).fetchone()[0]
        first = db.execute("SELECT min(frame), state FROM track WHERE identity = 1").fetchone()
        line = db.execute("SELECT name, reference FROM line").fetchall()
    db.close()
    assert forward == len(np.unique(contents.run.crossings.identity[contents.run.crossings.direction > 0]))
    assert first[1] == "tentative"
    assert line == [("Gap", "foot")]


def test_only_what_changed_is_written_again(contents, tmp_path):
    path = tmp_path / "fold.drover"
    file = ProjectFile(path)
    file.save(contents)
    with sqlite3.connect(path) as db:
        db.execute("DELETE FROM track WHERE identity > 1")
    db.close()
    fewer = contents.run.crossings.take(np.arange(2))
    file.save(replace(contents, run=replace(contents.run, count_key="moved", crossings=fewer)))
    again = read_project(path)
    assert again.run is not None
    assert len(again.run.crossings) == 2
    assert np.unique(again.run.tracks.identity).tolist() == [1]  # tracks were not written anew


def test_edits_are_kept_with_the_recipe_before_and_after(saved):
    ProjectFile(saved).log_edit("set gate", "gate = 4", "gate = 5")
    with sqlite3.connect(saved) as db:
        assert db.execute("SELECT what, before, after FROM edit").fetchall() == [("set gate", "gate = 4", "gate = 5")]
    db.close()


def test_an_interrupted_save_leaves_the_last_state(saved, contents, monkeypatch):
    from drover.core.project import file as module

    def fail(*_):
        raise sqlite3.OperationalError("disk full")

    monkeypatch.setattr(module, "write_tracks", fail)
    with pytest.raises(ProjectError, match=r"cannot be written .disk full."):
        ProjectFile(saved).save(replace(contents, recipe_text=""))
    assert read_project(saved).recipe_text == contents.recipe_text


def damage(path, how):
    data = bytearray(path.read_bytes())
    if how == "cut":
        del data[len(data) // 2 :]
    elif how == "holes":
        for at in range(4096, len(data) - 4096, 8192):
            data[at : at + 2000] = bytes(2000)
    elif how == "empty":
        data.clear()
    elif how == "text":
        data[:] = b"not a project at all\n" * 40
    path.write_bytes(bytes(data))


@pytest.mark.parametrize("how", ["cut", "holes", "empty", "text"])
def test_a_damaged_project_is_refused_in_one_line(saved, how):
    damage(saved, how)
    with pytest.raises(ProjectError, match=r"damaged|not a Drover project") as caught:
        read_project(saved)
    assert "\n" not in str(caught.value)
    assert str(saved) in str(caught.value)


@pytest.mark.parametrize(
    ("statement", "message"),
    [
        ("UPDATE track SET x1 = 9e999", "make no sense"),
        ("UPDATE track SET frame = frame + 100000", "make no sense"),
        ("UPDATE track SET state = 'flying'", "make no sense"),
        ("UPDATE detection SET runs = x'0102'", "make no sense"),
        ("INSERT INTO verdict VALUES ('Gap', 1, 2.0, 3, 'perhaps')", "make no sense"),
        ("INSERT INTO verdict VALUES ('Gap', 5, 2.0, 3, 'confirmed')", "make no sense"),
        ("INSERT INTO missed VALUES ('Gap', 1, 9e999, 3, 'ewe')", "make no sense"),
        ("INSERT INTO sign_off VALUES ('Gap', 'now', 'rule', 'many', 1, 1, 1)", "make no sense"),
        ("UPDATE detection SET look = x'0102' WHERE row = 0", "make no sense"),
        ("UPDATE frame_time SET time = 3.0", "frame times make no sense"),
        ("DELETE FROM clip", "names no clip"),
        ("UPDATE recipe SET toml = 'gate = 1'", "unknown key 'gate'"),
        ("PRAGMA user_version = 99", "made by a later version"),
        ("DROP TABLE truth", "is damaged"),
        ("CREATE TRIGGER t AFTER INSERT ON edit BEGIN DELETE FROM track; END", "holds code of its own"),
        ("CREATE VIEW v AS SELECT 1", "holds code of its own"),
    ],
)
def test_a_tampered_project_is_refused(saved, statement, message):
    with sqlite3.connect(saved) as db:
        db.execute(statement)
    db.close()
    with pytest.raises(ProjectError, match=message):
        read_project(saved)


def test_a_missing_project_says_so(tmp_path):
    with pytest.raises(ProjectError, match="there is no such project file"):
        read_project(tmp_path / "none.drover")


def test_imported_boxes_come_back_and_keep_their_fingerprint(contents, tmp_path):
    found = contents.run.detections
    kinds = (np.arange(len(found)) % 3).astype(np.int16)
    boxes = Detections.from_boxes(
        rows_to_frames(found.frame_start), found.box, found.confidence, frame_count=found.frame_count,
        size=found.size, class_id=kinds, class_names=("ewe", "dog", "lamb", "never seen"),
    )  # fmt: skip
    path = tmp_path / "with-boxes.drover"
    ProjectFile(path).save(replace(contents, imported=boxes))
    again = read_project(path).imported
    assert again is not None
    assert np.array_equal(again.box, boxes.box)
    assert [again.class_names[k] for k in again.class_id[:6]] == ["ewe", "dog", "lamb"] * 2
    settings = DetectSettings(boxes=BoxSettings(use="imported"))
    assert boxes_key(contents.clip, settings, again) == boxes_key(contents.clip, settings, boxes)


def test_a_project_of_the_first_format_opens_and_is_brought_up_to_date(saved, contents):
    with sqlite3.connect(saved) as db:
        db.execute("DROP TABLE imported")
        for table, column in (("detection", "look"), ("track", "margin"), ("track", "nis")):
            db.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        db.execute("PRAGMA user_version = 1")
    again = read_project(saved)
    assert again.run.tracks.margin is None and len(again.run.detections.look) == 0
    assert again.imported is None and again.run is not None
    ProjectFile(saved).save(contents)
    with sqlite3.connect(saved) as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == 3
        assert db.execute("SELECT count(*) FROM imported").fetchone()[0] == 0


def test_an_audit_comes_back_and_any_tool_can_read_it(contents, tmp_path):
    crossings = contents.run.crossings
    audit = with_verdict(with_verdict(Audit(), crossings, 0, "confirmed"), crossings, 1, "rejected")
    audit = with_hand_total(with_added(audit, Missed("Gap", -1, 2.5, 62, "ewe")), "Gap", 1, 4)
    audit = with_sign_off(audit, crossings, 0, "any rule", "2026-11-23T10:00:00Z")
    path = tmp_path / "audited.drover"
    file = ProjectFile(path)
    file.save(replace(contents, audit=audit))
    assert read_project(path).audit == audit
    with sqlite3.connect(path) as db:
        assert db.execute("SELECT line, direction, frame, class FROM missed").fetchall() == [("Gap", -1, 63, "ewe")]
        assert [said for (said,) in db.execute("SELECT said FROM verdict")] == ["confirmed", "rejected"]
    db.close()
    file.save(contents)
    assert read_project(path).audit == Audit()
