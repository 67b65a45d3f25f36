"""What the parts of the window promise each other: background work, pages, tiles, status, playing, words."""

from __future__ import annotations

import threading
import time
from types import SimpleNamespace

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QDoubleSpinBox, QPushButton

from drover.app.dials.evidence_plot import EvidencePlot
from drover.app.dials.settings import SettingsPage
from drover.app.facts import tile_facts
from drover.app.jobs import LatestJob
from drover.app.playback import SPEEDS
from drover.app.session import STAGES
from drover.app.view_state import ViewState
from drover.app.wording import worded
from drover.core.errors import Cancelled, DroverError
from drover.core.examples import example
from drover.core.recipe import AUTO, is_auto, value_of, with_value
from drover.core.setting_info import setting_info
from windows import WAIT, up_to_date

LEFT = Qt.MouseButton.LeftButton


# --- background work ------------------------------------------------------------------------------------------


@pytest.fixture
def job(qapp):
    made = LatestJob("test")
    made.results, made.faults = [], []
    made.done.connect(made.results.append)
    made.failed.connect(made.faults.append)
    yield made
    made.close()


def test_the_latest_piece_of_work_wins_and_the_one_before_is_told_to_stop(job, qtbot):
    started, told = threading.Event(), []

    def slow(stop):
        started.set()
        end = time.monotonic() + 10
        while not stop() and time.monotonic() < end:
            time.sleep(0.001)
        told.append(stop())
        return "overtaken"

    job.submit(slow)
    assert started.wait(10)
    job.submit(lambda stop: "newest")
    qtbot.waitUntil(lambda: not job.busy, timeout=WAIT)
    assert job.results == ["newest"]
    assert told == [True]
    assert job.faults == []


def test_of_many_requests_in_a_row_the_last_is_done_and_few_others(job, qtbot):
    done = []
    gate = threading.Event()
    job.submit(lambda stop: gate.wait(10))
    for number in range(50):
        job.submit(lambda stop, number=number: done.append(number) or number)
    gate.set()
    qtbot.waitUntil(lambda: not job.busy, timeout=WAIT)
    assert done == [49]
    assert job.results == [49]


@pytest.mark.parametrize(
    ("fault", "words"),
    [(DroverError("frame 3: no such thing"), "frame 3: no such thing"), (ValueError("odd"), "ValueError: odd")],
)
def test_a_fault_is_one_line_and_the_thread_goes_on(job, qtbot, fault, words):
    def fails(stop):
        raise fault

    job.submit(fails)
    qtbot.waitUntil(lambda: not job.busy, timeout=WAIT)
    assert len(job.faults) == 1 and words in job.faults[0] and "\n" not in job.faults[0]
    job.submit(lambda stop: 7)
    qtbot.waitUntil(lambda: job.results == [7], timeout=WAIT)


def test_work_that_was_cancelled_says_nothing(job, qtbot):
    def gives_up(stop):
        raise Cancelled

    job.submit(gives_up)
    job.submit(lambda stop: time.sleep(0.05))
    job.cancel()
    assert not job.busy
    qtbot.wait(120)
    assert job.results == [] and job.faults == []


def test_a_closed_job_ends_its_thread(qapp):
    made = LatestJob("ends")
    thread = made._thread
    made.submit(lambda stop: [time.sleep(0.001) for _ in iter(stop, True)])
    made.close()
    assert not thread.is_alive()


# --- where the user is ----------------------------------------------------------------------------------------


def test_the_view_is_held_inside_the_clip_and_tells_of_changes_only(qapp):
    view, told = ViewState(), []
    view.frame_changed.connect(told.append)
    view.set_frame(5)
    assert told == [], "without a clip there is no frame to go to"
    view.reset(10)
    for wanted, got in ((4, 4), (4, 4), (99, 9), (-3, 0)):
        view.set_frame(wanted)
        assert view.frame == got
    assert told == [4, 9, 0]
    view.select(3)
    view.select(3)
    assert told == [4, 9, 0, 0]
    view.reset(5)
    assert (view.frame, view.selected) == (0, None)


# --- pages ----------------------------------------------------------------------------------------------------


@pytest.mark.own_window
def test_a_page_is_built_when_it_is_first_shown_and_only_once(opened, qtbot):
    built = []
    opened.dials.built.connect(built.append)
    before = set(opened.dials._pages)
    assert "detect" not in before and "score" not in before, "nobody has looked at them"
    for stage in ("detect", "score", "detect", "footage", "score"):
        opened.strip.choose(stage)
    assert built == ["detect", "score", "footage"]
    opened.show_audit()
    assert built[-1] == "audit"
    assert opened.dials.currentWidget().isVisible()


