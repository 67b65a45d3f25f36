"""A card for one line or zone: rows that show a field of it and change it as one edit."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QLayout, QLineEdit, QWidget

from drover.app.dials.parts import Card, NumberBox
from drover.app.session import Session
from drover.app.theme import number_font
from drover.core.count.edits import with_copy, with_item, without_item
from drover.core.errors import DroverError
from drover.core.recipe import LineSettings, ZoneSettings
from drover.core.setting_info import item_info

__all__ = ["ItemCard", "points_from_text", "text_of_points"]

FIELD_WIDTH = 204


def text_of_points(points: tuple[tuple[float, float], ...]) -> str:
    """Points as they are typed: x, y; x, y."""
    return "; ".join(f"{x:.3f}, {y:.3f}" for x, y in points)


def points_from_text(text: str) -> list[list[float]]:
    """Typed points.

    Raises
    ------
    ValueError
        When they are not pairs of numbers.
    """
    pairs = [[float(v) for v in part.split(",")] for part in text.split(";") if part.strip()]
    if any(len(pair) != 2 for pair in pairs):
        raise ValueError
    return pairs


class ItemCard(Card):
    """Shows and edits the ``number``-th line or zone of the recipe."""

    kind: Literal["line", "zone"]
    model: type[LineSettings] | type[ZoneSettings]

    def __init__(self, session: Session, number: int, heading: str) -> None:
        super().__init__(heading)
        self.session, self.number = session, number
        self._shows: list[Callable[[], None]] = []
        self.fields: dict[str, QWidget] = {}

    @property
    def item(self) -> LineSettings | ZoneSettings:
        """The line or zone as the recipe has it now."""
        items = getattr(self.session.recipe.count, self.kind)
        return items[min(self.number, len(items) - 1)]

    def show_item(self) -> None:
        """Show all fields as they are now."""
        for show in self._shows:
            show()

    # --- rows -----------------------------------------------------------------------------------------------

    def add_text(self, label: str, name: str, where: QLayout | None = None, tip: str = "") -> QLineEdit:
        """A row for a name, or for names parted by commas."""
        box = QLineEdit()
        box.setMaxLength(200)
        box.setAccessibleName(f"{self.kind} {label}")
        box.setPlaceholderText("all" if name == "classes" else "")
        box.setToolTip(tip or self.model.model_fields[name].description or "")

        def show() -> None:
            if not box.hasFocus():
                value = getattr(self.item, name)
                box.setText(", ".join(value) if isinstance(value, tuple) else value)

        def take() -> None:
            value = getattr(self.item, name)
            said: object = box.text().strip()
            if isinstance(value, tuple):
                said = tuple(part.strip() for part in box.text().split(",") if part.strip())
            if said != value:
                self.change({name: said}, f"set {label} of {self.kind} '{self.item.name}'")

        box.editingFinished.connect(take)
        self._add(label, name, box, show, where)
        return box

    def add_points(self, where: QLayout | None = None) -> QLineEdit:
        """A row for the corner points in fractions."""
        box = QLineEdit()
        box.setFont(number_font(11))
        box.setAccessibleName(f"{self.kind} points")
        box.setToolTip("Corner points as x, y in fractions of width and height; points are parted by a semicolon.")

        def show() -> None:
            if not box.hasFocus():
                box.setText(text_of_points(self.item.points))
                box.setCursorPosition(0)

        def take() -> None:
            if box.text() == text_of_points(self.item.points):
                return
            try:
                pairs = points_from_text(box.text())
            except ValueError:
                self.session.message_raised.emit(
                    f"points must be pairs of fractions such as 0.51, 0.40; 0.50, 0.62; the {self.kind} stays as it was"
                )
                box.clearFocus()
                self.show_item()
                return
            self.change({"points": pairs}, f"set {self.kind} points")

        box.editingFinished.connect(take)
        self._add("points", "points", box, show, where)
        return box

    def add_choice(
        self, label: str, name: str, words: Callable[[], dict[str, str]], where: QLayout | None = None
    ) -> QComboBox:
        """A row for one of a few words; ``words`` gives them anew each time."""
        box = QComboBox()
        box.setAccessibleName(f"{self.kind} {label}")
        box.setToolTip(self.model.model_fields[name].description or "")

        def show() -> None:
            with QSignalBlocker(box):
                box.clear()
                for key, text in words().items():
                    box.addItem(text, key)
                box.setCurrentIndex(max(0, box.findData(getattr(self.item, name))))

        box.activated.connect(
            lambda at: self.change({name: box.itemData(at)}, f"set {label} of {self.kind} '{self.item.name}'")
        )
        self._add(label, name, box, show, where)
        return box

    def add_number(self, label: str, name: str, where: QLayout | None = None) -> NumberBox:
        """A row for a number with its unit."""
        box = NumberBox(item_info(self.model, name))
        box.setAccessibleName(f"{self.kind} {label}")
        whole = box.info.whole

        def take(value: float) -> None:
            self.change({name: int(value) if whole else value}, f"set {label} of {self.kind} '{self.item.name}'")

        box.settled.connect(take)
        self._add(label, name, box, lambda: box.show_value(float(getattr(self.item, name))), where, width=112)
        return box

    def _add(
        self,
        label: str,
        name: str,
        box: QWidget,
        show: Callable[[], None],
        where: QLayout | None,
        *,
        width: int = FIELD_WIDTH,
    ) -> None:
        row = QHBoxLayout()
        text = QLabel(label)
        text.setBuddy(box)
        row.addWidget(text)
        row.addStretch(1)
        box.setFixedWidth(width)
        row.addWidget(box)
        (self.body if where is None else where).addLayout(row)  # type: ignore[attr-defined]
        self._shows.append(show)
        self.fields[name] = box

    # --- changes --------------------------------------------------------------------------------------------

    def change(self, update: dict[str, object], what: str) -> bool:
        """Change fields as one edit; False where the recipe does not allow it, which is said."""
        try:
            self.session.edit(with_item(self.session.recipe, self.kind, self.number, update), what)
        except DroverError as error:
            return self._refuse(error)
        return True

    def copy(self) -> None:
        """Add a copy, a little aside."""
        self.session.edit(
            with_copy(self.session.recipe, self.kind, self.number), f"copy {self.kind} '{self.item.name}'"
        )

    def remove(self) -> None:
        """Take it away."""
        self.session.edit(
            without_item(self.session.recipe, self.kind, self.number), f"remove {self.kind} '{self.item.name}'"
        )

    def _refuse(self, error: DroverError) -> bool:
        self.session.message_raised.emit(str(error))
        for field in self.fields.values():
            field.clearFocus()
        self.show_item()
        return False
