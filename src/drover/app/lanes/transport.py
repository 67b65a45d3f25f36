"""Transport: play, step, speed, and where we are."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QToolButton, QWidget

from drover.app.dials.parts import muted
from drover.app.icons import sign
from drover.app.playback import SPEEDS
from drover.app.theme import INK, MOSS, ON_MOSS, PAPER, RULE, number_font

__all__ = ["ORDERS", "TransportBar"]

ORDERS = {
    "trouble": "trouble", "birth": "birth", "line": "first crossing", "length": "length", "by class": "class",
    "by line": "line", "by zone": "zone",
}  # fmt: skip
STRIPS = {"none": "bars", "confidence": "confidence", "speed": "speed"}


class TransportBar(QWidget):
    """Buttons that say what is wanted; the window does it."""

    wanted = Signal(str)
    speed_wanted = Signal(float)
    order_wanted = Signal(str)
    strip_wanted = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, True)
        self.setStyleSheet(f"TransportBar {{ background: {PAPER}; border-bottom: 1px solid {RULE}; }}")
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 4, 10, 4)
        row.setSpacing(5)
        self.buttons: dict[str, QToolButton] = {}
        for name, tip in (
            ("home", "First frame (Home)"), ("previous", "One frame back (Left)"), ("play", "Play or pause (Space)"),
            ("next", "One frame on (Right)"), ("end", "Last frame (End)"),
        ):  # fmt: skip
            button = QToolButton()
            button.setIcon(sign(name, ON_MOSS if name == "play" else INK))
            button.setIconSize(QSize(16, 16))
            button.setToolTip(tip)
            button.setAccessibleName(tip)
            button.clicked.connect(lambda _=False, name=name: self.wanted.emit(name))
            if name == "play":
                button.setStyleSheet(f"QToolButton {{ background: {MOSS}; border-color: {MOSS}; padding: 4px 14px; }}")
            row.addWidget(button)
            self.buttons[name] = button
        row.addSpacing(8)
        self.clock = QLabel("00:00.00")
        self.clock.setFont(number_font(14, bold=True))
        row.addWidget(self.clock)
        self.place = muted("no clip")
        self.place.setFont(number_font(12))
        row.addWidget(self.place)
        row.addSpacing(8)
        self.speed = QComboBox()
        self.speed.setToolTip("Playing speed")
        for value in SPEEDS:
            self.speed.addItem(f"{value:g}×", value)
        self.speed.setCurrentIndex(SPEEDS.index(1.0))
        self.speed.currentIndexChanged.connect(lambda at: self.speed_wanted.emit(SPEEDS[at]))
        row.addWidget(self.speed)
        row.addStretch(1)
        self.summary = muted("")
        row.addWidget(self.summary)
        row.addSpacing(10)
        self.strip = QComboBox()
        for key, text in STRIPS.items():
            self.strip.addItem(text, key)
        self.strip.setToolTip("What the lanes show: bars alone, or how sure or how fast along them.")
        self.strip.setAccessibleName("what the lanes show")
        self.strip.currentIndexChanged.connect(lambda at: self.strip_wanted.emit(self.strip.itemData(at)))
        row.addWidget(self.strip)
        row.addSpacing(6)
        row.addWidget(muted("order by"))
        self.order = QComboBox()
        for key, text in ORDERS.items():
            self.order.addItem(text, key)
        self.order.setToolTip("Trouble: identities that coasted longest come first.")
        self.order.currentIndexChanged.connect(lambda at: self.order_wanted.emit(self.order.itemData(at)))
        row.addWidget(self.order)

    def show_playing(self, playing: bool) -> None:
        """Show play or pause on the button."""
        self.buttons["play"].setIcon(sign("pause" if playing else "play", ON_MOSS))

    def show_place(self, time: float, frame: int, frames: int) -> None:
        """Show the moment and the frame, counted from 1."""
        minutes, seconds = divmod(time, 60)
        self.clock.setText(f"{int(minutes):02d}:{seconds:05.2f}")
        self.place.setText(f"frame {frame + 1} of {frames}")
