"""The page of Count: lines, zones, alarms, errors, counts over time, the ground's measure."""

from __future__ import annotations

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from drover.app.dials.counting.ground_card import GroundCard
from drover.app.dials.counting.line_card import LineCard
from drover.app.dials.counting.lists import AlarmCard, CrossingErrors
from drover.app.dials.counting.over_time import OverTime
from drover.app.dials.counting.zone_card import ZoneCard
from drover.app.dials.parts import muted
from drover.app.moment_watch import MomentWatch
from drover.app.session import Session
from drover.app.wording import worded

__all__ = ["CountDials"]


class CountDials(QWidget):
    """Everything about counting, most used first."""

    new_line_wanted = Signal()
    new_zone_wanted = Signal()
    audit_wanted = Signal()

    def __init__(self, session: Session, watch: MomentWatch) -> None:
        super().__init__()
        self.session, self.watch = session, watch
        self.cards: list[LineCard] = []
        self.zones: list[ZoneCard] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(9)
        self._lines, self._zones = QVBoxLayout(), QVBoxLayout()
        for layout in (self._lines, self._zones):
            layout.setSpacing(9)
        column.addLayout(self._buttons())
        self.empty = muted("", wrap=True)
        told = "No counting line yet. Press L, then drag across the way the {many} take."
        worded(session, self.empty.setText, told)
        column.addWidget(self.empty)
        column.addLayout(self._lines)
        column.addLayout(self._zones)
        self.alarms, self.errors = AlarmCard(session), CrossingErrors(session)
        self.over_time, self.ground = OverTime(session), GroundCard(session)
        for card in (self.alarms, self.over_time, self.errors, self.ground):
            column.addWidget(card)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(100)  # lists and plots wait until a dragged line rests
        self._later.timeout.connect(self._refresh_lists)
        watch.changed.connect(self._show_bounds)
        session.recipe_changed.connect(self.refresh)
        session.crossings_changed.connect(self.refresh)
        session.truth_changed.connect(self.errors.refresh)
        session.audit_changed.connect(self._refresh_lines)
        session.frame_changed.connect(lambda _: self._show_inside())
        self.refresh()
        self._refresh_lists()

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.audit = QPushButton("Audit…")
        self.audit.setToolTip("Go through all crossings, one by one: confirm, reject, add what was missed.")
        for text, signal in (("New line (L)", self.new_line_wanted), ("New zone (Z)", self.new_zone_wanted)):
            button = QPushButton(text)
            button.clicked.connect(signal)
            row.addWidget(button)
        self.audit.clicked.connect(self.audit_wanted)
        row.addWidget(self.audit)
        row.addStretch(1)
        return row

    def refresh(self) -> None:
        """Show the lines and zones there are now."""
        count = self.session.recipe.count
        _fit(self.cards, len(count.line), self._lines, lambda n: LineCard(self.session, n))
        _fit(self.zones, len(count.zone), self._zones, lambda n: ZoneCard(self.session, n))
        self.empty.setVisible(not count.line)
        self.over_time.setVisible(bool(count.line))
        self._refresh_lines()
        for card in self.zones:
            card.refresh()
        self._later.start()

    def _refresh_lists(self) -> None:
        self.alarms.refresh()
        self.errors.refresh()
        self.over_time.refresh()

    def _refresh_lines(self) -> None:
        for card in self.cards:
            card.refresh()
        self._show_bounds()

    def _show_bounds(self) -> None:
        for card in self.cards:
            card.show_bounds(self.watch.bounds)

    def _show_inside(self) -> None:
        for card in self.zones:
            card.show_inside()


def _fit(cards: list, wanted: int, layout: QVBoxLayout, make) -> None:  # type: ignore[no-untyped-def]
    """Have as many cards as there are lines or zones."""
    while len(cards) > wanted:
        card = cards.pop()
        layout.removeWidget(card)
        card.deleteLater()
    while len(cards) < wanted:
        card = make(len(cards))
        cards.append(card)
        layout.addWidget(card)
