"""The preferences: the theme, where live runs go, what is remembered and what is kept to work faster."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import muted
from drover.app.preferences import change_preferences, preferences
from drover.core.result_store import ResultStore

__all__ = ["PreferencesDialog"]


class PreferencesDialog(QDialog):
    """Each change is kept at once."""

    def __init__(self, store: ResultStore, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._store = store
        self.setWindowTitle("Preferences")
        self.setMinimumWidth(520)
        now = preferences()
        self.theme = QComboBox()
        for name in ("light", "dark"):
            self.theme.addItem(name, name)
        self.theme.setCurrentIndex(self.theme.findData(now.theme))
        self.theme.currentIndexChanged.connect(self._take_theme)
        self.theme.setAccessibleName("theme")
        self.later = muted("")
        self.folder = QLabel(now.live_folder or str(Path.home() / "Drover"))
        choose = QPushButton("Choose…")
        choose.clicked.connect(self._choose)
        self.recent = QLabel(_recent_words())
        forget = QPushButton("Forget them")
        forget.clicked.connect(self._forget)
        self.kept = QLabel(self._kept_words())
        clear = QPushButton("Clear")
        clear.clicked.connect(self._clear)
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 18, 20, 16)
        form = QFormLayout()
        form.setVerticalSpacing(10)
        for words, first, second in (
            ("theme", self.theme, self.later), ("live runs go to", self.folder, choose),
            ("recent sources", self.recent, forget), ("kept results", self.kept, clear),
        ):  # fmt: skip
            row = QHBoxLayout()
            row.addWidget(first, 1)
            row.addWidget(second)
            form.addRow(words, row)
        column.addLayout(form)
        foot = QHBoxLayout()
        foot.addStretch(1)
        leave = QPushButton("Close")
        leave.clicked.connect(self.close)
        foot.addWidget(leave)
        column.addLayout(foot)

    def _take_theme(self) -> None:
        change_preferences(theme=self.theme.currentData())
        self.later.setText("from the next start on")

    def _choose(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Where do results of live runs go?", self.folder.text())
        if name:
            change_preferences(live_folder=name)
            self.folder.setText(name)

    def _forget(self) -> None:
        change_preferences(recent=())
        self.recent.setText(_recent_words())

    def _clear(self) -> None:
        self._store.clear()
        self.kept.setText(self._kept_words())

    def _kept_words(self) -> str:
        return f"{self._store.size() / (1 << 20):.0f} MiB, to work faster; safe to clear"


def _recent_words() -> str:
    many = len(preferences().recent)
    return f"{many} remembered" if many else "none remembered"