@pytest.mark.own_window
def test_a_page_built_late_shows_the_recipe_as_it_is_by_then(opened, qtbot):
    opened.session.edit(with_value(opened.session.recipe, "detect.cleanup.closing", 7), "set closing")
    opened.strip.choose("detect")
    row = opened.dials.detect.rows["detect.cleanup.closing"]
    assert row.box.value() == 7
    assert opened.dials.score.cells["idf1"].text().endswith("%"), "and the score as it is"


@pytest.mark.parametrize("stage", ["detect", "track", "score"])
def test_every_dial_shows_the_recipe_and_changes_it(opened, stage, monkeypatch):
    """Each number of the page: typed a step away, it is in the recipe, undone it is back in the box."""
    opened.strip.choose(stage)
    page: SettingsPage = getattr(opened.dials, stage)
    session = opened.session
    assert page.rows
    monkeypatch.setattr(
        session.engine, "ask", lambda *_, **__: None
    )  # the figures of all these recipes are not asked for here
    for path, row in page.rows.items():
        before, info = value_of(session.recipe, path), setting_info(path)
        shown = row.box.minimum() if is_auto(before) else float(before)
        assert row.box.value() == pytest.approx(shown, abs=0.5 * 10 ** -row.box.decimals()), path
        wanted = shown + info.step if shown + info.step <= info.high else shown - info.step
        wanted = max(round(wanted, row.box.decimals()), info.low)
        page.set_value(path, wanted)
        assert float(value_of(session.recipe, path)) == pytest.approx(wanted), path
        assert row.box.value() == pytest.approx(wanted, abs=1e-6), path
        session.documents.undo.undo()
        assert value_of(session.recipe, path) == before, path
        assert row.box.value() == pytest.approx(shown, abs=0.5 * 10 ** -row.box.decimals()), path


@pytest.mark.parametrize("stage", ["detect", "track"])
def test_every_choice_offers_the_words_the_recipe_knows(opened, stage, monkeypatch):
    opened.strip.choose(stage)
    page = getattr(opened.dials, stage)
    session = opened.session
    monkeypatch.setattr(session.engine, "ask", lambda *_, **__: None)
    for path, choice in page.choices.items():
        before = value_of(session.recipe, path)
        for place in range(choice.box.count()):
            choice.box.setCurrentIndex(place)
            choice.box.activated.emit(place)
            assert str(value_of(session.recipe, path)) == choice._keys[place], path
        session.edit(with_value(session.recipe, path, before), "back")


def test_a_dial_on_auto_shows_what_was_taken_and_goes_back_to_auto(opened, monkeypatch):
    opened.strip.choose("detect")
    page, session = opened.dials.detect, opened.session
    taken, weak_row = session.detect.taken, page.rows["detect.background.weak_share"]
    assert weak_row.box.text() == f"{taken.background.weak_share:.2f} ×"
    assert weak_row.auto.isChecked()
    assert f"{100 * taken.shadow.darkest:.0f} to" in page.light_words.text()
    monkeypatch.setattr(session.engine, "ask", lambda *_, **__: None)
    page.set_value("detect.background.weak_share", 0.85)
    assert weak_row.box.text().startswith("0.85") and not weak_row.auto.isChecked()
    weak_row.auto.click()
    assert weak_row.auto.isChecked() and session.recipe.detect.background.weak_share == AUTO
    weak_row.auto.click()  # off: it begins at what was taken
    assert session.recipe.detect.background.weak_share == taken.background.weak_share
    weak_row.box.stepDown()
    weak_row.box.setValue(weak_row.box.minimum())  # or all the way down
    assert weak_row.auto.isChecked() and session.recipe.detect.background.weak_share == AUTO
    weak_row.box.stepUp()
    assert session.recipe.detect.background.weak_share == taken.background.weak_share
    opened.strip.choose("footage")
    shown = [sentence.text() for sentence in opened.dials.footage.survey.said if not sentence.isHidden()]
    assert shown == list(session.detect.said) and len(shown) > 4
    card, view = opened.dials.footage.survey, session.detect.view
    assert not card.pictures.isHidden() and not card.restless.pixmap().isNull()
    for plot, curve, factor in ((card.noise, view.noise, 1), (card.light, view.light, 100)):
        drawn = plot.getPlotItem().listDataItems()[0].getData()
        np.testing.assert_allclose(np.column_stack(drawn), curve * [1, factor], rtol=1e-5)
    places = card.sizes.getPlotItem().items[0].getData()
    assert len(places[0]) > 100 and places[1].max() <= session.clip.height


