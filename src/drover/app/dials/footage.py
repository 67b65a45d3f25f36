"""What is known of the clip."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QVBoxLayout, QWidget

from drover.app.dials.camera_card import CameraCard
from drover.app.dials.parts import Card, muted
from drover.app.dials.survey_card import SurveyCard
from drover.app.session import Session

__all__ = ["FootageFacts"]


class FootageFacts(QWidget):
    """Size, rate, length, and what is wrong with the file, if anything."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.card = Card("The clip")
        self.grid = QGridLayout()
        self.grid.setColumnStretch(1, 1)
        self.grid.setVerticalSpacing(6)
        self.card.body.addLayout(self.grid)
        column.addWidget(self.card)
        self.values: dict[str, QLabel] = {}
        for row, name in enumerate(("file", "size", "rate", "frames", "length", "time stamps", "state")):
            self.grid.addWidget(muted(name), row, 0, Qt.AlignmentFlag.AlignTop)
            value = QLabel("-")
            value.setWordWrap(True)
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            self.grid.addWidget(value, row, 1)
            self.values[name] = value
        self.camera = CameraCard(session)
        column.addWidget(self.camera)
        column.setSpacing(9)
        self.survey = SurveyCard(session)
        column.addWidget(self.survey)
        session.clip_changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        clip = self.session.clip
        if clip is None:
            return
        steps = np.diff(clip.times)
        even = len(steps) == 0 or float(np.ptp(steps)) < 0.02 * float(steps.mean())
        minutes, seconds = divmod(clip.duration, 60)
        facts = {
            "file": Path(clip.path).name,
            "size": f"{clip.width} × {clip.height} px",
            "rate": f"{clip.rate:.3g} frames/s",
            "frames": f"{clip.frame_count}",
            "length": f"{int(minutes)} min {seconds:.1f} s",
            "time stamps": "even" if even else "uneven: times come from each frame's own stamp",
            "state": "; ".join(clip.notes) or ("file not found" if self.session.clip_missing else "complete"),
        }
        for name, text in facts.items():
            self.values[name].setText(text)
