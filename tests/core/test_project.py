"""The project file: everything comes back, damage is said, hostile files are refused."""

from __future__ import annotations

import contextlib
import multiprocessing
import sqlite3
import subprocess
import sys
import time
from dataclasses import replace

import numpy as np
import pytest

import saves_again
from drover.core.count.audit import Audit, Missed, with_added, with_hand_total, with_sign_off, with_verdict
from drover.core.document import Document, KeptRun
from drover.core.edits.making import drop_edit, said_edit
from drover.core.errors import ProjectError
from drover.core.examples import example
from drover.core.formats.box_rows import read_tracks, read_truth
from drover.core.graph import Subject, keys_of
from drover.core.project.file import ProjectFile, read_project
from drover.core.project.lock import ProjectLock
from drover.core.recipe import DetectSettings, Recipe, dump_recipe, parse_recipe, with_value
from drover.core.run_files import run_of_kept, write_run
from drover.core.track_rows import only_frames
from drover.core.types import Detections, rows_to_frames


@pytest.fixture
def contents(short_run) -> Document:
    keys = keys_of(Subject(short_run.clip), short_run.recipe)
    text = dump_recipe(short_run.recipe)
    made = short_run.detect, short_run.tracks, short_run.crossings
    kept = KeptRun(short_run.recipe, keys["detect"], keys["edits"], keys["count"], *made)
    truth = read_truth(example("gap-short").truth, frame_count=short_run.clip.frame_count)
    return Document(short_run.clip, short_run.recipe, text, truth, short_run.crossings, latest=kept)