def test_every_button_says_what_it_does_or_is_named(opened):
    for stage in STAGES:
        opened.strip.choose(stage)
        page = getattr(opened.dials, stage)
        for button in page.findChildren(QPushButton):
            assert button.text() or button.toolTip() or button.accessibleName()
        for box in page.findChildren(QDoubleSpinBox):
            assert box.toolTip(), "a number without its help"


# --- plots with a handle --------------------------------------------------------------------------------------


def test_a_handle_tells_while_it_moves_and_once_when_it_is_let_go(qtbot):
    plot = EvidencePlot(setting_info("track.match.gate"), keep_below=True)
    qtbot.addWidget(plot)
    plot.resize(300, 120)
    plot.show()
    moving, done = [], []
    plot.changing.connect(moving.append)
    plot.changed.connect(done.append)
    plot.show_evidence(np.linspace(0, 20, 41), np.ones(40))
    plot.show_value(6.0)
    assert moving == done == [], "shown by the program, not moved by anybody"
    plot.handle.setValue(8.26)
    plot.handle.sigDragged.emit(plot.handle)
    plot.handle.sigPositionChangeFinished.emit(plot.handle)
    assert moving == [8.26]
    assert done == [8.26]


def test_bars_on_the_kept_side_have_the_colour_of_what_is_kept(qtbot):
    plot = EvidencePlot(setting_info("track.match.gate"), keep_below=True)
    qtbot.addWidget(plot)
    plot.show_evidence(np.array([0.0, 5.0, 10.0, 15.0]), np.array([3.0, 2.0, 1.0]))
    plot.show_value(8.0)
    tints = [brush.color().name() for brush in plot._bars.opts["brushes"]]
    assert tints[0] == tints[1] != tints[2]


# --- tiles and status -----------------------------------------------------------------------------------------


def test_tiles_say_the_same_as_the_tables(opened):
    session = opened.session
    for frame in (0, 60, 149, 249):
        session.set_frame(frame)
        boxes = session.detect.detections.rows_of(frame)
        said = tile_facts(session, "detect", None)
        assert said.headline.split()[0] == str(boxes.stop - boxes.start)
        rows = session.tracks.rows_of(frame)
        numbers = [int(word) for word in tile_facts(session, "track", None).headline.split() if word.isdigit()]
        assert sum(numbers) == rows.stop - rows.start
    assert tile_facts(session, "track", None).detail == f"{len(session.tracks.paths.identity)} identities"
    assert f"{100 * session.score.identity.idf1:.1f} %" in tile_facts(session, "score", None).headline


def test_the_status_line_counts_down_what_is_under_way(opened):
    opened.status.progress = SimpleNamespace(done=60, total=240, seconds_left=3.2)
    opened.status.refresh()
    assert opened.status.bar_words.text() == "detecting: frame 60 of 240, 3 s left"
    assert (opened.status.bar.value(), opened.status.bar.maximum()) == (60, 240)
    assert opened.status.button.text() == "Stop"
    opened.status.progress = None
    opened.status.refresh()
    assert not opened.status.bar.isVisible()
    assert "everything up to date" in opened.status.state.text()


@pytest.mark.parametrize(("path", "value"), [("count.line", ()), ("track.match.gate", 2.0)])
def test_a_step_undone_before_its_results_were_there_leaves_those_before(opened, qtbot, path, value):
    session, engine = opened.session, opened.session.engine
    had = session.score, session.tracks
    session.edit(with_value(session.recipe, path, value), "step")
    session.undo.undo()
    qtbot.waitUntil(lambda: not engine.scoring.busy and not engine._link_job.busy, timeout=WAIT)
    qtbot.wait(50)
    assert up_to_date(opened, stages=STAGES)
    assert (session.score, session.tracks) == had


def test_the_innovation_check_goes_by_the_tracks_that_are_shown(opened, qtbot):
    """A link that is known comes back without linking; what was linked then comes back with it."""
    session = opened.session
    had = session.as_linked
    session.edit(with_value(session.recipe, "track.match.gate", 2.0), "gate")
    qtbot.waitUntil(lambda: up_to_date(opened, stages=STAGES), timeout=WAIT)
    other = session.as_linked
    session.undo.undo()
    qtbot.waitUntil(lambda: up_to_date(opened, stages=STAGES), timeout=WAIT)
    assert other is not None and session.as_linked is not other
    assert had is None or len(session.as_linked) == len(had)


