"""What dials are built from: cards, rows, and numbers with their units."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from drover.app.theme import CLAY, INK, number_font
from drover.core.setting_info import SettingInfo, setting_info

__all__ = ["Card", "ChoiceRow", "Folded", "NumberBox", "SettingRow", "muted", "notice", "title"]


def title(text: str) -> QLabel:
    """A heading."""
    label = QLabel(text)
    label.setProperty("role", "title")
    return label


def muted(text: str = "", *, wrap: bool = False) -> QLabel:
    """A quiet line of text."""
    label = QLabel(text)
    label.setProperty("role", "muted")
    label.setWordWrap(wrap)
    return label


def notice() -> QLabel:
    """A warning that stays as long as it holds; hidden at first."""
    label = QLabel()
    label.setWordWrap(True)
    label.setStyleSheet(f"color: {CLAY}; border-left: 3px solid {CLAY}; padding: 2px 8px;")
    label.hide()
    return label


class Card(QFrame):
    """A titled box; ``note`` stands right of the title."""

    def __init__(self, heading: str) -> None:
        super().__init__()
        self.setProperty("role", "card")
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(11, 9, 11, 10)
        self.body.setSpacing(7)
        head = QHBoxLayout()
        self.heading = title(heading)
        head.addWidget(self.heading)
        head.addStretch(1)
        self.note = muted()
        head.addWidget(self.note)
        self.body.addLayout(head)


class NumberBox(QDoubleSpinBox):
    """A number with its unit; the wheel does nothing until it has the focus."""

    settled = Signal(float)

    def __init__(self, info: SettingInfo) -> None:
        super().__init__()
        self.info = info
        self.setRange(info.low, info.high)
        self.setSingleStep(info.step)
        self.setDecimals(0 if info.whole or info.step >= 1 else 2 if info.step < 0.1 else 1)
        self.setSuffix(f" {info.unit}" if info.unit != "fraction" else "")
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setFont(number_font(12))
        self.setFixedWidth(112)
        self.setKeyboardTracking(False)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(_tip(info))
        self.valueChanged.connect(self.settled)

    def show_value(self, value: float) -> None:
        """Show a value without telling anybody."""
        with QSignalBlocker(self):
            self.setValue(value)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():
            super().wheelEvent(event)
        else:
            event.ignore()


def _tip(info: SettingInfo) -> str:
    number = "{:.0f}" if info.whole else "{:g}"
    low, high, default = (number.format(value) for value in (info.low, info.high, info.default))
    return f"{info.help}\n{low} to {high} {info.unit}; {default} if nothing is set. Up and down keys step."


class SettingRow(QWidget):
    """A setting's name and number. ``changed`` carries the dotted path and the new value."""

    changed = Signal(str, float)

    def __init__(self, label: str, path: str) -> None:
        super().__init__()
        self.path = path
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        name = QLabel(label)
        row.addWidget(name)
        row.addStretch(1)
        self.box = NumberBox(setting_info(path))
        self.box.setAccessibleName(label)
        name.setToolTip(self.box.toolTip())
        name.setBuddy(self.box)
        self.box.settled.connect(lambda value: self.changed.emit(path, value))
        row.addWidget(self.box)


class ChoiceRow(QWidget):
    """A setting that is one of a few words. ``changed`` carries the dotted path and the word."""

    changed = Signal(str, str)

    def __init__(self, label: str, path: str, words: dict[str, str], help_text: str) -> None:
        super().__init__()
        self.path, self._keys = path, list(words)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(QLabel(label))
        row.addStretch(1)
        self.box = QComboBox()
        self.box.setAccessibleName(label)
        self.box.setToolTip(help_text)
        self.box.setFixedWidth(168)
        for key, text in words.items():
            self.box.addItem(text, key)
        self.box.currentIndexChanged.connect(lambda at: self.changed.emit(path, self._keys[at]))
        row.addWidget(self.box)

    def show_value(self, value: object) -> None:
        """Show a choice without telling anybody."""
        with QSignalBlocker(self.box):
            self.box.setCurrentIndex(self._keys.index(str(value)))


class Folded(QWidget):
    """Less used dials behind a heading that opens on a click."""

    def __init__(self, heading: str) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        self.switch = QToolButton()
        self.switch.setText(heading)
        self.switch.setCheckable(True)
        self.switch.setArrowType(Qt.ArrowType.RightArrow)
        self.switch.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.switch.setStyleSheet(
            f"QToolButton {{ border: 0; background: transparent; color: {INK}; padding: 2px 0; }}"
        )
        self.inside = QWidget()
        self.inside.setStyleSheet("background: transparent;")
        self.rows = QVBoxLayout(self.inside)
        self.rows.setContentsMargins(0, 0, 0, 0)
        self.rows.setSpacing(5)
        self.inside.hide()
        self.switch.toggled.connect(self._open)
        layout.addWidget(self.switch)
        layout.addWidget(self.inside)

    def _open(self, on: bool) -> None:
        self.switch.setArrowType(Qt.ArrowType.DownArrow if on else Qt.ArrowType.RightArrow)
        self.inside.setVisible(on)
