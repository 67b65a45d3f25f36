"""Nothing a user made is ever lost: what the file holds while the window is used, abused and closed."""

from __future__ import annotations

import gc
import shutil
import threading
import time
import weakref

import pytest

from drover.app.saving import unnamed_work
from drover.app.session import STAGES, Session
from drover.app.window import MainWindow
from drover.core.errors import ProjectError
from drover.core.examples import example
from drover.core.project.file import ProjectFile, read_project
from drover.core.project.lock import ProjectLock
from drover.core.recipe import with_value
from drover.core.result_store import ResultStore
from windows import WAIT, up_to_date

SHORT = example("gap-short")
pytestmark = pytest.mark.own_window


def settled(window, qtbot) -> None:
    qtbot.waitUntil(lambda: up_to_date(window) and not window.saving.busy, timeout=WAIT)


def named(window, qtbot, path):
    window.save_as(path)
    qtbot.waitUntil(lambda: window.saving.path == path, timeout=WAIT)
    settled(window, qtbot)
    return path


def held(path):
    return read_project(path)[0]


@pytest.fixture
def another(qtbot, filled_store):
    """A second window of the same user."""
    made = MainWindow(Session(filled_store))
    qtbot.addWidget(made)
    yield made
    made.close()


def test_opening_anything_leaves_the_old_project_as_it_was(opened, qtbot, tmp_path):
    path = named(opened, qtbot, tmp_path / "mine.drover")
    had = held(path)
    other = tmp_path / "other.mp4"
    shutil.copy(SHORT.clip, other)
    opened.open_path(other)
    qtbot.waitUntil(lambda: opened.session.clip.path == str(other), timeout=WAIT)
    opened.session.edit(with_value(opened.session.recipe, "track.match.gate", 3.0), "gate")
    settled(opened, qtbot)
    again = held(path)
    assert again.clip.path == str(SHORT.clip)
    assert again.text == had.text and again.latest.keys == had.latest.keys
    assert opened.saving.path is None and held(opened.saving.place).clip.path == str(other)


def test_opening_a_project_does_not_write_to_it(opened, another, qtbot, tmp_path):
    path = named(opened, qtbot, tmp_path / "mine.drover")
    opened.close()
    before, when = path.read_bytes(), path.stat().st_mtime_ns
    another.open_path(path)
    qtbot.waitUntil(lambda: another.session.clip is not None, timeout=WAIT)
    settled(another, qtbot)
    qtbot.wait(1200)
    assert (path.stat().st_mtime_ns, path.read_bytes()) == (when, before)


def test_a_kept_run_stays_in_the_file_until_a_finished_one_replaces_it(opened, qtbot, tmp_path):
    path = named(opened, qtbot, tmp_path / "mine.drover")
    had = held(path).latest.keys
    opened.session.edit(with_value(opened.session.recipe, "detect.background.threshold", 40.0), "threshold")
    opened.session.cancel_work()
    qtbot.waitUntil(lambda: not opened.saving.busy, timeout=WAIT)
    now = held(path)
    assert now.recipe.detect.background.threshold == 40.0
    assert now.latest is not None and now.latest.keys == had
    opened.session.resume_work()
    settled(opened, qtbot)
    qtbot.waitUntil(lambda: held(path).latest.keys != had, timeout=WAIT)


def test_what_cannot_be_saved_is_said_until_it_could(opened, qtbot, tmp_path, monkeypatch):
    path = named(opened, qtbot, tmp_path / "mine.drover")
    whole = ProjectFile.save

    def full(*_args, **_more):
        raise ProjectError("the disk is full")

    monkeypatch.setattr(ProjectFile, "save", full)
    opened.session.edit(with_value(opened.session.recipe, "track.match.gate", 3.0), "gate")
    qtbot.waitUntil(lambda: opened.status.state.text().startswith("NOT SAVED"), timeout=WAIT)
    assert "the disk is full" in opened.banner.label.text()
    monkeypatch.setattr(opened.asking, "may_close_unsaved", lambda fault: False)
    opened.close()
    assert opened.isVisible(), "it does not close without asking"
    opened.open_path(SHORT.clip)
    opened.open_demo()
    qtbot.wait(300)
    assert opened.session.recipe.track.match.gate == 3.0, "nor is it left for something else"
    monkeypatch.setattr(ProjectFile, "save", whole)
    settled(opened, qtbot)
    qtbot.waitUntil(lambda: opened.status.state.text() == "everything up to date, saved", timeout=WAIT)
    assert held(path).recipe.track.match.gate == 3.0