def test_a_hint_is_shown_first_and_goes_by_itself(opened, qtbot):
    opened.hint("drag across the way they take")
    qtbot.waitUntil(lambda: opened.status.words.text().startswith("drag across"), timeout=WAIT)
    opened.status._hint_timer.start(1)
    qtbot.waitUntil(lambda: not opened.status.words.text().startswith("drag"), timeout=WAIT)


# --- playing --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("speed", [SPEEDS[0], 1.0, SPEEDS[-1]])
def test_playing_goes_by_the_clips_own_time(opened, speed, monkeypatch):
    """The clock is a stand-in: after each tick of 40 ms the frame is that of the time gone by at this speed."""
    playback, clip = opened.playback, opened.session.clip
    monkeypatch.setattr(playback, "_clock", SimpleNamespace(start=lambda: None, restart=lambda: 40))
    monkeypatch.setattr(type(opened.pictures), "behind", property(lambda self: False))
    playback.go(20)
    playback.speed = speed
    playback.toggle()
    playback._timer.stop()
    monkeypatch.setattr(type(playback), "playing", property(lambda self: True))
    for tick in range(1, 15):
        playback._tick()
        due = clip.frame_at(float(clip.times[20]) + tick * 0.04 * speed)
        assert opened.session.frame == min(due, clip.frame_count - 1)


def test_steps_in_frames_and_seconds_pause_and_stop_at_the_ends(opened):
    playback, session = opened.playback, opened.session
    playback.go(10)
    playback.toggle()
    playback.step(1)
    assert not playback.playing and session.frame == 11
    playback.step_seconds(1.0)
    assert session.frame == 36
    playback.step_seconds(-100.0)
    assert session.frame == 0
    playback.go(10**9)
    assert session.frame == session.clip.frame_count - 1
    playback.toggle()
    assert session.frame == 0, "at the end it plays from the start"
    playback.pause()


# --- keys -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("key", "stage"), list(zip("12345", STAGES, strict=True)))
def test_a_number_with_control_brings_up_its_stage(opened, qtbot, key, stage):
    qtbot.keyClick(opened, getattr(Qt.Key, f"Key_{key}"), Qt.KeyboardModifier.ControlModifier)
    assert opened.dials.currentIndex() == STAGES.index(stage)
    assert [name for name, tile in opened.strip.tiles.items() if tile.chosen] == [stage]


def test_no_key_means_two_things(opened):
    taken: dict[str, str] = {}
    for menu in opened.menuBar().actions():
        for action in menu.menu().actions():
            for shortcut in action.shortcuts():
                key = shortcut.toString()
                assert taken.setdefault(key, action.text()) == action.text(), key
    assert len(taken) > 8


# --- words ----------------------------------------------------------------------------------------------------


def test_what_is_counted_goes_by_the_projects_own_words(opened):
    said = []
    worded(opened.session, said.append, "one {one}, many {many}")
    recipe = with_value(opened.session.recipe, "words.one", "crate")
    opened.session.edit(with_value(recipe, "words.many", "crates"), "name them")
    assert said[-1] == "one crate, many crates"
    count = len(said)
    opened.session.edit(with_value(opened.session.recipe, "track.match.gate", 5.5), "gate")
    assert len(said) == count, "other edits say nothing anew"
    opened.strip.choose("detect")
    assert "crate" in opened.dials.detect.size_card.heading.text()


# --- the newcomer's path --------------------------------------------------------------------------------------


def test_open_a_clip_draw_a_line_read_the_count(window, qtbot):
    """No dial is touched: the clip is dropped, L is pressed, a line is dragged, and the tile says the count."""
    window.open_path(example("gap-short").clip)
    qtbot.waitUntil(lambda: window.session.clip is not None, timeout=WAIT)
    qtbot.waitUntil(lambda: up_to_date(window), timeout=WAIT)
    assert window.strip.tiles["count"].facts.headline == "no line"
    window.field.setFocus()
    qtbot.keyClick(window.field, Qt.Key.Key_L)
    view = window.field.view
    start, end = (
        view.to_widget(x * view.picture_width, y * view.picture_height).toPoint()
        for x, y in ((0.45, 0.95), (0.45, 0.05))
    )
    qtbot.mousePress(window.field, LEFT, pos=start)
    for k in range(1, 6):
        qtbot.mouseMove(window.field, (QPointF(start) + (QPointF(end) - QPointF(start)) * k / 5).toPoint())
    qtbot.mouseRelease(window.field, LEFT, pos=end)
    qtbot.waitUntil(lambda: window.strip.tiles["count"].facts.headline != "no line", timeout=WAIT)
    forward, back = (int(word) for word in window.strip.tiles["count"].facts.headline.split() if word.isdigit())
    assert forward + back > 0
    assert len(window.session.crossings) >= forward + back
