"""What the window shows before there is a clip: the next step."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout

from drover.app.drops import DropTarget
from drover.app.theme import FIELD

__all__ = ["Welcome"]

_SHEET = f"""
Welcome {{ background: {FIELD}; }}
QLabel {{ background: transparent; color: #C9D0CC; }}
QLabel#head {{ color: #F7F5F0; font-size: 22px; font-weight: 600; }}
QLabel#text {{ font-size: 14px; }}
"""


class Welcome(DropTarget):
    """Open a clip, open the demo, or pick up unsaved work."""

    clip_wanted = Signal()
    demo_wanted = Signal()
    unsaved_wanted = Signal()

    def __init__(self, *, unsaved: bool) -> None:
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
        self.unsaved = QPushButton("Pick up unsaved work")
        self.unsaved.clicked.connect(self.unsaved_wanted)
        self.unsaved.setVisible(unsaved)
        for button in (self.demo, self.clip, self.unsaved):
            button.setMinimumHeight(26)
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        column.addStretch(3)
