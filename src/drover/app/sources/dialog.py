"""Open a source: a file, images, a camera or a stream, with its picture and its properties before work starts."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QCloseEvent, QImage
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import muted, notice
from drover.app.jobs import LatestJob
from drover.app.live.work import LiveWish
from drover.app.preferences import change_preferences, note_recent, preferences
from drover.app.sources.forms import CameraForm, FileForm, NetworkForm, SourceForm
from drover.app.sources.look import Look, Wish
from drover.app.sources.preview import Preview
from drover.app.sources.ways import FILE
from drover.app.theme import number_font
from drover.core.errors import DroverError
from drover.core.footage.stream import Source, source_of
from drover.core.live_session.recording import record_for
from drover.core.recipe import Recipe

__all__ = ["SourceDialog"]

AFTER_TYPING = 500  # ms
SET_UP = 10.0  # s recorded to set things up with


class SourceDialog(QDialog):
    """``clip_wanted`` carries the path of a clip to open, ``live_wanted`` what to count on."""

    clip_wanted = Signal(object)
    live_wanted = Signal(object)
    _recorded = Signal(float)

    def __init__(self, recipe: Recipe, parent: QWidget | None = None, *, tab: int = FILE) -> None:
        super().__init__(parent)
        self.recipe = recipe
        self.setWindowTitle("Open a source")
        self.resize(860, 560)
        self.tabs = QTabWidget()
        self.forms: tuple[SourceForm, ...] = (FileForm(), CameraForm(), NetworkForm())
        for form in self.forms:
            self.tabs.addTab(form, form.title)
            form.changed.connect(self._changed)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 14)
        column.setSpacing(10)
        column.addWidget(self.tabs)
        column.addLayout(self._preview(), 1)
        self.fault = notice()
        column.addWidget(self.fault)
        self.live_row = self._live_row()
        column.addWidget(self.live_row)
        column.addLayout(self._buttons())
        self.look = Look(self)
        self.look.pictured.connect(self._on_picture)
        self.look.described.connect(self._on_described)
        self.look.failed.connect(self._on_failed)
        self._job = LatestJob("record", self)
        self._job.done.connect(self._on_recorded)
        self._job.failed.connect(self._on_not_recorded)
        self._recorded.connect(lambda share: self.picture.show_image(None, f"recording, {round(100 * share)} %"))
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(AFTER_TYPING)
        self._later.timeout.connect(self.look_now)
        self.tabs.currentChanged.connect(lambda _: self._changed())
        self.tabs.setCurrentIndex(tab)
        self._changed()

    # --- building -------------------------------------------------------------------------------------------

    def _preview(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.picture = Preview()
        row.addWidget(self.picture, 3)
        side = QWidget()
        side.setMinimumWidth(250)
        self.properties = QGridLayout(side)
        self.properties.setContentsMargins(12, 0, 0, 0)
        self.properties.setColumnStretch(1, 1)
        self.properties.setAlignment(Qt.AlignmentFlag.AlignTop)
        row.addWidget(side, 2)
        return row

    def _live_row(self) -> QWidget:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        self.folder = QLabel(self._results_folder())
        self.folder.setToolTip("Where counts, crossings and the recording go")
        change = QPushButton("Choose…")
        change.clicked.connect(self._choose_results)
        self.record = QCheckBox("record the stream")
        row.addWidget(QLabel("results go to"))
        row.addWidget(self.folder, 1)
        row.addWidget(change)
        row.addWidget(self.record)
        return holder

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addStretch(1)
        leave = QPushButton("Close")
        leave.clicked.connect(self.close)
        self.go = QPushButton("Open")
        self.go.setProperty("primary", "true")
        self.go.setDefault(True)
        self.go.clicked.connect(self._go)
        self.set_up = QPushButton("Record 10 s and open")
        self.set_up.setToolTip("A short clip of this camera, to draw lines on and set the dials with")
        self.set_up.clicked.connect(self._record)
        for button in (leave, self.set_up, self.go):
            row.addWidget(button)
        return row

    # --- what the user does -----------------------------------------------------------------------------------

    @property
    def form(self) -> SourceForm:
        """The way that is chosen."""
        return self.forms[self.tabs.currentIndex()]

    @property
    def live(self) -> bool:
        """Whether it is a camera or a stream."""
        return self.form.live

    def _choose_results(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Where do results of live runs go?", self.folder.text())
        if name:
            change_preferences(live_folder=name)
            self.folder.setText(self._results_folder())

    def _results_folder(self) -> str:
        base = Path(preferences().live_folder or Path.home() / "Drover")
        return str(base / datetime.now().strftime("live-%Y-%m-%d-%H%M%S"))

    def _changed(self) -> None:
        """Something else is chosen: the picture shown belongs to it no more."""
        self.look.leave()
        self._ready = False
        self.fault.hide()
        self.live_row.setVisible(self.live)
        self.set_up.setVisible(self.live)
        self.set_up.setEnabled(False)
        self.go.setText("Count live" if self.live else "Open")
        self._show_properties([])
        text = self.form.text()
        self.picture.show_image(None, "opening" if text else "choose a source above")
        self._show_go()
        self._later.start() if text else self._later.stop()

    def look_now(self) -> None:
        """Look at what is chosen."""
        self._later.stop()
        text = self.form.text()
        if text:
            self.look.look(Wish(text, self.live, self.form.wanted()))

    def _show_go(self) -> None:
        nothing = self.live and not (self.recipe.count.line or self.recipe.count.zone)
        self.go.setEnabled(self._ready and not nothing)
        self.set_up.setEnabled(self._ready)
        if nothing and self._ready:
            words = "There is no line and no zone to count on yet: record a short clip of it and draw one there."
            self.fault.setText(words)
            self.fault.show()

    def _go(self) -> None:
        if self.live:
            source = self._source()
            if source is None:
                return
            self.look.close()
            folder, record = Path(self.folder.text()), self.record.isChecked()
            self.live_wanted.emit(LiveWish(source, self.recipe, folder, record, self.form.wanted()))
        else:
            self.clip_wanted.emit(Path(self.form.text()))
        self.close()

    def _source(self) -> Source | None:
        """The camera or stream that is chosen, remembered from now on; None where it is gone, which is said."""
        try:
            source = source_of(self.form.text())
        except DroverError as error:
            self._on_failed(self.look.ticket, str(error))
            return None
        note_recent(source.name)
        return source

    def _record(self) -> None:
        """Make a clip of the next seconds, and open it."""
        folder, wanted, source = Path(self.folder.text()), self.form.wanted(), self._source()
        if source is None:
            return
        self.look.close()
        for widget in (self.tabs, self.go, self.set_up):
            widget.setEnabled(False)
        self.picture.show_image(None, "recording")
        self._job.submit(
            lambda cancelled: record_for(
                source, folder, SET_UP, wanted=wanted, on_share=self._recorded.emit, cancelled=cancelled
            )
        )

    def _on_recorded(self, path: Path) -> None:
        self.clip_wanted.emit(path)
        self.close()

    def _on_not_recorded(self, words: str) -> None:
        for widget in (self.tabs, self.set_up):
            widget.setEnabled(True)
        self._on_failed(self.look.ticket, words)

    def closeEvent(self, event: QCloseEvent) -> None:
        self._job.close()
        self._later.stop()
        self.look.close()
        super().closeEvent(event)

    def reject(self) -> None:
        self.close()

    # --- what the look tells ------------------------------------------------------------------------------------

    def _on_picture(self, ticket: int, image: QImage) -> None:
        if ticket == self.look.ticket:
            self.picture.show_image(image)
            if not self._ready:
                self._ready = True
                self._show_go()

    def _on_described(self, ticket: int, facts: list[tuple[str, str]]) -> None:
        if ticket == self.look.ticket:
            self._show_properties(facts)

    def _on_failed(self, ticket: int, words: str) -> None:
        if ticket == self.look.ticket:
            self._ready = False
            self.picture.show_image(None)
            self.fault.setText(words)
            self.fault.show()
            self._show_go()

    def _show_properties(self, facts: list[tuple[str, str]]) -> None:
        while (item := self.properties.takeAt(0)) is not None:
            if item.widget() is not None:
                item.widget().hide()  # it goes only when the event loop comes round
                item.widget().deleteLater()
        for row, (name, value) in enumerate(facts):
            words = QLabel(value)
            words.setWordWrap(True)
            words.setFont(number_font(12))
            self.properties.addWidget(muted(name), row, 0, Qt.AlignmentFlag.AlignTop)
            self.properties.addWidget(words, row, 1)
