"""What the window shows before there is a clip: the next step."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout

from drover.app.drops import DropTarget
from drover.app.theme import FIELD

__all__ = ["Welcome"]

MOST_OFFERED = 5

_SHEET = f"""
Welcome {{ background: {FIELD}; }}
QLabel {{ background: transparent; color: #C9D0CC; }}
QLabel#head {{ color: #F7F5F0; font-size: 22px; font-weight: 600; }}
QLabel#text {{ font-size: 14px; }}
"""


class Welcome(DropTarget):
    """Open a clip, open the demo, or pick up work that has no name yet."""

    clip_wanted = Signal()
    demo_wanted = Signal()
    source_wanted = Signal()
    guide_wanted = Signal()
    unnamed_wanted = Signal(object)

    def __init__(self, unnamed: list[Path]) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, True)
        self.setStyleSheet(_SHEET)
        column = QVBoxLayout(self)
        column.addStretch(2)
        head = QLabel("Find what moves, keep who is who, count what crosses")
        head.setObjectName("head")
        text = QLabel(
            "Open a video to start, or see it all at work on the Fold Hill farm.\n"
            "You can also drop a clip or a .drover project here."
        )
        text.setObjectName("text")
        for label in (head, text):
            label.setAlignment(Qt.AlignmentFlag.AlignCenter)
            column.addWidget(label)
        column.addSpacing(16)
        row = QHBoxLayout()
        row.addStretch(1)
        self.demo = QPushButton("Open the Fold Hill demo")
        self.demo.setProperty("primary", "true")
        self.demo.clicked.connect(self.demo_wanted)
        self.clip = QPushButton("Open a clip…")
        self.clip.clicked.connect(self.clip_wanted)
        self.source = QPushButton("Camera or stream…")
        self.source.clicked.connect(self.source_wanted)
        for button in (self.demo, self.clip, self.source):
            button.setMinimumHeight(26)
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        column.addSpacing(6)
        self.guide = QPushButton("Show me the way to a first count on my own clip")
        self.guide.clicked.connect(self.guide_wanted)
        column.addWidget(self.guide, 0, Qt.AlignmentFlag.AlignCenter)
        column.addSpacing(14)
        self.unnamed = [self._pick_up(path) for path in unnamed[:MOST_OFFERED]]
        for button in self.unnamed:
            column.addWidget(button, 0, Qt.AlignmentFlag.AlignCenter)
        column.addStretch(3)

    def _pick_up(self, path: Path) -> QPushButton:
        """A button that goes on with work without a name."""
        when = datetime.fromtimestamp(path.stat().st_mtime).strftime("%d.%m. %H:%M")
        button = QPushButton(f"Go on with work without a name, {when}")
        button.setToolTip(str(path))
        button.clicked.connect(lambda _=False: self.unnamed_wanted.emit(path))
        return button