def test_edits_are_on_disk_within_a_second_while_the_clip_plays_and_dials_move(opened, qtbot, tmp_path):
    path = named(opened, qtbot, tmp_path / "mine.drover")
    opened.playback.toggle()
    made, worst = [], 0.0
    end = time.monotonic() + 4.0
    while time.monotonic() < end or len(made) <= 10:  # a slow machine makes fewer edits in that time
        gap = round(1.0 + len(made) / 100, 2)
        opened.session.edit(with_value(opened.session.recipe, "track.life.longest_gap", gap), "gap")
        made.append((time.monotonic(), gap))
        qtbot.wait(60)
        there = held(path).recipe.track.life.longest_gap
        missing = [when for when, value in made if value > there + 1e-9]
        worst = max(worst, time.monotonic() - missing[0] if missing else 0.0)
    opened.playback.pause()
    assert worst < 2.0, "a second, and a second more for a slow machine"


def test_a_played_frame_is_no_reason_to_save(opened, qtbot):
    settled(opened, qtbot)
    when = opened.saving.place.stat().st_mtime_ns
    opened.playback.go(77)
    qtbot.wait(900)
    assert opened.saving.place.stat().st_mtime_ns == when


def test_two_windows_have_files_of_their_own_and_a_project_is_open_once(opened, another, qtbot, tmp_path):
    another.session.open_clip(SHORT.clip, recipe=SHORT.recipe)
    qtbot.waitUntil(lambda: another.session.clip is not None, timeout=WAIT)
    assert another.saving.place != opened.saving.place
    path = named(opened, qtbot, tmp_path / "mine.drover")
    another.open_path(path)
    qtbot.waitUntil(lambda: another.banner.label.text() != "", timeout=WAIT)
    assert "open in another Drover window" in another.banner.label.text()
    assert another.saving.path is None


def test_work_without_a_name_is_offered_at_the_next_start(opened, qtbot):
    opened.session.edit(with_value(opened.session.recipe, "track.match.gate", 3.5), "gate")
    settled(opened, qtbot)
    place = opened.saving.place
    assert place not in unnamed_work()
    opened.close()
    assert unnamed_work() == [place]
    later = MainWindow(Session(opened.session.store))
    qtbot.addWidget(later)
    later.welcome.unnamed[0].click()
    qtbot.waitUntil(lambda: later.session.clip is not None, timeout=WAIT)
    assert later.session.recipe.track.match.gate == 3.5
    assert later.saving.path is None and later.saving.place == place
    later.close()


@pytest.fixture
def slow_save_as(monkeypatch):
    """Saving under a name takes until it is let go."""
    go, whole = threading.Event(), ProjectFile.save_as

    def slowly(self, *args):
        assert go.wait(WAIT / 1000)
        return whole(self, *args)

    monkeypatch.setattr(ProjectFile, "save_as", slowly)
    yield go
    go.set()


def test_a_clip_opened_while_saving_under_a_name_does_not_get_that_name(opened, qtbot, tmp_path, slow_save_as):
    path, other = tmp_path / "mine.drover", tmp_path / "other.mp4"
    shutil.copy(SHORT.clip, other)
    opened.save_as(path)
    opened.open_path(other)
    qtbot.waitUntil(lambda: opened.session.clip.path == str(other), timeout=WAIT)
    slow_save_as.set()
    settled(opened, qtbot)
    opened.session.edit(with_value(opened.session.recipe, "track.match.gate", 3.0), "gate")
    settled(opened, qtbot)
    assert held(path).clip.path == str(SHORT.clip)
    assert opened.saving.path is None and held(opened.saving.place).clip.path == str(other)
    ProjectLock(path).release()  # nobody holds it any more


