"""Dials of Count: each line with its totals, and the count over time."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import Card, muted
from drover.app.session import Session
from drover.app.theme import INK, MOSS, MUTED, OCHRE, RULE, number_font
from drover.core.count.tallies import tally
from drover.core.errors import DroverError
from drover.core.recipe import LineSettings, with_value

__all__ = ["CountDials", "LineCard"]

POINT_NAMES = {"foot": "foot of the box", "centre": "centre of the box"}


class LineCard(Card):
    """One line: name, totals, reference point, corner points in fractions, reverse and remove."""

    def __init__(self, session: Session, number: int) -> None:
        super().__init__("Line")
        self.session, self.number = session, number
        self.name = QLineEdit()
        self.name.setMaxLength(60)
        self.name.setAccessibleName("line name")
        self.name.editingFinished.connect(self._rename)
        self.totals = QGridLayout()
        self.cells: dict[str, QLabel] = {}
        self._build_totals()
        self.reference = QComboBox()
        for key, text in POINT_NAMES.items():
            self.reference.addItem(text, key)
        self.reference.setToolTip("Which point of each animal must cross the line.")
        self.reference.currentIndexChanged.connect(self._set_reference)
        self.points = QLineEdit()
        self.points.setFont(number_font(11))
        self.points.setToolTip(
            "Corner points as x, y in fractions of width and height; points are parted by a semicolon."
        )
        self.points.editingFinished.connect(self._set_points)
        for label, widget in (("name", self.name), ("counts the", self.reference), ("points", self.points)):
            row = QHBoxLayout()
            row.addWidget(QLabel(label))
            row.addStretch(1)
            widget.setFixedWidth(204)
            row.addWidget(widget)
            self.body.addLayout(row)
        self.body.addLayout(self.totals)
        buttons = QHBoxLayout()
        self.turn = QPushButton("Reverse")
        self.turn.setToolTip("Forward becomes back. The arrow on the field shows forward.")
        self.turn.clicked.connect(self._reverse)
        self.drop = QPushButton("Remove")
        self.drop.clicked.connect(self._remove)
        buttons.addWidget(self.turn)
        buttons.addWidget(self.drop)
        buttons.addStretch(1)
        self.body.addLayout(buttons)
        self.refresh()

    def _build_totals(self) -> None:
        for column, text in enumerate(("", "identities", "passages"), 0):
            self.totals.addWidget(
                muted(text), 0, column, Qt.AlignmentFlag.AlignRight if column else Qt.AlignmentFlag.AlignLeft
            )
        for row, name in enumerate(("forward", "back", "net"), 1):
            self.totals.addWidget(QLabel(name), row, 0)
            for column, kind in enumerate(("identities", "passages"), 1):
                cell = QLabel("-")
                cell.setFont(number_font(13, bold=True))
                cell.setAlignment(Qt.AlignmentFlag.AlignRight)
                self.totals.addWidget(cell, row, column)
                self.cells[f"{name} {kind}"] = cell
        self.totals.setColumnStretch(0, 1)
        self.totals.setHorizontalSpacing(18)

    @property
    def line(self) -> LineSettings:
        """The line's settings now."""
        return self.session.recipe.count.line[self.number]

    def refresh(self) -> None:
        """Show the line and its totals as they are now."""
        line = self.line
        if not self.name.hasFocus():
            self.name.setText(line.name)
        if not self.points.hasFocus():
            self.points.setText("; ".join(f"{x:.3f}, {y:.3f}" for x, y in line.points))
            self.points.setCursorPosition(0)
        with QSignalBlocker(self.reference):
            self.reference.setCurrentIndex(list(POINT_NAMES).index(line.reference))
        crossings = self.session.crossings
        if crossings is None or self.number >= len(crossings.line_names):
            return
        t = tally(crossings, self.number)
        values = {
            "forward identities": t.identities_forward, "back identities": t.identities_back,
            "net identities": t.identities_forward - t.identities_back,
            "forward passages": t.forward, "back passages": t.back, "net passages": t.net,
        }  # fmt: skip
        for name, value in values.items():
            self.cells[name].setText(str(value).replace("-", "−"))
        unseen = int((~crossings.seen[crossings.line == self.number]).sum())
        self.note.setText(f"{unseen} crossed unseen" if unseen else "")

    def _change(self, update: dict[str, object], what: str) -> None:
        lines = [line.model_dump() for line in self.session.recipe.count.line]
        lines[self.number] |= update
        try:
            self.session.edit(with_value(self.session.recipe, "count.line", lines), what)
        except DroverError as error:
            self.session.message_raised.emit(str(error))
            self.name.clearFocus()
            self.points.clearFocus()
            self.refresh()

    def _rename(self) -> None:
        if self.name.text().strip() != self.line.name:
            self._change({"name": self.name.text().strip()}, "rename line")

    def _set_reference(self, index: int) -> None:
        self._change({"reference": self.reference.itemData(index)}, "change reference point")

    def _set_points(self) -> None:
        shown = "; ".join(f"{x:.3f}, {y:.3f}" for x, y in self.line.points)
        if self.points.text() == shown:
            return
        try:
            pairs = [[float(v) for v in part.split(",")] for part in self.points.text().split(";")]
            if any(len(pair) != 2 for pair in pairs):
                raise ValueError
        except ValueError:
            self.session.message_raised.emit(
                "points must be pairs of fractions such as 0.51, 0.40; 0.50, 0.62; the line stays as it was"
            )
            self.points.clearFocus()
            self.refresh()
            return
        self._change({"points": pairs}, "set line points")

    def _reverse(self) -> None:
        self._change({"points": self.line.points[::-1]}, f"reverse line '{self.line.name}'")

    def _remove(self) -> None:
        lines = [line.model_dump() for n, line in enumerate(self.session.recipe.count.line) if n != self.number]
        self.session.edit(with_value(self.session.recipe, "count.line", lines), f"remove line '{self.line.name}'")


