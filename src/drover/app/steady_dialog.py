"""Saving a clip with its camera's motion taken out: how it is held, how far it is, and a way to stop it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QWidget

from drover.app.dials.parts import muted
from drover.app.writing_dialog import WritingDialog
from drover.core.camera.motion import CameraMotion
from drover.core.camera_pass import follow_clip
from drover.core.footage_types import ClipInfo
from drover.core.recipe import CameraSettings
from drover.core.steady_video import STEADY_WAYS, write_steadied

__all__ = ["SteadyDialog"]


class SteadyDialog(WritingDialog):
    """Asks how the clip is to be held and writes it; a clip whose camera was not followed yet is followed first."""

    def __init__(
        self,
        clip: ClipInfo,
        motion: CameraMotion | None,
        settings: CameraSettings,
        frame: int,
        start: Path,
        parent: QWidget | None,
    ) -> None:
        super().__init__("Save a steadied video", "steady", start, parent)
        self.clip, self.motion, self.settings, self.frame = clip, motion, settings, frame
        form = QGridLayout()
        form.setColumnStretch(1, 1)
        self.way = QComboBox()
        for way, words in STEADY_WAYS.items():
            self.way.addItem(words, way)
        self.inputs.append(self.way)
        for row, (words, widget) in enumerate((("file", self.name), ("how", self.way))):
            label = QLabel(words)
            label.setBuddy(widget)
            form.addWidget(label, row, 0)
            form.addWidget(widget, row, 1)
        form.addWidget(self.browse, 0, 2)
        self.column.addLayout(form)
        words = f"Held against one picture it is that of frame {frame + 1}, which is shown now: "
        self.column.addWidget(muted(words + "a clip that was turned is straightened so.", wrap=True))
        self.add_foot()

    def start(self) -> None:
        """Follow the camera where it was not, and write."""
        path, way = self.path, list(STEADY_WAYS)[self.way.currentIndex()]
        self.begin()
        clip, known, settings, frame = self.clip, self.motion, self.settings, self.frame

        def work(cancelled):  # type: ignore[no-untyped-def]
            tell = self._progress.emit
            motion = known or follow_clip(clip, settings, on_progress=tell, cancelled=cancelled)
            done = write_steadied(clip, motion, path, way=way, reference=frame, on_progress=tell, cancelled=cancelled)
            return path, done

        self.job.submit(work)
