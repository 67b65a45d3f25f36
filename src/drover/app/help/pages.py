"""The pages of the Help menu: all keys, the versions, the log."""

from __future__ import annotations

import platform

import PySide6
from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QAction, QDesktopServices, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QMenuBar,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import muted, title
from drover.app.log import log_path
from drover.app.theme import number_font
from drover.core.run_files import versions

__all__ = ["AboutBox", "KeysPage", "LogPage", "keys_of"]

MOST_LOG = 60_000  # bytes of the log that are shown, the last ones
# Keys that are no menu entry, by where they hold.
OTHER_KEYS = (
    ("On the field", (
        ("Esc", "give up drawing, or let go"), ("Enter", "close the area that is drawn"), ("Delete", "remove a corner"),
        ("Wheel", "zoom at the mouse"), ("Drag", "move the picture"),
        ("Click", "choose an object"), ("Right button", "what can be done here"),
    )),
    ("In a live window", (("F, F11", "picture and counts on the whole screen"), ("Esc", "back"))),
)  # fmt: skip


def keys_of(bar: QMenuBar) -> list[tuple[str, list[tuple[str, str]]]]:
    """Every key of every menu, as (menu, [(keys, what they do)])."""
    found = []
    for entry in bar.actions():
        menu = entry.menu()
        if menu is None:
            continue
        rows = [(_keys(action), _plain(action)) for action in menu.actions() if not action.shortcut().isEmpty()]
        if rows:
            found.append((_plain(entry), rows))
    return found


def _keys(action: QAction) -> str:
    return ", ".join(key.toString(QKeySequence.SequenceFormat.NativeText) for key in action.shortcuts())


def _plain(action: QAction) -> str:
    return action.text().replace("&", "").rstrip("…")


class _Page(QDialog):
    def __init__(self, heading: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(heading)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(20, 18, 20, 16)
        self.column.setSpacing(8)

    def end_with(self, *buttons: QPushButton) -> None:
        """A row of buttons at the foot, the last of which closes."""
        row = QHBoxLayout()
        row.addStretch(1)
        leave = QPushButton("Close")
        leave.setDefault(True)
        leave.clicked.connect(self.close)
        for button in (*buttons, leave):
            row.addWidget(button)
        self.column.addLayout(row)


class KeysPage(_Page):
    """All keys on one page, made from the menus themselves."""

    def __init__(self, bar: QMenuBar, parent: QWidget | None) -> None:
        super().__init__("Keys", parent)
        self.resize(760, 560)
        inner = QWidget()
        columns = QHBoxLayout(inner)
        columns.setSpacing(36)
        groups = [*keys_of(bar), *((name, list(rows)) for name, rows in OTHER_KEYS)]
        total, half = sum(len(rows) + 2 for _, rows in groups), 0
        grid, row = _column(columns), 0
        for name, rows in groups:
            if half * 2 >= total and row:
                grid, row, half = _column(columns), 0, -total
            grid.addWidget(title(name), row, 0, 1, 2)
            for keys, words in rows:
                row += 1
                key = QLabel(keys)
                key.setFont(number_font(12, bold=True))
                grid.addWidget(key, row, 0)
                grid.addWidget(QLabel(words), row, 1)
            row += 1
            grid.setRowMinimumHeight(row, 10)
            row += 1
            half += len(rows) + 2
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inner)
        self.column.addWidget(scroll, 1)
        self.end_with()


def _column(row: QHBoxLayout) -> QGridLayout:
    grid = QGridLayout()
    grid.setColumnStretch(1, 1)
    grid.setHorizontalSpacing(18)
    grid.setVerticalSpacing(5)
    grid.setAlignment(Qt.AlignmentFlag.AlignTop)
    row.addLayout(grid, 1)
    return grid


class AboutBox(_Page):
    """What this is, under which licence, and the versions that a report of a fault needs."""

    def __init__(self, parent: QWidget | None) -> None:
        super().__init__("About Drover", parent)
        row = QHBoxLayout()
        picture = QLabel()
        picture.setPixmap(QApplication.windowIcon().pixmap(64, 64))
        row.addWidget(picture, 0, Qt.AlignmentFlag.AlignTop)
        words = QVBoxLayout()
        words.addWidget(title(f"Drover {versions()['drover']}"))
        words.addWidget(QLabel("Finds what moves in video, keeps who is who, counts what crosses,\n"
                               "and says how far the result can be trusted."))  # fmt: skip
        words.addWidget(muted("Apache licence, version 2.0. The typeface Inter has a licence of its own."))
        row.addLayout(words, 1)
        self.column.addLayout(row)
        self.words = QLabel(about_words())
        self.words.setFont(number_font(12))
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.words.setAccessibleName("versions")
        self.column.addWidget(self.words)
        copy = QPushButton("Copy")
        copy.clicked.connect(lambda: QApplication.clipboard().setText(self.words.text()))
        self.end_with(copy)


def about_words() -> str:
    """The versions of all that has a say, a line each."""
    known = {**versions(), "Qt": PySide6.__version__, "system": platform.platform(terse=True)}
    return "\n".join(f"{name}: {number}" for name, number in known.items())


class LogPage(_Page):
    """The end of the log, and where it is."""

    def __init__(self, parent: QWidget | None) -> None:
        super().__init__("Log", parent)
        self.resize(820, 480)
        path = log_path()
        where = muted(str(path), wrap=True)
        where.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.column.addWidget(where)
        self.text = QPlainTextEdit(_end_of_log())
        self.text.setReadOnly(True)
        self.text.setAccessibleName("log")
        self.text.moveCursor(self.text.textCursor().MoveOperation.End)
        self.column.addWidget(self.text, 1)
        folder = QPushButton("Open its folder")
        folder.clicked.connect(lambda: QDesktopServices.openUrl(QUrl.fromLocalFile(str(path.parent))))
        self.end_with(folder)


def _end_of_log() -> str:
    try:
        with log_path().open("rb") as file:
            size = file.seek(0, 2)
            file.seek(max(0, size - MOST_LOG))
            return file.read().decode(errors="replace")
    except OSError:
        return "there is no log yet"
