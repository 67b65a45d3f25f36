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

from drover.app.theme import CLAY, INK, MOSS, RULE, TINT, number_font
from drover.core.recipe import AUTO, is_auto
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
    """A number with its unit; the wheel does nothing until it has the focus.

    A number that may be left to the clip has one place more below its least: auto, where it shows what was taken.
    """

    settled = Signal(float)

    def __init__(self, info: SettingInfo) -> None:
        super().__init__()
        self.info = info
        self.setRange(info.low - info.step if info.auto else info.low, info.high)
        self.setSingleStep(info.step)
        self.setDecimals(0 if info.whole or info.step >= 1 else 2 if info.step < 0.1 else 1)
        self.setSuffix(f" {info.unit}" if info.unit != "fraction" else "")
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setFont(number_font(12))
        self.setFixedWidth(112)
        self.setKeyboardTracking(False)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(_tip(info))
        self.taken: float | None = None
        if info.auto:
            self.show_taken(None)
        self.valueChanged.connect(lambda value: self.settled.emit(AUTO if self.on_auto else value))

    @property
    def on_auto(self) -> bool:
        """Whether the number is left to the clip."""
        return self.info.auto and self.value() < self.info.low

    def show_value(self, value: float) -> None:
        """Show a value without telling anybody."""
        with QSignalBlocker(self):
            self.setValue(self.minimum() if self.info.auto and is_auto(value) else value)

    def show_taken(self, value: float | None) -> None:
        """While it is on auto, show the value that was taken for this clip."""
        self.taken = value
        self.setSpecialValueText("not known yet" if value is None else f"{self.textFromValue(value)}{self.suffix()}")

    def stepBy(self, steps: int) -> None:
        """From auto, a step up begins at what was taken."""
        if self.on_auto and steps > 0 and self.taken is not None:
            self.setValue(max(self.taken, self.info.low))
        else:
            super().stepBy(steps)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():
            super().wheelEvent(event)
        else:
            event.ignore()


def _tip(info: SettingInfo) -> str:
    number = "{:.0f}" if info.whole else "{:g}"
    low, high = number.format(info.low), number.format(info.high)
    default = "auto" if is_auto(info.default) else number.format(info.default)
    auto = ", or auto: as the clip has it" if info.auto else ""
    return f"{info.help}\n{low} to {high} {info.unit}{auto}; {default} if nothing is set. Up and down keys step."


_SWITCH = (
    f"QToolButton {{ border: 1px solid {RULE}; border-radius: 4px; padding: 2px 0; background: transparent; }}"
    f"QToolButton:checked {{ background: {TINT}; border-color: {MOSS}; }}"
    f"QToolButton:focus {{ border-color: {INK}; }}"
)


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
        if self.box.info.auto:
            self.auto = QToolButton()
            self.auto.setText("auto")
            self.auto.setCheckable(True)
            self.auto.setFont(number_font(11))
            self.auto.setFixedWidth(44)
            self.auto.setStyleSheet(_SWITCH)
            self.auto.setAccessibleName(f"{label}: auto")
            self.auto.setToolTip("Leave it to the clip. Off: begin at what was taken.")
            self.auto.clicked.connect(self._switch)
            row.addWidget(self.auto)
        row.addWidget(self.box)

    def show_value(self, value: float) -> None:
        """Show a value without telling anybody."""
        self.box.show_value(value)
        if self.box.info.auto:
            self.auto.setChecked(self.box.on_auto)

    def _switch(self, on: bool) -> None:
        usual = self.box.taken if self.box.taken is not None else self.box.info.low
        self.box.setValue(self.box.minimum() if on else max(usual, self.box.info.low))


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
