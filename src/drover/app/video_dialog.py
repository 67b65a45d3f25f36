"""Saving a video: which part, how fast, what is drawn; then how far it is, and a way to stop it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QWidget,
)

from drover.app.dials.parts import muted
from drover.app.field.scene import Scene
from drover.app.video import VideoWish, can_be_drawn, write_video
from drover.app.work_dialog import WorkDialog
from drover.core.footage.writer import KINDS
from drover.core.progress import Progress

__all__ = ["VideoDialog"]

SPEEDS = (1, 2, 4, 8, 16, 32, 64)
TEXTS = (1.0, 1.5, 2.0, 3.0)


class VideoDialog(WorkDialog):
    """Asks what the video is to be and writes it on a thread of its own; the window can be used meanwhile."""

    _progress = Signal(object)

    def __init__(
        self, scene: Scene, shown: set[str], span: tuple[int, int] | None, start: Path, parent: QWidget | None
    ) -> None:
        super().__init__("Save a video", "video", parent)
        self.scene, self.shown = scene, can_be_drawn(shown)
        self.written: Path | None = None
        self.setMinimumWidth(480)
        column = self.column
        column.addLayout(self._form(span, start))
        column.addWidget(muted(_drawn_words(shown, self.shown), wrap=True))
        column.addWidget(self.fault)
        column.addWidget(self.bar)
        column.addWidget(self.words)
        column.addLayout(self._buttons())
        self.job.done.connect(self._on_done)
        self._progress.connect(self._on_progress)
        self._show_length()
        self.show_working(False)

    def _form(self, span: tuple[int, int] | None, start: Path) -> QGridLayout:
        form = QGridLayout()
        form.setColumnStretch(1, 1)
        self.name = QLineEdit(str(start))
        self.name.setAccessibleName("file")
        browse = QPushButton("Choose…")
        browse.clicked.connect(self._browse)
        whole = (0, self.scene.clip.frame_count)
        self.part = QComboBox()
        self.part.addItem("the whole clip", whole)
        if span is not None and span != whole:
            times = self.scene.clip.times
            self.part.addItem(f"{times[span[0]]:.1f} s to {times[span[1] - 1]:.1f} s, as marked in the lanes", span)
            self.part.setCurrentIndex(1)
        self.speed = QComboBox()
        for every in SPEEDS:
            self.speed.addItem("as it is" if every == 1 else f"{every} times as fast", every)
        self.text = QComboBox()
        for times in TEXTS:
            self.text.addItem("as on the field" if times == 1 else f"{times:g} times as large", times)
        self.clock = QCheckBox("the clip's time in a corner")
        self.length = muted("")
        rows = ("file", self.name), ("part", self.part), ("speed", self.speed), ("letters", self.text), ("", self.clock)
        for row, (words, widget) in enumerate(rows):
            label = QLabel(words)
            label.setBuddy(widget)
            form.addWidget(label, row, 0)
            form.addWidget(widget, row, 1)
        form.addWidget(browse, 0, 2)
        form.addWidget(self.length, 2, 2)
        for box in (self.part, self.speed):
            box.currentIndexChanged.connect(self._show_length)
        self._inputs = (self.name, browse, self.part, self.speed, self.text, self.clock)
        return form

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addStretch(1)
        self.stop = QPushButton("Stop")
        self.stop.clicked.connect(self._stop)
        self.save = QPushButton("Save")
        self.save.setDefault(True)
        self.save.clicked.connect(self._start)
        self.leave = QPushButton("Close")
        self.leave.clicked.connect(self.close)
        for button in (self.leave, self.stop, self.save):
            row.addWidget(button)
        return row

    # --- what the user does -----------------------------------------------------------------------------------

    def _browse(self) -> None:
        kinds = "MP4 (*.mp4);;WebM (*.webm)"
        chosen, _ = QFileDialog.getSaveFileName(self, "Save a video", self.name.text(), kinds)
        if chosen:
            self.name.setText(chosen)

    def _show_length(self) -> None:
        (first, past), every, clip = self.part.currentData(), self.speed.currentData(), self.scene.clip
        seconds = -(-(past - first) // every) / clip.rate
        self.length.setText(f"{int(seconds // 60)} min {seconds % 60:.0f} s long")

    def wish(self) -> VideoWish:
        """What is asked for; a name without an ending gets that of MP4."""
        path = Path(self.name.text().strip())
        if path.suffix.lower() not in KINDS:
            path = path.with_name(path.name + KINDS[0])
        first, past = self.part.currentData()
        return VideoWish(
            path, self.shown, first, past, self.speed.currentData(), self.text.currentData(), self.clock.isChecked()
        )

    def _start(self) -> None:
        wish, scene = self.wish(), self.scene
        self.fault.hide()
        self.words.setText("")
        self.show_working(True)
        self.job.submit(
            lambda cancelled: (
                wish.path,
                write_video(scene, wish, on_progress=self._progress.emit, cancelled=cancelled),
            )
        )

    def _stop(self) -> None:
        self.stop_work("stopped; what was there before is as it was")

    # --- what the work tells ------------------------------------------------------------------------------------

    def _on_progress(self, progress: Progress) -> None:
        if self.job.busy:
            self.show_share(progress.done, progress.total)
            self.words.setText(f"{progress.done} of {progress.total} frames, {progress.seconds_left:.0f} s left")

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


def _drawn_words(shown: set[str], drawn: frozenset[str]) -> str:
    """What will be drawn, in words, and what cannot be."""
    names = ", ".join(sorted(name.lower() for name in drawn)) or "nothing but lines and zones"
    left = sorted(name.lower() for name in shown - drawn)
    more = f" Not drawn: {', '.join(left)}." if left else ""
    return f"Drawn as on the field: {names}.{more}"
