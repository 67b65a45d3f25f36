"""The link between a page of dials and the recipe."""

from __future__ import annotations

from pydantic import BaseModel
from PySide6.QtWidgets import QVBoxLayout, QWidget

from drover.app.dials.evidence_plot import EvidencePlot
from drover.app.dials.parts import ChoiceRow, SettingRow
from drover.app.session import Session
from drover.core.errors import DroverError
from drover.core.recipe import is_auto, value_of, with_value
from drover.core.setting_info import setting_help, setting_info, value_below

__all__ = ["SettingsPage"]


class SettingsPage(QWidget):
    """A page whose rows and plots show the recipe and change it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.rows: dict[str, SettingRow] = {}
        self.plots: dict[str, EvidencePlot] = {}
        self.choices: dict[str, ChoiceRow] = {}
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(9)
        session.recipe_changed.connect(self.show_recipe)

    def row(self, label: str, path: str) -> SettingRow:
        """A row for the setting at a dotted path."""
        made = SettingRow(label, path)
        made.changed.connect(self.set_value)
        self.rows[path] = made
        made.show_value(float(value_of(self.session.recipe, path)))
        return made

    def choice(self, label: str, path: str, words: dict[str, str]) -> ChoiceRow:
        """A row for a setting that is one of a few words; "True" and "False" stand for a switch."""
        made = ChoiceRow(label, path, words, setting_help(path))
        made.changed.connect(self._choose)
        self.choices[path] = made
        made.show_value(value_of(self.session.recipe, path))
        return made

    def _choose(self, path: str, word: str) -> None:
        value: str | bool = word == "True" if word in ("True", "False") else word
        changed = with_value(self.session.recipe, path, value)
        self.session.edit(changed, f"set {path.split('.')[-1].replace('_', ' ')}")

    def evidence(self, path: str, *, keep_below: bool, log_counts: bool = False) -> EvidencePlot:
        """A plot with a handle for the setting at a dotted path."""
        made = EvidencePlot(setting_info(path), keep_below=keep_below, log_counts=log_counts)
        made.changing.connect(lambda value: self._preview(path, value))
        made.changed.connect(lambda value: self.set_value(path, value))
        self.plots[path] = made
        made.show_value(float(value_of(self.session.recipe, path)))
        return made

    def show_recipe(self) -> None:
        """Show what the recipe says now."""
        for path, row in self.rows.items():
            row.show_value(float(value_of(self.session.recipe, path)))
        for path, choice in self.choices.items():
            choice.show_value(value_of(self.session.recipe, path))
        for path, plot in self.plots.items():
            plot.show_value(float(value_of(self.session.recipe, path)))

    def show_taken(self, stage: str, taken: BaseModel | None) -> None:
        """Show on everything of a stage that is on auto what was taken for this clip; None where nobody knows yet."""
        for path, shown in (*((p, row.box) for p, row in self.rows.items()), *self.plots.items()):
            if path.startswith(f"{stage}.") and shown.info.auto:
                shown.show_taken(None if taken is None else value_below(taken, path.split(".", 1)[1]))

    def set_value(self, path: str, value: float) -> None:
        """Make a value the setting, as one edit."""
        try:
            changed = with_value(self.session.recipe, path, self._kind(path, value))
        except DroverError as error:
            self.session.message_raised.emit(str(error))
            return
        self.session.edit(changed, f"set {path.split('.')[-1].replace('_', ' ')}")

    def _preview(self, path: str, value: float) -> None:
        self.session.preview(with_value(self.session.recipe, path, self._kind(path, value)))

    @staticmethod
    def _kind(path: str, value: float) -> float | int:
        info = setting_info(path)
        if info.auto and is_auto(value):
            return value
        held = min(max(value, info.low), info.high)
        return round(held) if info.whole else held
