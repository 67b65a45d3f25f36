"""A dialog that writes one video on a thread: a file's name, Save, Stop and Close, and how far it is."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QWidget

from drover.app.work_dialog import WorkDialog
from drover.core.footage.writer import KINDS
from drover.core.progress import Progress

__all__ = ["WritingDialog"]

STAGES = {"camera": "following the camera: "}


class WritingDialog(WorkDialog):
    """The subclass lays out ``name``, ``browse`` and its own inputs, and starts the work when ``save`` is pressed.

    ``inputs`` are switched off while it works. The work gives the file and how many pictures are in it.
    """

    _progress = Signal(object)

    def __init__(self, title: str, job: str, start: Path, parent: QWidget | None) -> None:
        super().__init__(title, job, parent)
        self.written: Path | None = None
        self.setMinimumWidth(480)
        self.name = QLineEdit(str(start))
        self.name.setAccessibleName("file")
        self.browse = QPushButton("Choose…")
        self.browse.clicked.connect(self._browse)
        self.inputs: list[QWidget] = [self.name, self.browse]
        self.leave, self.stop, self.save = QPushButton("Close"), QPushButton("Stop"), QPushButton("Save")
        self.save.setDefault(True)
        self.leave.clicked.connect(self.close)
        self.stop.clicked.connect(lambda: self.stop_work("stopped; what was there before is as it was"))
        self.save.clicked.connect(self.start)
        self.job.done.connect(self._on_done)
        self._progress.connect(self._on_progress)

    def start(self) -> None:
        """Begin to write what is asked for."""
        raise NotImplementedError

    @property
    def path(self) -> Path:
        """The file to write; a name without an ending gets that of MP4."""
        path = Path(self.name.text().strip())
        return path if path.suffix.lower() in KINDS else path.with_name(path.name + KINDS[0])

    def add_foot(self) -> None:
        """The places for what went wrong and how far it is, and the buttons."""
        for widget in (self.fault, self.bar, self.words):
            self.column.addWidget(widget)
        row = QHBoxLayout()
        row.addStretch(1)
        for button in (self.leave, self.stop, self.save):
            row.addWidget(button)
        self.column.addLayout(row)
        self.show_working(False)

    def begin(self) -> None:
        """Show that the work goes on."""
        self.fault.hide()
        self.words.setText("")
        self.show_working(True)

    def show_working(self, on: bool) -> None:
        super().show_working(on)
        for widget in self.inputs:
            widget.setEnabled(not on)
        self.save.setEnabled(not on)
        self.stop.setEnabled(on)

    def _browse(self) -> None:
        kinds = "MP4 (*.mp4);;WebM (*.webm)"
        chosen, _ = QFileDialog.getSaveFileName(self, self.windowTitle(), self.name.text(), kinds)
        if chosen:
            self.name.setText(chosen)

    def _on_progress(self, progress: Progress) -> None:
        if self.job.busy:
            self.show_share(progress.done, progress.total)
            stage = STAGES.get(progress.stage, "")
            left = f"{progress.seconds_left:.0f} s left"
            self.words.setText(f"{stage}{progress.done} of {progress.total} frames, {left}")

    def _on_done(self, made: tuple[Path, int]) -> None:
        self.written, pictures = made
        self.show_working(False)
        self.show_share(1, 1)
        self.words.setText(f"{self.written.name}: {pictures} pictures written")
