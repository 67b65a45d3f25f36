"""Saving a clip with its camera's motion taken out: how it is held, how far it is, and a way to stop it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFileDialog, QGridLayout, QHBoxLayout, QLabel, QLineEdit, QPushButton, QWidget

from drover.app.dials.parts import muted
from drover.app.work_dialog import WorkDialog
from drover.core.camera.motion import CameraMotion
from drover.core.camera_pass import follow_clip
from drover.core.footage.writer import KINDS
from drover.core.footage_types import ClipInfo
from drover.core.progress import Progress
from drover.core.recipe import CameraSettings
from drover.core.steady_video import STEADY_WAYS, write_steadied

__all__ = ["SteadyDialog"]


class SteadyDialog(WorkDialog):
    """Asks how the clip is to be held and writes it; a clip whose camera was not followed yet is followed first."""

    _progress = Signal(object)

    def __init__(
        self,
        clip: ClipInfo,
        motion: CameraMotion | None,
        settings: CameraSettings,
        frame: int,
        start: Path,
        parent: QWidget | None,
    ) -> None:
        super().__init__("Save a steadied video", "steady", parent)
        self.clip, self.motion, self.settings, self.frame = clip, motion, settings, frame
        self.written: Path | None = None
        self.setMinimumWidth(480)
        form = QGridLayout()
        form.setColumnStretch(1, 1)
        self.name = QLineEdit(str(start))
        self.name.setAccessibleName("file")
        browse = QPushButton("Choose…")
        browse.clicked.connect(self._browse)
        self.way = QComboBox()
        for way, words in STEADY_WAYS.items():
            self.way.addItem(words, way)
        rows = ("file", self.name), ("how", self.way)
        for row, (words, widget) in enumerate(rows):
            label = QLabel(words)
            label.setBuddy(widget)
            form.addWidget(label, row, 0)
            form.addWidget(widget, row, 1)
        form.addWidget(browse, 0, 2)
        self._inputs = (self.name, browse, self.way)
        self.column.addLayout(form)
        words = (
            f"Held against one picture it is that of frame {frame + 1}, which is shown now: a clip that was turned is "
        )
        self.column.addWidget(muted(words + "straightened so.", wrap=True))
        self.column.addWidget(self.fault)
        self.column.addWidget(self.bar)
        self.column.addWidget(self.words)
        self.column.addLayout(self._buttons())
        self.job.done.connect(self._on_done)
        self._progress.connect(self._on_progress)
        self.show_working(False)

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addStretch(1)
        self.leave, self.stop, self.save = QPushButton("Close"), QPushButton("Stop"), QPushButton("Save")
        self.save.setDefault(True)
        self.leave.clicked.connect(self.close)
        self.stop.clicked.connect(lambda: self.stop_work("stopped; what was there before is as it was"))
        self.save.clicked.connect(self._start)
        for button in (self.leave, self.stop, self.save):
            row.addWidget(button)
        return row

    def _browse(self) -> None:
        chosen, _ = QFileDialog.getSaveFileName(
            self, "Save a steadied video", self.name.text(), "MP4 (*.mp4);;WebM (*.webm)"
        )
        if chosen:
            self.name.setText(chosen)

    def _start(self) -> None:
        path, way = Path(self.name.text().strip()), list(STEADY_WAYS)[self.way.currentIndex()]
        if path.suffix.lower() not in KINDS:
            path = path.with_name(path.name + KINDS[0])
        self.fault.hide()
        self.words.setText("")
        self.show_working(True)
        clip, known, settings, frame = self.clip, self.motion, self.settings, self.frame

        def work(cancelled):  # type: ignore[no-untyped-def]
            tell = self._progress.emit
            motion = known or follow_clip(clip, settings, on_progress=tell, cancelled=cancelled)
            done = write_steadied(clip, motion, path, way=way, reference=frame, on_progress=tell, cancelled=cancelled)
            return path, done

        self.job.submit(work)

    def _on_progress(self, progress: Progress) -> None:
        if self.job.busy:
            self.show_share(progress.done, progress.total)
            what = "following the camera" if progress.stage == "camera" else "writing"
            self.words.setText(f"{what}: {progress.done} of {progress.total} frames")

    def _on_done(self, made: tuple[Path, int]) -> None:
        self.written, pictures = made
        self.show_working(False)
        self.show_share(1, 1)
        self.words.setText(f"{self.written.name}: {pictures} pictures written")

    def show_working(self, on: bool) -> None:
        super().show_working(on)
        for widget in self._inputs:
            widget.setEnabled(not on)
        self.save.setEnabled(not on)
        self.stop.setEnabled(on)
