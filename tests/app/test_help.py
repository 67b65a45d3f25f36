"""Help, preferences, the log, what is remembered, and the guided first count."""

from __future__ import annotations

import json
import logging
import subprocess
import sys

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QApplication, QFileDialog, QLabel, QPushButton

from drover.app.help.pages import AboutBox, KeysPage, LogPage
from drover.app.layout_memory import remember_layout
from drover.app.log import begin_log, log_path, logger
from drover.app.preferences import change_preferences, note_recent, preferences
from drover.app.preferences_dialog import PreferencesDialog
from drover.core.examples import example
from drover.core.result_store import ResultStore
from windows import WAIT, up_to_date

SHORT = example("gap-short")
LEFT = Qt.MouseButton.LeftButton


def entry(window, text) -> QAction:
    return next(action for action in window.findChildren(QAction) if action.text().replace("&", "") == text)


def page(kind):
    return next(w for w in QApplication.topLevelWidgets() if isinstance(w, kind) and w.isVisible())


def test_every_key_of_every_menu_stands_on_the_page_of_keys(window):
    entry(window, "Keys").trigger()
    shown = {label.text() for label in page(KeysPage).findChildren(QLabel)}
    keys = [action.shortcut() for action in window.findChildren(QAction) if not action.shortcut().isEmpty()]
    assert len(keys) > 20
    assert {key.toString(QKeySequence.SequenceFormat.NativeText) for key in keys} <= shown
    page(KeysPage).close()


def test_no_two_entries_share_a_key(window):
    keys = [action.shortcut().toString() for action in window.findChildren(QAction) if not action.shortcut().isEmpty()]
    assert len(keys) == len(set(keys))


def test_the_versions_can_be_copied(window, qtbot):
    entry(window, "About Drover").trigger()
    box = page(AboutBox)
    qtbot.mouseClick(next(b for b in box.findChildren(QPushButton) if b.text() == "Copy"), LEFT)
    words = QApplication.clipboard().text()
    assert "drover: " in words and "Qt: " in words
    box.close()


@pytest.fixture
def log():
    begin_log()
    yield log_path()
    for handler in list(logger.handlers):
        logger.removeHandler(handler)
        handler.close()
    sys.excepthook = sys.__excepthook__


def test_what_the_banner_says_is_in_the_log_and_the_menu_shows_it(log, window, qtbot):
    window.open_path(log.parent / "nowhere.mp4")
    qtbot.waitUntil(lambda: "no such file" in window.banner.label.text(), timeout=WAIT)
    entry(window, "Log").trigger()
    assert "no such file" in page(LogPage).text.toPlainText()
    page(LogPage).close()
    assert logging.getLogger("drover") is logger


def test_recent_sources_are_offered_newest_first_and_can_be_forgotten(window, qtbot):
    for n in range(15):
        note_recent(f"/clips/{n}.mp4")
    note_recent("/clips/9.mp4")
    assert preferences().recent[:2] == ("/clips/9.mp4", "/clips/14.mp4")
    assert len(preferences().recent) == 12
    menu = entry(window, "Open recent").menu()
    menu.aboutToShow.emit()
    assert [action.text() for action in menu.actions()][:2] == ["/clips/9.mp4", "/clips/14.mp4"]
    dialog = PreferencesDialog(ResultStore())
    qtbot.addWidget(dialog)
    qtbot.mouseClick(next(b for b in dialog.findChildren(QPushButton) if b.text() == "Forget them"), LEFT)
    assert preferences().recent == ()


@pytest.mark.parametrize("text", ["", "{", "[1]", '{"theme": "pink"}', '{"recent": 7}', "[" * 5000])
def test_preferences_that_cannot_be_read_are_the_usual_ones(tmp_path, text):
    change_preferences(theme="dark")
    (tmp_path / "config" / "drover" / "preferences.json").write_text(text)
    assert preferences().theme == "light"
    assert change_preferences(theme="dark").theme == "dark"


def test_the_theme_is_taken_at_the_next_start_and_text_is_legible_in_both(qtbot, tmp_path):
    dialog = PreferencesDialog(ResultStore())
    qtbot.addWidget(dialog)
    dialog.theme.setCurrentText("dark")
    assert "next start" in dialog.later.text()
    told = (
        "import json; from drover.app import theme as t;"
        "print(json.dumps({n: getattr(t, n) for n in t.__all__ if isinstance(getattr(t, n), str)}))"
    )
    palettes = {}
    for theme in ("dark", "light"):
        change_preferences(theme=theme)
        ran = subprocess.run([sys.executable, "-c", told], capture_output=True, check=True)
        palettes[theme] = json.loads(ran.stdout)
    assert palettes["dark"]["STONE"] != palettes["light"]["STONE"]
    assert palettes["dark"]["NIGHT"] == palettes["light"]["NIGHT"], "over footage nothing changes"
    for named in palettes.values():
        for text, ground in (
            ("INK", "STONE"), ("INK", "PAPER"), ("INK", "BASE"), ("INK", "TINT"), ("INK", "ALARM"),
            ("MUTED_TEXT", "STONE"), ("MUTED_TEXT", "PAPER"), ("CLAY", "PAPER"), ("ON_MOSS", "MOSS"),
        ):  # fmt: skip
            assert contrast(named[text], named[ground]) >= 4.5, (text, ground)


