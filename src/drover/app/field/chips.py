"""The row of overlay switches above the field."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QSignalBlocker, Qt, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QWidget

from drover.app.field.still_ground import STILL
from drover.app.field.view import CHIPS
from drover.app.field.ways import WAYS
from drover.app.theme import DAY, FIELD

__all__ = ["ChipRow"]

_TIPS = {
    "Outlines": "Each object by its outline: solid detected, dashed coasting, dotted not yet believed.",
    "Numbers": "Identity numbers.",
    "Trails": "Where the foot points have been, fading with age.",
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
    STILL: "The ground stays where it is and the picture moves, as the camera's motion says.",
}

_SHEET = f"""
QWidget#chips {{ background: #2B3431; }}
QPushButton {{
    background: transparent; color: #C9D0CC; border: 1px solid #51605A; border-radius: 11px;
    padding: 2px 5px; min-height: 16px;
}}
QPushButton:hover {{ border-color: #C9D0CC; }}
QPushButton:checked {{ background: #DDE7E1; color: {FIELD}; border-color: #DDE7E1; font-weight: 500; }}
QLabel {{ color: #A9B4AE; background: transparent; }}
QPushButton:focus {{ border-color: {DAY}; }}
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
        row.setSpacing(3)
        self.chips: dict[str, QPushButton] = {}
        for name in CHIPS:
            chip = QPushButton(name)
            chip.setCheckable(True)
            chip.setChecked(name in shown)
            chip.setToolTip(_TIPS[name])
            chip.toggled.connect(lambda on, name=name: self.toggled.emit(name, on))
            row.addWidget(chip)
            self.chips[name] = chip
        self.offer_still(False)
        row.addWidget(self._make_ways(shown))
        row.addStretch(1)

    def _make_ways(self, shown: set[str]) -> QPushButton:
        """Where they went over the whole clip, behind one chip."""
        self.ways_chip = QPushButton("Ways ▾")
        self.ways_chip.setCheckable(True)
        self.ways_chip.setToolTip("Where they went over the whole clip.")
        self.menu = QMenu(self)
        self.ways: dict[str, QAction] = {}
        for name, tip in WAYS.items():
            action = QAction(name, self.menu)
            action.setCheckable(True)
            action.setChecked(name in shown)
            action.setToolTip(tip)
            action.toggled.connect(lambda on, name=name: self._toggle_way(name, on))
            self.menu.addAction(action)
            self.ways[name] = action
        self.menu.setToolTipsVisible(True)
        self.ways_chip.clicked.connect(self._open_ways)
        return self.ways_chip

    def _open_ways(self) -> None:
        self._tint_ways()
        self.menu.popup(self.ways_chip.mapToGlobal(QPoint(0, self.ways_chip.height())))

    def _toggle_way(self, name: str, on: bool) -> None:
        self.toggled.emit(name, on)
        self._tint_ways()

    def _tint_ways(self) -> None:
        with QSignalBlocker(self.ways_chip):
            self.ways_chip.setChecked(any(action.isChecked() for action in self.ways.values()))

    def offer_still(self, wanted: bool) -> None:
        """Whether the ground can be held still, which needs a camera that moves."""
        self.chips[STILL].setVisible(wanted)

    def show_shown(self, shown: set[str]) -> None:
        """Show which overlays are on, without telling anybody."""
        for name, chip in self.chips.items():
            with QSignalBlocker(chip):
                chip.setChecked(name in shown)
        for name, action in self.ways.items():
            with QSignalBlocker(action):
                action.setChecked(name in shown)
        self._tint_ways()
