"""Every control can be reached by keyboard and has a name for assistive technology; focus can be seen."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QProgressBar,
    QSlider,
    QWidget,
)

from drover.app.batch.dialog import BatchDialog
from drover.app.preferences_dialog import PreferencesDialog
from drover.app.session import STAGES
from drover.app.sources.dialog import SourceDialog
from drover.core.recipe import Recipe

KINDS = (
    QAbstractButton, QAbstractItemView, QAbstractSpinBox, QComboBox, QLineEdit, QPlainTextEdit, QProgressBar, QSlider,
)  # fmt: skip


def controls(root: QWidget) -> list[QWidget]:
    """What can be worked with, without the parts that controls are made of."""
    found = [widget for kind in KINDS for widget in root.findChildren(kind)]
    return [
        widget for widget in dict.fromkeys(found)
        if not isinstance(widget.parent(), (QComboBox, QAbstractSpinBox, QAbstractItemView))
        and not widget.objectName().startswith("qt_")
        and not any(isinstance(above, QComboBox) for above in _above(widget))
    ]  # fmt: skip


def _above(widget: QWidget) -> list[QWidget]:
    above, found = widget.parentWidget(), []
    while above is not None:
        found.append(above)
        above = above.parentWidget()
    return found


def name_of(widget: QWidget, buddies: set[QWidget]) -> str:
    text = widget.text() if isinstance(widget, QAbstractButton) else ""
    return widget.accessibleName() or text or widget.toolTip() or ("buddy" if widget in buddies else "")


def nameless(root: QWidget) -> list[str]:
    buddies = {label.buddy() for label in root.findChildren(QLabel) if label.buddy() is not None}
    return [
        f"{type(widget).__name__} in {'/'.join(type(one).__name__ for one in _above(widget)[:4])}"
        for widget in controls(root)
        if not name_of(widget, buddies)
    ]


def unreachable(root: QWidget) -> list[str]:
    return [
        f"{type(widget).__name__} {name_of(widget, set())}"
        for widget in controls(root)
        if not isinstance(widget, QProgressBar) and not widget.focusPolicy() & Qt.FocusPolicy.TabFocus
    ]


def test_every_control_of_the_window_has_a_name_and_can_be_reached(opened):
    for stage in STAGES:
        opened.strip.choose(stage)
    assert "\n".join(nameless(opened)) == ""
    assert unreachable(opened) == []


def test_so_has_every_control_of_every_dialog(qtbot, tmp_path, opened):
    dialogs = [
        SourceDialog(Recipe()), BatchDialog(Recipe()), PreferencesDialog(opened.session.store),
        opened.exports.ask_files(), opened.exports.ask_video(),
    ]  # fmt: skip
    for dialog in dialogs:
        assert "\n".join(nameless(dialog)) == ""
        assert unreachable(dialog) == []
        dialog.close()


def test_focus_is_seen(opened, qtbot):
    opened.strip.choose("count")
    button = opened.transport.buttons["next"]
    other = opened.transport.buttons["play"]
    other.setFocus()
    before = button.grab().toImage()
    button.setFocus()
    qtbot.waitUntil(button.hasFocus)
    assert button.grab().toImage() != before
