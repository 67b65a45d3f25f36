"""A moving camera and a thing to follow in the window: cards, lines that go with the ground, marks, dialogs."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QImage

sys.path.insert(0, str(Path(__file__).parents[1] / "core"))

from test_follow import BOARD, picture

from drover.app.link_table import LinkTable
from drover.app.pair_dialog import WORDS
from drover.app.session import Session
from drover.app.window import MainWindow
from drover.core.features.models import apply, inverse
from drover.core.features.pair import corners_alone
from drover.core.footage.reader import ClipReader
from drover.core.footage.writer import ClipWriter
from drover.core.names import grouped
from drover.core.project.file import read_project
from drover.core.result_store import ResultStore
from moving import SIZE, moving_clip, swaying
from windows import WAIT, put_away, up_to_date, wheel

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


def drag(qtbot, field, a: QPoint, b: QPoint) -> None:
    qtbot.mousePress(field, LEFT, NONE, a)
    qtbot.mouseMove(field, (a + b) / 2)
    qtbot.mouseMove(field, b)
    qtbot.mouseRelease(field, LEFT, NONE, b)


def a_window(qtbot, store: ResultStore, clip: Path) -> MainWindow:
    made = MainWindow(Session(store))
    made.show()
    qtbot.waitExposed(made)
    made.session.open_clip(clip)
    qtbot.waitUntil(lambda: made.session.clip is not None and up_to_date(made), timeout=WAIT)
    return made


@pytest.fixture(scope="module")
def swaying_window(qapp, tmp_path_factory):
    from pytestqt.qtbot import QtBot

    folder = tmp_path_factory.mktemp("sway")
    moving_clip(folder / "sway.mp4", swaying, frames=90)
    request = type("R", (), {"node": None})()
    made = a_window(QtBot(request), ResultStore(folder / "store"), folder / "sway.mp4")  # type: ignore[arg-type]
    yield made
    put_away(made)


def test_a_line_is_drawn_on_the_ground_and_goes_with_it(swaying_window, qtbot, tmp_path):
    window = swaying_window
    session, field = window.session, window.field
    assert session.detect.motion is not None
    window.strip.choose("footage")
    card = window.dials.footage.camera
    assert "sways about one view" in card.said.text() and card.plot.isVisibleTo(card)
    for name, unit in (("speed", "px/s"), ("turn", "degrees"), ("zoom", "times"), ("agreement", "%")):
        card.curve.setCurrentText(name)
        assert unit in card.unit.text() and len(card.plot.listDataItems()) >= 1
    session.set_frame(40)
    qtbot.waitUntil(lambda: field.drawn_frame == 40, timeout=WAIT)
    window.new_line()
    a, b = field.view.to_widget(230, 250).toPoint(), field.view.to_widget(230, 20).toPoint()
    drag(qtbot, field, a, b)
    line = session.recipe.count.line[0]
    assert line.fixed_to == "scene"
    there = apply(session.detect.motion.to_scene[40], np.array([[230.0, 250.0]]))[0]
    assert np.hypot(*(np.array(line.points[0]) * SIZE - there)) < 2.0, "it is kept where the ground is"
    session.set_frame(70)
    qtbot.waitUntil(lambda: field.drawn_frame == 70, timeout=WAIT)
    seen_at = apply(inverse(session.detect.motion.to_scene[70]), np.array([line.points[0]]) * SIZE)[0]
    true = apply(swaying(70 / 25) @ inverse(swaying(40 / 25)), np.array([[230.0, 250.0]]))[0]
    assert np.hypot(*(seen_at - true)) < 2.5 and np.hypot(*(seen_at - (230, 250))) > 2.0
    at = field.view.to_widget(*seen_at).toPoint()
    assert field.editor.line_at(at.toPointF(), field.view) == 0, "the mouse finds it where it is shown"
    drag(qtbot, field, at, at + QPoint(30, 0))
    moved = np.array(session.recipe.count.line[0].points[0]) - line.points[0]
    assert moved[0] * SIZE[0] * field.view.scale == pytest.approx(30, abs=4)
    session.undo.undo()
    window.strip.choose("count")
    qtbot.waitUntil(lambda: session.crossings is not None and up_to_date(window), timeout=WAIT)
    window.save_as(tmp_path / "kept.drover")
    qtbot.waitUntil(lambda: (tmp_path / "kept.drover").exists() and not window.saving.fault, timeout=WAIT)
    window.saving.flush().result(30)
    kept = read_project(tmp_path / "kept.drover")[0].recipe
    assert kept.count.line[0].points == session.recipe.count.line[0].points
    session.undo.undo()


def grey(field) -> np.ndarray:
    """What stands on the field, as grey levels; its rim, which the picture leaves at times, is left out."""
    image = field.grab().toImage().convertToFormat(QImage.Format.Format_Grayscale8)
    levels = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    high, wide = (side // 4 for side in levels.shape)
    return levels[high:-high, wide:-wide].astype(float)


def test_the_ground_is_held_still_and_what_is_drawn_on_it_stays_where_it_was_put(swaying_window, qtbot):
    window = swaying_window
    session, field, chip = window.session, window.field, window.chips.chips["Steady"]
    assert chip.isVisibleTo(window)
    shown = set(field.shown)
    for name in shown:
        window.chips.chips[name].click()

    def at(frame: int) -> np.ndarray:
        session.set_frame(frame)
        qtbot.waitUntil(lambda: field.drawn_frame == frame, timeout=WAIT)
        return grey(field)

    here, there = 34, 40
    shaken = np.abs(at(here) - at(there))
    qtbot.mouseClick(chip, LEFT)
    still = np.abs(at(here) - at(there))
    assert np.median(still) < 0.5 * np.median(shaken) and np.quantile(shaken, 0.9) > 8, "or there is nothing to see"

    window.new_line()
    a, b = QPoint(field.width() // 3, field.height() * 2 // 3), QPoint(field.width() // 3, field.height() // 3)
    drag(qtbot, field, a, b)
    (line,) = session.recipe.count.line
    for frame in (here, there, 70):
        at(frame)
        seen = apply(inverse(session.detect.motion.to_scene[frame]), np.array(line.points) * SIZE)
        for true, point in zip(seen, (a, b), strict=True):
            under = field.laid.to_picture(field.under(point.toPointF()))
            assert np.hypot(under.x() - true[0], under.y() - true[1]) < 1.0
        assert field.editor.line_at(field.under(a.toPointF()), field.laid) == 0
    before = field.laid.to_picture(field.under(a.toPointF()))
    wheel(field, a, 2)
    after = field.laid.to_picture(field.under(a.toPointF()))
    assert (after - before).manhattanLength() < 0.5 and field.view.zoom > 1, "the wheel keeps what is under the mouse"
    field.fit()
    session.undo.undo()
    for name in shown | {"Steady"}:
        window.chips.chips[name].click()
    assert field.shown == shown


def test_links_and_filter_are_explained_on_the_ground_and_shown_in_the_picture(swaying_window, qtbot):
    """The walker goes evenly over the ground and not over the pictures: a bench that worked there saw it shake."""
    window = swaying_window
    session = window.session
    paths = session.tracks.paths
    who = int(paths.identity[np.argmax(np.diff(paths.start))])
    session.set_frame(60)
    session.select(who)
    window.hands.show_links()
    (table,) = window.findChildren(LinkTable)
    qtbot.waitUntil(lambda: table.table.rowCount() > 0, timeout=WAIT)
    note = window.notes.of(who)
    rows = session.tracks.rows_of(60)
    row = rows.start + int(np.flatnonzero(session.tracks.identity[rows] == who)[0])
    assert np.abs(np.array(note.box) - session.tracks.box[row]).max() < 4.0
    taken = next(pair for pair in note.candidates if pair.chosen)
    assert taken.distance == pytest.approx(float(session.tracks.distance[row]), abs=0.05)  # the tracker's own figure
    table.close()
    window.hands.show_filter()
    bench = window.hands.bench
    off = []  # how far it strays from a straight and even way, px
    for box in (bench.measured.box, session.tracks.box[session.tracks.path_of(who)]):
        middle, time = (box[:, 0] + box[:, 2]) / 2, np.arange(len(box))
        off.append(np.std(middle - np.polyval(np.polyfit(time, middle, 1), time)))
    assert off[0] < 0.6 * off[1]
    ahead = window.field.ahead
    middle = session.tracks.box[row].reshape(2, 2).mean(axis=0)
    assert np.hypot(*(ahead[0, :2] - middle)) < 12.0
    bench.close()
    session.select(None)


def test_the_camera_off_is_an_edit_that_is_undone(swaying_window, qtbot):
    session = swaying_window.session
    card = swaying_window.dials.footage.camera
    card.choices[0].box.setCurrentIndex(1)
    assert session.recipe.camera.mode == "off"
    qtbot.waitUntil(lambda: up_to_date(swaying_window) and session.detect.motion is None, timeout=WAIT)
    assert "stands still" in card.said.text() and not card.plot.isVisibleTo(card)
    session.undo.undo()
    qtbot.waitUntil(lambda: up_to_date(swaying_window) and session.detect.motion is not None, timeout=WAIT)


def open_frame(window: MainWindow, frame: int) -> np.ndarray:
    with ClipReader(Path(window.session.clip.path)) as reader:
        return reader.frame(frame).grey


def test_a_pair_of_frames_shows_every_way(swaying_window, qtbot):
    swaying_window.session.set_frame(10)
    dialog = swaying_window.exports.ask_pair()
    dialog.apart.setValue(6)
    qtbot.waitUntil(lambda: not dialog.job.busy and dialog.table.rowCount() == 9, timeout=WAIT)
    alone = corners_alone(open_frame(swaying_window, 16))
    for name, (many, _) in alone.items():
        assert f"{WORDS[name]} {grouped(many)} in " in dialog.corners.text() and many > 20
    assert dialog.table.item(0, 0).text() == "segment test" and "ms" in dialog.table.item(0, 10).text()
    dialog.table.setCurrentCell(3, 0)
    assert "px right" in dialog.words.text()
    good = dialog.ways[0]
    true = swaying(16 / 25) @ inverse(swaying(10 / 25))
    assert (
        np.abs(apply(good.fit.matrix, np.array([[240.0, 135.0]])) - apply(true, np.array([[240.0, 135.0]]))).max() < 1
    )
    raw, aligned = dialog.raw._grey, dialog.aligned._grey
    assert aligned[30:-30, 30:-30].mean() < 0.6 * raw[30:-30, 30:-30].mean()
    dialog.close()


def test_a_steadied_video_is_written(swaying_window, qtbot, tmp_path):
    dialog = swaying_window.exports.ask_steady()
    dialog.name.setText(str(tmp_path / "held"))
    dialog.save.click()
    qtbot.waitUntil(lambda: dialog.written is not None, timeout=WAIT)
    with ClipReader(tmp_path / "held.mp4") as reader:
        assert reader.info.frame_count == 90
    assert "90 pictures" in dialog.words.text()
    dialog.name.setText("/no/such/folder/x.mp4")
    dialog.save.click()
    qtbot.waitUntil(lambda: dialog.fault.isVisible(), timeout=WAIT)
    assert "cannot be written" in dialog.fault.text()
    dialog.close()


def test_a_thing_is_boxed_followed_named_and_let_go(qtbot, tmp_path, qapp):
    clip = tmp_path / "board.mp4"
    with ClipWriter(clip, width=SIZE[0], height=SIZE[1], rate=25.0, quality=16, preset="fast") as writer:
        for frame in range(70):
            writer.add(np.repeat(picture(frame)[..., None], 3, axis=2))
    window = a_window(qtbot, ResultStore(tmp_path / "store"), clip)
    session, field = window.session, window.field
    session.set_frame(0)
    qtbot.waitUntil(lambda: field.drawn_frame == 0, timeout=WAIT)
    said = []
    session.message_raised.connect(said.append)
    qtbot.keyClick(window, Qt.Key.Key_B)
    drag(qtbot, field, field.view.to_widget(330, 30).toPoint(), field.view.to_widget(430, 90).toPoint())
    qtbot.waitUntil(lambda: bool(said), timeout=WAIT)
    assert "plain ground" in said[0] and session.recipe.follow.thing == ()
    from test_follow import corners_at

    low, high = corners_at(0).min(axis=0), corners_at(0).max(axis=0)
    qtbot.keyClick(window, Qt.Key.Key_B)
    drag(qtbot, field, field.view.to_widget(*low).toPoint(), field.view.to_widget(*high).toPoint())
    qtbot.waitUntil(lambda: len(session.recipe.follow.thing) == 1, timeout=WAIT)
    qtbot.waitUntil(lambda: bool(session.engine.following.things) and up_to_date(window), timeout=WAIT)
    assert "Thing 1" in session.tracks.class_names
    who = int(session.tracks.identity.max())
    assert who in {lane.identity for lane in window.lanes.lanes}
    card = window.dials.track.follow
    assert "seen here" in card.rows[0].state.text()
    session.set_frame(50)
    assert "hidden" in card.rows[0].state.text() or "blurred" in card.rows[0].state.text()
    card.rows[0].name.setText("Board")
    card.rows[0].name.editingFinished.emit()
    assert session.recipe.follow.thing[0].name == "Board"
    qtbot.waitUntil(lambda: up_to_date(window) and "Board" in session.tracks.class_names, timeout=WAIT)
    card.rows[0].drop.click()
    qtbot.waitUntil(lambda: up_to_date(window) and "Board" not in session.tracks.class_names, timeout=WAIT)
    session.undo.undo()
    assert session.recipe.follow.thing[0].name == "Board" and BOARD.size
    put_away(window)
