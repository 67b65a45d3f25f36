"""Messages that stay on screen until they are read."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QWidget

from drover.app.theme import ALARM, CLAY, INK

__all__ = ["Banner"]

_SHEET = f"""
Banner {{ background: {ALARM}; border-bottom: 2px solid {CLAY}; }}
QLabel {{ background: transparent; color: {INK}; }}
QLabel#mark {{ color: #FFFFFF; background: {CLAY}; border-radius: 8px; font-weight: 600; }}
"""


class Banner(QWidget):
    """One line at a time, oldest first; each is dismissed by hand."""

    def __init__(self) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, True)
        self.setStyleSheet(_SHEET)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 6, 12, 6)
        mark = QLabel("!")
        mark.setObjectName("mark")
        mark.setFixedSize(16, 16)
        mark.setAlignment(Qt.AlignmentFlag.AlignCenter)
        row.addWidget(mark)
        self.label = QLabel()
        self.label.setWordWrap(True)
        self.label.setTextFormat(Qt.TextFormat.PlainText)  # names in a message are text, never markup
        self.label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        row.addWidget(self.label, 1)
        self.close_button = QPushButton("Understood")
        self.close_button.clicked.connect(self._next)
        row.addWidget(self.close_button)
        self._waiting: list[str] = []
        self.hide()

    def say(self, line: str) -> None:
        """Show a line now, or after those not yet read."""
        if self.isVisibleTo(self.parentWidget()):
            if line != self.label.text() and line not in self._waiting:
                self._waiting.append(line)
        else:
            self._show(line)

    def _show(self, line: str) -> None:
        self.label.setText(line[:1].upper() + line[1:])
        self.show()

    def _next(self) -> None:
        if self._waiting:
            self._show(self._waiting.pop(0))
        else:
            self.label.clear()
            self.hide()