def contrast(one: str, other: str) -> float:
    """Contrast of two colours (WCAG 2.1, 1.4.3)."""

    def light(name: str) -> float:
        parts = [int(name[k : k + 2], 16) / 255 for k in (1, 3, 5)]
        red, green, blue = (c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts)
        return 0.2126 * red + 0.7152 * green + 0.0722 * blue

    lights = sorted((light(one), light(other)))
    return (lights[1] + 0.05) / (lights[0] + 0.05)


def test_the_window_comes_back_as_it_was_left(window, qtbot):
    remember_layout(window)
    window.resize(1100, 700)
    window.splitter.setSizes([380, 240])
    kept = window.splitter.sizes()
    window.close()
    from drover.app.window import MainWindow

    again = MainWindow()
    qtbot.addWidget(again)
    remember_layout(again)
    again.show()
    assert again.height() == 700  # the width is held to the screen, which is narrow here
    assert again.splitter.sizes() == pytest.approx(kept, abs=8)
    again.close()


def test_results_kept_to_work_faster_can_be_cleared(qtbot, tmp_path):
    import numpy as np

    store = ResultStore(tmp_path / "store")
    store.save("one", {"a": np.zeros(300_000)}, {})
    dialog = PreferencesDialog(store)
    qtbot.addWidget(dialog)
    assert dialog.kept.text().startswith("2 MiB")
    qtbot.mouseClick(next(b for b in dialog.findChildren(QPushButton) if b.text() == "Clear"), LEFT)
    assert dialog.kept.text().startswith("0 MiB")
    assert store.load("one") is None


@pytest.mark.usefixtures("known_example")
def test_the_guide_leads_from_a_clip_of_ones_own_to_a_count_and_its_tables(window, qtbot, monkeypatch, tmp_path):
    guide = window.guide
    qtbot.mouseClick(window.welcome.guide, LEFT)
    assert guide.place.text() == "Step 1 of 5"
    assert not guide.next.isEnabled(), "without a clip there is nothing to go on to"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(SHORT.clip), ""))
    qtbot.mouseClick(guide.act, LEFT)
    qtbot.waitUntil(lambda: guide.place.text() == "Step 2 of 5", timeout=WAIT)
    qtbot.waitUntil(lambda: "identities were found" in guide.words.text(), timeout=WAIT)
    qtbot.mouseClick(guide.next, LEFT)
    assert guide.place.text() == "Step 3 of 5"
    qtbot.mouseClick(guide.act, LEFT)
    field = window.field
    start, end = field.view.to_widget(310, 40).toPoint(), field.view.to_widget(320, 320).toPoint()
    qtbot.mousePress(field, LEFT, pos=start)
    for step in (1, 2, 3):
        qtbot.mouseMove(field, start + (end - start) * step / 3)
    qtbot.mouseRelease(field, LEFT, pos=end)
    qtbot.waitUntil(lambda: guide.place.text() == "Step 4 of 5", timeout=WAIT)
    qtbot.waitUntil(lambda: up_to_date(window), timeout=WAIT)
    crossings = window.session.crossings
    forward = int((crossings.direction > 0).sum())
    assert len(crossings) >= 5
    assert f"{forward} forward, {len(crossings) - forward} back" in guide.words.text()
    qtbot.mouseClick(guide.next, LEFT)
    qtbot.mouseClick(guide.act, LEFT)
    from drover.app.export_dialog import ExportDialog

    export = page(ExportDialog)
    export.folder.setText(str(tmp_path / "out"))
    qtbot.mouseClick(export.save, LEFT)
    qtbot.waitUntil(lambda: (tmp_path / "out" / "counts.csv").exists(), timeout=WAIT)
    export.close()
    qtbot.mouseClick(guide.next, LEFT)
    assert guide.isHidden()


def test_the_guide_can_be_left_at_any_step(window, qtbot):
    window.guide.start()
    qtbot.mouseClick(window.guide.leave, LEFT)
    assert window.guide.isHidden()