def test_what_is_edited_while_saving_under_a_name_is_in_the_new_file(opened, qtbot, tmp_path, slow_save_as):
    path, before = tmp_path / "mine.drover", opened.saving.place
    opened.save_as(path)
    opened.session.edit(with_value(opened.session.recipe, "track.match.gate", 3.25), "gate")
    qtbot.wait(100)
    threading.Timer(0.3, slow_save_as.set).start()
    opened.close()  # before the window has heard that the new file is there
    assert held(path).recipe.track.match.gate == 3.25
    assert not before.exists() and unnamed_work() == []
    ProjectLock(path).release()


def test_a_name_without_its_ending_replaces_nothing_unasked(opened, qtbot, tmp_path, monkeypatch):
    taken = tmp_path / "taken.drover"
    taken.write_bytes(b"somebody's")
    asked = []
    monkeypatch.setattr(opened.asking, "may_replace", lambda path: asked.append(path))
    opened.save_as(tmp_path / "taken")
    assert asked == [taken] and taken.read_bytes() == b"somebody's"


def test_results_of_a_replaced_clip_are_neither_kept_nor_stored(qtbot, tmp_path, filled_store):
    clip, store = tmp_path / "clip.mp4", ResultStore(shutil.copytree(filled_store.folder, tmp_path / "store"))
    shutil.copy(SHORT.clip, clip)
    window = MainWindow(Session(store))
    qtbot.addWidget(window)
    window.session.open_clip(clip, recipe=SHORT.recipe)
    qtbot.waitUntil(lambda: window.session.clip is not None and up_to_date(window), timeout=WAIT)
    path = named(window, qtbot, tmp_path / "mine.drover")
    had, known = held(path).latest.keys, sorted(p.name for p in store.folder.iterdir())
    clip.write_bytes(clip.read_bytes() + b"more")
    window.session.edit(with_value(window.session.recipe, "detect.background.threshold", 44.0), "threshold")
    qtbot.waitUntil(lambda: "was replaced or changed" in window.banner.label.text(), timeout=WAIT)
    qtbot.waitUntil(lambda: not window.saving.busy, timeout=WAIT)
    assert held(path).latest.keys == had
    assert sorted(p.name for p in store.folder.iterdir()) == known
    window.close()


def test_bringing_in_holding_and_spans_are_undone_like_all_else(opened, qtbot):
    session = opened.session
    session.hold()
    assert session.other is not None and opened.pair.split
    session.set_span((20, 80))
    assert session.span == (20, 80)
    session.undo.undo()
    assert session.span is None
    session.undo.undo()
    assert session.other is None
    session.undo.redo()
    assert session.other is not None
    settled(opened, qtbot)
    assert [run.name for run in held(opened.saving.place).runs] == ["held"]
    assert held(opened.saving.place).held == "held"


def test_closed_windows_are_freed(qtbot, filled_store):
    """Nothing holds a window or a session once it is closed."""
    gone = []
    for _ in range(4):
        window = MainWindow(Session(filled_store))
        window.session.open_clip(SHORT.clip, recipe=SHORT.recipe)
        qtbot.waitUntil(lambda window=window: window.session.clip is not None and up_to_date(window), timeout=WAIT)
        assert all(window.session.state_of(stage) for stage in STAGES)
        gone += [weakref.ref(window), weakref.ref(window.session), weakref.ref(window.session.engine)]
        window.close()
        window.deleteLater()
        del window
        qtbot.wait(50)
        gc.collect()
    assert [ref() for ref in gone].count(None) == len(gone)