@pytest.fixture
def saved(contents, tmp_path):
    path = tmp_path / "fold.drover"
    ProjectFile(path).save(contents, {"frame": "77"})
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
    again, view = read_project(saved)
    assert again.recipe_text == contents.recipe_text
    assert view == {"frame": "77"}
    assert_same(again.clip, contents.clip, ("path", "width", "height", "rate", "times", "fingerprint"))
    assert again.latest is not None
    assert_same(again.latest, contents.latest, ("detect_key", "track_key", "count_key", "histogram"))
    assert_same(
        again.latest.detections, contents.latest.detections,
        ("frame_start", "box", "confidence", "class_id", "area", "run_start", "runs", "size", "class_names",
         "look"),
    )  # fmt: skip
    assert_same(
        again.latest.tracks, contents.latest.tracks,
        ("frame_start", "identity", "box", "state", "detection", "confidence", "class_id", "distance",
         "nearest_refused", "margin", "nis"),
    )  # fmt: skip
    assert_same(
        again.latest.crossings,
        contents.latest.crossings,
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
    assert forward == len(np.unique(contents.latest.crossings.identity[contents.latest.crossings.direction > 0]))
    assert first[1] == "tentative"
    assert line == [("Gap", "foot")]


def test_only_what_changed_is_written_again(contents, tmp_path):
    path = tmp_path / "fold.drover"
    file = ProjectFile(path)
    file.save(contents)
    with sqlite3.connect(path) as db:
        db.execute("DELETE FROM track WHERE identity > 1")
    db.close()
    fewer = contents.latest.crossings.take(np.arange(2))
    file.save(replace(contents, latest=replace(contents.latest, count_key="moved", crossings=fewer)))
    again, _ = read_project(path)
    assert len(again.latest.crossings) == 2
    assert np.unique(again.latest.tracks.identity).tolist() == [1]  # tracks were not written anew


def test_opening_and_saving_unchanged_leaves_every_byte(saved):
    document, _ = read_project(saved)
    before, when = saved.read_bytes(), saved.stat().st_mtime_ns
    ProjectFile(saved, document).save(document, {})
    after, _ = read_project(saved)
    assert (saved.stat().st_mtime_ns, saved.read_bytes()) == (when, before) or after.latest.keys == document.latest.keys
    with sqlite3.connect(saved) as db:
        assert db.execute("SELECT count(*) FROM track").fetchone()[0] == len(document.latest.tracks)
    db.close()


def test_edits_are_kept_with_the_recipe_before_and_after(saved, contents):
    document, _ = read_project(saved)
    after = contents.with_recipe(with_value(contents.recipe, "track.match.gate", 5.0))
    ProjectFile(saved, document).save(contents, edits=[("set gate", contents, after)])
    with sqlite3.connect(saved) as db:
        ((what, before, after),) = db.execute("SELECT what, before, after FROM edit").fetchall()
    assert what == "set gate" and parse_recipe(before) == contents.recipe
    assert parse_recipe(after).track.match.gate == 5.0
    db.close()


def test_a_kept_result_stays_until_a_finished_one_replaces_it(saved, contents):
    document, _ = read_project(saved)
    file = ProjectFile(saved, document)
    other = parse_recipe("[detect.background]\nthreshold = 40")
    file.save(replace(document, recipe=other, recipe_text="[detect.background]\nthreshold = 40", latest=None))
    again, _ = read_project(saved)
    assert again.recipe.detect.background.threshold == 40
    assert again.latest.keys == contents.latest.keys
    half = replace(contents.latest, track_key="linked anew", tracks=only_frames(contents.latest.tracks, (0, 100)))
    file.save(replace(again, latest=half))
    third, _ = read_project(saved)
    assert third.latest.track_key == "linked anew" and len(third.latest.tracks) == len(half.tracks)
    assert len(third.latest.detections) == len(contents.latest.detections)


def test_any_number_of_runs_are_kept_by_name(saved, contents):
    document, _ = read_project(saved)
    named = replace(contents.latest, name="wide gate", note="before lunch")
    two = document.with_run(named, held=True).with_run(replace(named, track_key="other"))
    file = ProjectFile(saved, document)
    file.save(two)
    again, _ = read_project(saved)
    assert [run.name for run in again.runs] == ["wide gate", "wide gate 2"]
    assert again.held_run.note == "before lunch"
    with sqlite3.connect(saved) as db:
        sets = db.execute("SELECT count(DISTINCT run) FROM detection").fetchone()[0]
    db.close()
    assert sets == 1  # the same detections stand once
    file.save(again.without_run("wide gate"))
    assert [run.name for run in read_project(saved)[0].runs] == ["wide gate 2"]


def test_what_could_not_be_written_is_written_the_next_time(contents, tmp_path, monkeypatch):
    from drover.core.project import file as module

    path = tmp_path / "fold.drover"
    file = ProjectFile(path)
    file.save(replace(contents, truth=None))
    whole = module.transaction

    @contextlib.contextmanager
    def full(db):
        with whole(db):
            yield
            raise sqlite3.OperationalError("database or disk is full")

    monkeypatch.setattr(module, "transaction", full)
    with pytest.raises(ProjectError, match=r"cannot be written .*full.; free some space"):
        file.save(contents)
    assert read_project(path)[0].truth is None
    monkeypatch.setattr(module, "transaction", whole)
    file.save(contents)
    assert np.array_equal(read_project(path)[0].truth.box, contents.truth.box)


def test_saving_under_a_name_leaves_the_old_file_until_the_new_one_is_whole(saved, contents, tmp_path, monkeypatch):
    from drover.core.project import file as module

    target = tmp_path / "taken.drover"
    target.write_bytes(saved.read_bytes())
    had = target.read_bytes()

    def fail(*_):
        raise sqlite3.OperationalError("disk full")
        yield

    monkeypatch.setattr(module, "track_rows", fail)
    with pytest.raises(ProjectError, match="cannot be written"):
        ProjectFile(saved).save_as(target, contents)
    assert target.read_bytes() == had
    assert sorted(p.name for p in tmp_path.iterdir()) == ["fold.drover", "taken.drover"]


def test_a_project_open_elsewhere_is_refused_and_free_after_any_end(saved):
    lock = ProjectLock(saved)
    with pytest.raises(ProjectError, match="open in another Drover window"):
        ProjectLock(saved)
    lock.release()
    code = "import os, sys, pathlib; from drover.core.project.lock import ProjectLock"
    code += "; held = ProjectLock(pathlib.Path(sys.argv[1])); os._exit(9)"
    assert subprocess.run([sys.executable, "-c", code, str(saved)], check=False).returncode == 9
    ProjectLock(saved).release()


@pytest.mark.parametrize("seed", range(6))
def test_a_program_killed_at_any_moment_leaves_a_project_that_opens(contents, tmp_path, seed):
    """Killed at a random moment while saving over and over: what was said to be saved is there, and no debris."""
    path, saved = tmp_path / "fold.drover", tmp_path / "saved"
    processes = multiprocessing.get_context("forkserver")
    processes.set_forkserver_preload(["saves_again"])
    process = processes.Process(target=saves_again.save_again, args=(contents, path, saved))
    process.start()
    while not saved.exists() and process.is_alive():
        time.sleep(0.002)
    time.sleep(float(np.random.default_rng(seed).uniform(0.02, 0.6)))
    assert process.is_alive(), "it was still saving"
    process.kill()
    process.join()
    told = [int(line) for line in saved.read_text().split()]
    if not path.exists():
        assert not told
        return
    document, view = read_project(path)
    assert int(view["n"]) >= (told[-1] if told else 0)
    assert document.latest is not None and len(document.latest.tracks) == len(contents.latest.tracks)
    ProjectFile(path, document).save(document)
    assert not [p for p in tmp_path.iterdir() if p.name.endswith(("-journal", "-wal", "-shm"))]
    with sqlite3.connect(path) as db:
        assert db.execute("SELECT count(*) FROM run WHERE complete = 0").fetchone()[0] == 0
        assert db.execute("SELECT count(DISTINCT run) FROM track").fetchone()[0] == 1
    db.close()


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
        (
            "UPDATE track SET detection = 5000000 WHERE frame = (SELECT max(frame) FROM track)",
            "detection that is not there",
        ),
        ("UPDATE track SET detection = -7 WHERE frame = (SELECT max(frame) FROM track)", "detection that is not there"),
        ("UPDATE track SET identity = identity + 2147483000", "an identity out of"),
        ("UPDATE track SET frame = 'twelve' WHERE frame = (SELECT max(frame) FROM track)", "not a whole number"),
        (
            "UPDATE track SET frame = '" + "9" * 6000 + "' WHERE frame = (SELECT max(frame) FROM track)",
            "not a whole number",
        ),
        ("UPDATE track SET confidence = 1e300", "a confidence out of"),
        ("UPDATE detection SET runs = x'050009000300' WHERE row = 0", "lies outside the frame, or backwards"),
        ("UPDATE detection SET runs = x'050001000300040001000300' WHERE row = 0", "runs go backwards"),
        ("UPDATE detection SET class = hex(zeroblob(600000)) WHERE row = 0", None),
        ("UPDATE crossing SET time = 1e300", "a time out of"),
        ("UPDATE true_crossing SET frame = 0", "a frame beyond the clip"),
        ("UPDATE truth SET visibility = 7", "a visibility out of"),
        ("INSERT INTO verdict SELECT 'Gap', 1, 1.0, 1, 'confirmed' FROM track, detection LIMIT 40000", "40000 rows"),
        ("PRAGMA user_version = 0", "is damaged .format 0."),
        ("PRAGMA user_version = -5", "is damaged .format -5."),
        ("ALTER TABLE detection ADD COLUMN more TEXT AS (hex(zeroblob(1000))) VIRTUAL", "columns made by code"),
        ("UPDATE recipe SET toml = hex(zeroblob(700000))", "longer than a recipe"),
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
    if message is None:  # far too long a name is cut, not refused
        assert max(map(len, read_project(saved)[0].latest.detections.class_names)) <= 80
        return
    with pytest.raises(ProjectError, match=message) as caught:
        read_project(saved)
    assert len(str(caught.value)) < 500 and "\n" not in str(caught.value)


def test_names_from_a_file_are_freed_of_control_characters(saved):
    with sqlite3.connect(saved) as db:
        db.execute("UPDATE detection SET class = 'ewe' || char(10) || char(27) || '[31m'")
    db.close()
    assert read_project(saved)[0].latest.detections.class_names == ("ewe  [31m",)


def test_a_missing_project_says_so(tmp_path):
    with pytest.raises(ProjectError, match="there is no such project file"):
        read_project(tmp_path / "none.drover")


def test_imported_boxes_come_back_and_keep_their_fingerprint(contents, tmp_path):
    found = contents.latest.detections
    kinds = (np.arange(len(found)) % 3).astype(np.int16)
    boxes = Detections.from_boxes(
        rows_to_frames(found.frame_start), found.box, found.confidence, frame_count=found.frame_count,
        size=found.size, class_id=kinds, class_names=("ewe", "dog", "lamb", "never seen"),
    )  # fmt: skip
    path = tmp_path / "with-boxes.drover"
    ProjectFile(path).save(replace(contents, imported=boxes))
    again = read_project(path)[0].imported
    assert again is not None
    assert np.array_equal(again.box, boxes.box)
    assert [again.class_names[k] for k in again.class_id[:6]] == ["ewe", "dog", "lamb"] * 2
    recipe = Recipe(detect=DetectSettings(sources=("boxes",)))
    keys = [keys_of(Subject(contents.clip, found), recipe)["detect"] for found in (again, boxes)]
    assert keys[0] == keys[1]


def test_a_project_of_the_first_format_opens_and_is_brought_up_to_date(saved, contents):
    with sqlite3.connect(saved) as db:
        db.execute("DROP TABLE imported")
        db.execute("DROP TABLE correction")
        for table, column in (("detection", "look"), ("track", "margin"), ("track", "nis")):
            db.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        for column in ("note", "complete", "found"):
            db.execute(f"ALTER TABLE run DROP COLUMN {column}")
        db.execute("UPDATE run SET name = 'current'")
        db.execute("PRAGMA user_version = 1")
    db.close()
    again, _ = read_project(saved)
    assert again.latest.tracks.margin is None and len(again.latest.detections.look) == 0
    assert again.imported is None
    ProjectFile(saved).save(replace(contents, latest=replace(contents.latest, track_key="newer")))
    assert read_project(saved)[0].latest.track_key == "newer"
    with sqlite3.connect(saved) as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == 5
        assert db.execute("SELECT count(*) FROM imported").fetchone()[0] == 0


def test_an_audit_comes_back_and_any_tool_can_read_it(contents, tmp_path):
    crossings = contents.latest.crossings
    audit = with_verdict(with_verdict(Audit(), crossings, 0, "confirmed"), crossings, 1, "rejected")
    audit = with_hand_total(with_added(audit, Missed("Gap", -1, 2.5, 62, "ewe")), "Gap", 1, 4)
    audit = with_sign_off(audit, crossings, 0, "any rule", "2026-11-23T10:00:00Z")
    path = tmp_path / "audited.drover"
    file = ProjectFile(path)
    file.save(replace(contents, audit=audit))
    assert read_project(path)[0].audit == audit
    edits = (said_edit(contents.latest.tracks, contents.clip.times, 1, 40, "name", "Old one"),)
    file.save(replace(contents, audit=audit, edits=edits))
    assert read_project(path)[0].edits == edits
    with sqlite3.connect(path) as db:
        db.execute('UPDATE correction SET content = \'{"kind": "melt"}\'')
    db.close()
    with pytest.raises(ProjectError, match="is no correction"):
        read_project(path)
    file.save(replace(contents, audit=audit))
    assert read_project(path)[0].edits == ()
    with sqlite3.connect(path) as db:
        assert db.execute("SELECT line, direction, frame, class FROM missed").fetchall() == [("Gap", -1, 63, "ewe")]
        assert [said for (said,) in db.execute("SELECT said FROM verdict")] == ["confirmed", "rejected"]
    db.close()
    file.save(contents)
    assert read_project(path)[0].audit == Audit()


def test_a_kept_run_is_written_with_the_names_that_were_given(contents, short_run, tmp_path):
    """Its tracks have all other corrections in them: none of these is made a second time."""
    latest, times, tracks = contents.latest, short_run.clip.times, short_run.tracks
    one, other = tracks.paths.identity[:2].tolist()
    frame = {who: int(tracks.frame[tracks.path_of(who)[3]]) for who in (one, other)}
    edits = (
        said_edit(tracks, times, one, frame[one], "name", "Old one"), drop_edit(tracks, times, other),
        said_edit(tracks, times, other, frame[other], "colour", "#336699"),
    )  # fmt: skip
    written = write_run(run_of_kept(short_run.clip, latest, edits), tmp_path)
    assert tmp_path / "names.csv" in written
    rows = (tmp_path / "names.csv").read_text().splitlines()
    assert rows == ["identity,name,colour", f"{one},Old one,", f"{other},,#336699"]
    assert len(read_tracks(tmp_path / "tracks.csv")) == len(latest.tracks)
    assert tmp_path / "names.csv" not in write_run(run_of_kept(short_run.clip, latest), tmp_path)
    assert not (tmp_path / "names.csv").exists()
