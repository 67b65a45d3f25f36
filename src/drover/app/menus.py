"""The menus: every wish that the window fulfils, with its keys."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu

from drover.app.help.pages import AboutBox, KeysPage, LogPage
from drover.app.preferences import preferences
from drover.app.review.answers import ANSWERS
from drover.app.session import STAGES
from drover.app.strip import TITLES

if TYPE_CHECKING:
    from drover.app.window import MainWindow

__all__ = ["build_menus"]


def build_menus(window: MainWindow) -> None:
    """Fill the window's menu bar."""
    _file_menu(window)
    _edit_menu(window)
    _view_menu(window)
    stages = window.menuBar().addMenu("&Stages")
    for number, stage in enumerate(STAGES, 1):
        _action(window, stages, TITLES[stage], lambda stage=stage: window.strip.choose(stage), f"Ctrl+{number}")
    _review_menu(window)
    _play_menu(window)
    _help_menu(window)


def _action(
    window: MainWindow,
    menu: QMenu,
    text: str,
    slot: Callable[[], object],
    keys: str | QKeySequence.StandardKey | None = None,
) -> QAction:
    action = QAction(text, window)
    if keys is not None:
        action.setShortcut(QKeySequence(keys))
    action.triggered.connect(lambda _=False: slot())
    menu.addAction(action)
    return action


def _file_menu(window: MainWindow) -> None:
    file, asking, exports = window.menuBar().addMenu("&File"), window.asking, window.exports
    for entry in (
        ("Open &clip…", asking.clip, "Ctrl+O"), ("Open a &source…", window.sources.ask, "Ctrl+Alt+O"),
        ("Open &project…", asking.project, "Ctrl+Shift+O"),
        ("Open the Fold &Hill demo", window.open_demo, None), ("&Work through many clips…", asking.batch, None), None,
        ("&Save project as…", asking.save, "Ctrl+S"), None,
        ("&Bring in boxes…", asking.boxes, None), ("Load &truth…", asking.truth, None),
        ("E&xport…", exports.ask_files, "Ctrl+E"), ("Save &picture of the field…", exports.ask_picture, None),
        ("Save &video of the field…", exports.ask_video, None),
        ("Save steadied vi&deo…", exports.ask_steady, None),
        ("Save proof pict&ure…", exports.ask_proof, None), ("Load true c&rossings…", asking.true_crossings, None),
        ("Load &recipe…", asking.recipe, None), ("Write r&ecipe…", asking.write_recipe, None), None,
        ("&Quit", window.close, "Ctrl+Q"),
    ):  # fmt: skip
        if entry is None:
            file.addSeparator()
        else:
            _action(window, file, *entry)
    _recent_menu(window, file, file.actions()[3])


def _recent_menu(window: MainWindow, file: QMenu, before: QAction) -> None:
    """The sources used last; made anew each time it is opened."""
    menu = QMenu("Open r&ecent", file)
    file.insertMenu(before, menu)

    def fill() -> None:
        menu.clear()
        for text in preferences().recent:
            menu.addAction(text.replace("&", "&&"), lambda text=text: window.sources.open_named(text))
        if menu.isEmpty():
            menu.addAction("none yet").setEnabled(False)

    menu.aboutToShow.connect(fill)


def _help_menu(window: MainWindow) -> None:
    help_, bar = window.menuBar().addMenu("&Help"), window.menuBar()
    _action(window, help_, "&Guide to a first count", window.guide.start)
    _action(window, help_, "&Keys", lambda: KeysPage(bar, window).show(), "F1")
    _action(window, help_, "&Log", lambda: LogPage(window).show())
    _action(window, help_, "&About Drover", lambda: AboutBox(window).show())


def _edit_menu(window: MainWindow) -> None:
    edit, stack = window.menuBar().addMenu("&Edit"), window.session.undo
    undo, redo = stack.createUndoAction(window, "Undo"), stack.createRedoAction(window, "Redo")
    for action, keys in ((undo, "Ctrl+Z"), (redo, "Ctrl+Shift+Z")):
        action.setShortcut(QKeySequence(keys))
        edit.addAction(action)
    edit.addSeparator()
    _action(window, edit, "New counting &line", window.new_line, "L")
    _action(window, edit, "New &zone", window.new_zone, "Z")
    _action(window, edit, "&Follow a thing", window.things.draw, "B")
    edit.addSeparator()
    _action(window, edit, "&Preferences…", lambda: _preferences(window))


def _view_menu(window: MainWindow) -> None:
    view = window.menuBar().addMenu("&View")
    _action(window, view, "&Audit the crossings", window.show_audit, "Ctrl+A")
    _action(window, view, "&Links of this frame", window.hands.show_links, "Ctrl+L")
    _action(window, view, "Filter &bench", window.hands.show_filter, "Ctrl+J")
    _action(window, view, "Look at a &pair of frames", window.exports.ask_pair, None)
    _action(window, view, "Show the &whole picture", window.field.fit, "0")
    window.split_action = _action(window, view, "&Split the field", window.split_field, "\\")
    window.full = _action(window, view, "&Full field", window.full_field, "F")
    for action in (window.split_action, window.full):
        action.setCheckable(True)


def _review_menu(window: MainWindow) -> None:
    menu, reviewer = window.menuBar().addMenu("&Review"), window.reviewer
    _action(window, menu, "&Work through the moments", window.hands.show_review, "Ctrl+R")
    menu.addSeparator()
    for name, key, _, words in ANSWERS:
        _action(window, menu, words.split(";")[0].split(":")[0].rstrip("."), getattr(reviewer, name), key)
    menu.addSeparator()
    hands = window.hands
    for text, slot, keys in (
        ("Draw or move its &box", hands.draw_box, "Ctrl+B"), ("Fill its next &gap", reviewer.fill, "G"),
        ("Give it a &name…", hands.ask_name, "Ctrl+M"), ("Give it a &class…", hands.ask_class, "Ctrl+K"),
    ):  # fmt: skip
        _action(window, menu, text, slot, keys)
    menu.addSeparator()
    _action(window, menu, "Take the tracks for the &truth", reviewer.save_as_truth, None)


def _play_menu(window: MainWindow) -> None:
    play, playback = window.menuBar().addMenu("&Play"), window.playback
    for text, slot, keys in (
        ("Play or pause", playback.toggle, "Space"),
        ("One frame on", lambda: playback.step(1), "Right"),
        ("One frame back", lambda: playback.step(-1), "Left"),
        ("One second on", lambda: playback.step_seconds(1), "Shift+Right"),
        ("One second back", lambda: playback.step_seconds(-1), "Shift+Left"),
        ("Next moment worth a look", lambda: window.hands.visit(1), "N"),
        ("Previous moment", lambda: window.hands.visit(-1), "Shift+N"),
        ("First frame", lambda: playback.go(0), "Home"),
        ("Last frame", lambda: playback.go(10**9), "End"),
    ):  # fmt: skip
        _action(window, play, text, slot, keys)


def _preferences(window: MainWindow) -> None:
    from drover.app.preferences_dialog import PreferencesDialog  # which a start does not need

    PreferencesDialog(window.session.store, window).show()
