"""The Export dialog: what of a result goes into files, and where to; a video has a dialog of its own behind it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QWidget,
)

from drover.app.dials.parts import muted
from drover.app.export_files import WHAT, write_files
from drover.app.field.scene import Scene
from drover.app.video import can_be_drawn
from drover.app.work_dialog import WorkDialog
from drover.core.run import ClipRun

__all__ = ["ExportDialog"]

USUAL = ("tables", "proof", "recipe")


class ExportDialog(WorkDialog):
    """Writes what is ticked into one folder, on a thread of its own; ``video_wanted`` asks for the other dialog."""

    video_wanted = Signal()
    _part = Signal(str, int, int)

    def __init__(
        self, run: ClipRun, scene: Scene, shown: set[str], frame: int, folder: Path, parent: QWidget | None
    ) -> None:
        super().__init__("Export", "export", parent)
        self._run, self._scene, self._shown, self._frame = run, scene, set(can_be_drawn(shown)), frame
        self.written: list[Path] = []
        self.setMinimumWidth(560)
        column = self.column
        row = QHBoxLayout()
        self.folder = QLineEdit(str(folder))
        self.folder.setAccessibleName("folder")
        label, browse = QLabel("folder"), QPushButton("Choose…")
        label.setBuddy(self.folder)
        browse.clicked.connect(self._browse)
        for widget in (label, self.folder, browse):
            row.addWidget(widget)
        column.addLayout(row)
        self.boxes = {name: QCheckBox(words) for name, words in WHAT.items()}
        for name, box in self.boxes.items():
            box.setChecked(name in USUAL)
            box.toggled.connect(lambda _: self.show_working(False))
            column.addWidget(box)
        column.addWidget(muted(_files_words(run), wrap=True))
        for widget in (self.fault, self.bar, self.words):
            column.addWidget(widget)
        column.addLayout(self._buttons())
        self._inputs = (self.folder, browse, *self.boxes.values())
        self.job.done.connect(self._on_done)
        self._part.connect(self._on_part)
        self.show_working(False)

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.video = QPushButton("A video…")
        self.video.clicked.connect(self.video_wanted)
        row.addWidget(self.video)
        row.addStretch(1)
        self.leave, self.stop, self.save = QPushButton("Close"), QPushButton("Stop"), QPushButton("Write")
        self.save.setProperty("primary", "true")
        self.save.setDefault(True)
        for button, slot in ((self.leave, self.close), (self.stop, self._stop), (self.save, self._start)):
            button.clicked.connect(slot)
            row.addWidget(button)
        return row

    def _browse(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "Where to?", self.folder.text())
        if chosen:
            self.folder.setText(chosen)

    def _start(self) -> None:
        what = [name for name, box in self.boxes.items() if box.isChecked()]
        folder, run, scene, shown, frame = (
            Path(self.folder.text().strip()), self._run, self._scene, self._shown, self._frame
        )  # fmt: skip
        self.fault.hide()
        self.show_working(True)
        self.job.submit(
            lambda cancelled: write_files(
                run, folder, what, frame=frame, shown=shown, scene=scene, on_part=self._part.emit, cancelled=cancelled
            )
        )

    def _stop(self) -> None:
        self.stop_work("stopped; what was written stays")

    def _on_part(self, name: str, done: int, total: int) -> None:
        if self.job.busy:
            self.show_share(done, total)
            self.words.setText(f"writing {WHAT[name].partition(':')[0]}")

    def _on_done(self, written: list[Path]) -> None:
        self.written = written
        self.show_working(False)
        self.show_share(1, 1)
        self.words.setText(f"written: {', '.join(path.name for path in written)}")

    def show_working(self, on: bool) -> None:
        super().show_working(on)
        for widget in self._inputs:
            widget.setEnabled(not on)
        self.save.setEnabled(not on and any(box.isChecked() for box in self.boxes.values()))
        self.stop.setEnabled(on)


def _files_words(run: ClipRun) -> str:
    rows, frames = len(run.tracks), run.clip.frame_count
    return f"{len(run.tracks.paths.identity)} identities, {rows} rows over {frames} frames; one text file a frame."
