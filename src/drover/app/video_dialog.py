"""Saving a video: which part, how fast, what is drawn; then how far it is, and a way to stop it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QLabel,
    QWidget,
)

from drover.app.dials.parts import muted
from drover.app.field.scene import Scene
from drover.app.video import VideoWish, can_be_drawn, write_video
from drover.app.writing_dialog import WritingDialog

__all__ = ["VideoDialog"]

SPEEDS = (1, 2, 4, 8, 16, 32, 64)
TEXTS = (1.0, 1.5, 2.0, 3.0)


class VideoDialog(WritingDialog):
    """Asks what the video is to be and writes it on a thread of its own; the window can be used meanwhile."""

    def __init__(
        self, scene: Scene, shown: set[str], span: tuple[int, int] | None, start: Path, parent: QWidget | None
    ) -> None:
        super().__init__("Save a video", "video", start, parent)
        self.scene, self.shown = scene, can_be_drawn(shown)
        column = self.column
        column.addLayout(self._form(span))
        column.addWidget(muted(_drawn_words(shown, self.shown), wrap=True))
        self._show_length()
        self.add_foot()

    def _form(self, span: tuple[int, int] | None) -> QGridLayout:
        form = QGridLayout()
        form.setColumnStretch(1, 1)
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
        form.addWidget(self.browse, 0, 2)
        form.addWidget(self.length, 2, 2)
        for box in (self.part, self.speed):
            box.currentIndexChanged.connect(self._show_length)
        self.inputs += [self.part, self.speed, self.text, self.clock]
        return form

    def _show_length(self) -> None:
        (first, past), every, clip = self.part.currentData(), self.speed.currentData(), self.scene.clip
        seconds = -(-(past - first) // every) / clip.rate
        self.length.setText(f"{int(seconds // 60)} min {seconds % 60:.0f} s long")

    def wish(self) -> VideoWish:
        """What is asked for; a name without an ending gets that of MP4."""
        first, past = self.part.currentData()
        return VideoWish(
            self.path,
            self.shown,
            first,
            past,
            self.speed.currentData(),
            self.text.currentData(),
            self.clock.isChecked(),
        )

    def start(self) -> None:
        """Write what is asked for."""
        wish, scene = self.wish(), self.scene
        self.begin()
        self.job.submit(
            lambda cancelled: (
                wish.path,
                write_video(scene, wish, on_progress=self._progress.emit, cancelled=cancelled),
            )
        )


def _drawn_words(shown: set[str], drawn: frozenset[str]) -> str:
    """What will be drawn, in words, and what cannot be."""
    names = ", ".join(sorted(name.lower() for name in drawn)) or "nothing but lines and zones"
    left = sorted(name.lower() for name in shown - drawn)
    more = f" Not drawn: {', '.join(left)}." if left else ""
    return f"Drawn as on the field: {names}.{more}"
