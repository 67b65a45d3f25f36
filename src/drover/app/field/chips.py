"""The row of overlay switches above the field."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from drover.app.field.view import CHIPS
from drover.app.theme import FIELD, PAPER

__all__ = ["ChipRow"]

_TIPS = {
    "Outlines": "Each animal by its outline: solid detected, dashed coasting, dotted not yet believed.",
    "Numbers": "Identity numbers.",
    "Trails": "Where the feet have been, fading with age.",
    "Forecast": "Where each would go if it kept its speed.",
    "Gates": "Where each was expected, and the ellipse within which a detection could be taken.",
    "Detections": "Boxes as Detect found them, before identities.",
    "Raw mask": "Pixels over the threshold, before any clean-up.",
    "Mask": "Pixels that Detect takes for moving, cleaned up.",
    "Shadow": "Pixels that Detect takes for cast shadow.",
    "Difference": "How far each pixel is from the background: bright is far.",
    "Background": "The empty scene as Detect believes it now.",
    "Errors": "Detections that are missing or wrong, where truth is loaded.",
    "Truth": "True boxes, where truth is loaded.",
}

_SHEET = f"""
QWidget#chips {{ background: #2B3431; }}
QPushButton {{
    background: transparent; color: #C9D0CC; border: 1px solid #51605A; border-radius: 11px;
    padding: 2px 7px; min-height: 16px;
}}
QPushButton:hover {{ border-color: #C9D0CC; }}
QPushButton:checked {{ background: #DDE7E1; color: {FIELD}; border-color: #DDE7E1; font-weight: 500; }}
QLabel {{ color: #A9B4AE; background: transparent; }}
QPushButton:focus {{ border-color: {PAPER}; }}
"""


class ChipRow(QWidget):
    """Switches for the overlays; ``toggled`` names one and says whether it is on."""

    toggled = Signal(str, bool)

    def __init__(self, shown: set[str]) -> None:
        super().__init__()
        self.setObjectName("chips")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, True)
        self.setStyleSheet(_SHEET)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 5, 12, 5)
        row.setSpacing(5)
        self.chips: dict[str, QPushButton] = {}
        for name in CHIPS:
            chip = QPushButton(name)
            chip.setCheckable(True)
            chip.setChecked(name in shown)
            chip.setToolTip(_TIPS[name])
            chip.toggled.connect(lambda on, name=name: self.toggled.emit(name, on))
            row.addWidget(chip)
            self.chips[name] = chip
        row.addStretch(1)

    def show_shown(self, shown: set[str]) -> None:
        """Show which overlays are on, without telling anybody."""
        for name, chip in self.chips.items():
            with QSignalBlocker(chip):
                chip.setChecked(name in shown)