class CountDials(QWidget):
    """All lines, a button for one more, and the running count of the first line."""

    new_line_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.cards: list[LineCard] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(9)
        self._lines = QVBoxLayout()
        self._lines.setSpacing(9)
        column.addLayout(self._lines)
        self.empty = muted("No counting line yet. Press L, then drag across the way the animals take.", wrap=True)
        column.addWidget(self.empty)
        button = QPushButton("New line (L)")
        button.clicked.connect(self.new_line_wanted)
        column.addWidget(button)
        self._over_time = self._make_plot()
        column.addWidget(self._over_time)
        session.recipe_changed.connect(self.refresh)
        session.crossings_changed.connect(self.refresh)
        session.frame_changed.connect(lambda frame: self._move_cursor())
        self.refresh()

    def _make_plot(self) -> Card:
        card = Card("Over time")
        self.plot = pg.PlotWidget(background="#F1EEE7")
        self.plot.setFixedHeight(132)
        self.plot.setMenuEnabled(False)
        self.plot.hideButtons()
        self.plot.setMouseEnabled(False, False)
        for name in ("left", "bottom"):
            axis = self.plot.getAxis(name)
            axis.setTickFont(number_font(10))
            axis.setPen(RULE)
            axis.setTextPen(MUTED)
        self.plot.getAxis("left").setWidth(26)
        self._forward = self.plot.plot(pen=pg.mkPen(MOSS, width=2.2))
        self._back = self.plot.plot(pen=pg.mkPen(OCHRE, width=2.2, style=Qt.PenStyle.DashLine))
        self._cursor = pg.InfiniteLine(angle=90, pen=pg.mkPen(INK, width=1))
        self.plot.addItem(self._cursor)
        card.body.addWidget(self.plot)
        key = muted("solid forward, dashed back; identities against seconds", wrap=True)
        card.body.addWidget(key)
        card.body.setSpacing(5)
        return card

    def refresh(self) -> None:
        """Show the lines there are now."""
        lines = self.session.recipe.count.line
        while len(self.cards) > len(lines):
            card = self.cards.pop()
            self._lines.removeWidget(card)
            card.deleteLater()
        while len(self.cards) < len(lines):
            card = LineCard(self.session, len(self.cards))
            self.cards.append(card)
            self._lines.addWidget(card)
        for card in self.cards:
            card.refresh()
        self.empty.setVisible(not lines)
        self._over_time.setVisible(bool(lines))
        self._draw_curves()

    def _draw_curves(self) -> None:
        crossings, clip = self.session.crossings, self.session.clip
        if crossings is None or clip is None:
            return
        self._over_time.note.setText(crossings.line_names[0] if crossings.line_names else "")
        for curve, direction in ((self._forward, 1), (self._back, -1)):
            rows = (crossings.line == 0) & (crossings.direction == direction)
            first = np.sort(np.unique(crossings.identity[rows], return_index=True)[1])
            times = np.concatenate([[0.0], crossings.time[rows][first], [clip.duration]])
            counts = np.concatenate([[0], np.arange(1, len(first) + 1), [len(first)]])
            curve.setData(np.repeat(times, 2)[1:], np.repeat(counts, 2)[:-1])
        self._move_cursor()

    def _move_cursor(self) -> None:
        if self.session.clip is not None:
            self._cursor.setValue(float(self.session.clip.times[self.session.frame]))
