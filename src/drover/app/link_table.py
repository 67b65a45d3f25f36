"""The links of the frame shown: what each track of a group would have paid for each detection, and what was chosen."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QColor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QLabel,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import muted, title
from drover.app.link_notes import LinkNotes
from drover.app.session import Session
from drover.app.theme import INK, MUTED_TEXT, TINT, identity_colour, number_font
from drover.core.track.explain import Candidate, LinkNote, group_of

__all__ = ["LinkTable"]


class LinkTable(QDialog):
    """Follows the frame and the identity chosen; a cell tells of one pair, its terms stand below."""

    def __init__(self, session: Session, notes: LinkNotes, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Links of this frame")
        self.resize(620, 420)
        self.session, self.notes = session, notes
        self.group: tuple[LinkNote, ...] = ()
        self.rows: tuple[int, ...] = ()
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(8)
        head = QHBoxLayout()
        self.head = title("")
        head.addWidget(self.head)
        head.addStretch(1)
        head.addWidget(muted("cost of each pair; the chosen ones stand out, a dash was refused"))
        column.addLayout(head)
        self.table = QTableWidget()
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setAccessibleName("costs of pairs")
        self.table.currentCellChanged.connect(lambda row, at, *_: self._show_pair(row, at))
        column.addWidget(self.table, 1)
        self.words, self.pair = QLabel(""), muted("", wrap=True)
        self.words.setWordWrap(True)
        self.words.setAccessibleName("why this link")
        self.pair.setAccessibleName("terms of the pair")
        column.addWidget(self.words)
        column.addWidget(self.pair)
        notes.want("table", True)
        notes.ready.connect(self.refresh)
        session.frame_changed.connect(self._on_frame)
        session.clip_changed.connect(self.close)
        self.refresh()

    def _on_frame(self, _: int) -> None:
        if self.notes.frame == self.session.frame:
            self.refresh()

    def refresh(self) -> None:
        """Show the group of the identity chosen in the frame shown."""
        chosen = self.session.selected
        note = self.notes.of(chosen)
        self.head.setText(f"Frame {self.session.frame + 1}" + (f", identity {self._called(chosen)}" if chosen else ""))
        self.group, self.rows = ((), ()) if note is None else group_of(note, self.notes.notes)
        self.table.setRowCount(len(self.group))
        self.table.setColumnCount(len(self.rows))
        self.pair.setText("")
        if note is None:
            self.words.setText(
                "Choose an identity that is alive in this frame." if chosen is None else f"{chosen} is not alive here."
            )
            return
        self.words.setText(note.words + ".")
        self.table.setHorizontalHeaderLabels([f"box {k}" for k in range(1, len(self.rows) + 1)])
        for row, one in enumerate(self.group):
            name = QTableWidgetItem(str(one.identity) if one.identity else "new")
            if one.identity:
                name.setForeground(QColor(identity_colour(one.identity)).darker(160))
            self.table.setVerticalHeaderItem(row, name)
            for at, detection in enumerate(self.rows):
                self.table.setItem(row, at, _cell(_candidate(one, detection)))
        self.table.resizeColumnsToContents()
        mine = next((k for k, one in enumerate(self.group) if one is note), 0)
        taken = next((k for k, d in enumerate(self.rows) if (c := _candidate(note, d)) is not None and c.chosen), 0)
        if self.rows:
            self.table.setCurrentCell(mine, taken)
            self._show_pair(mine, taken)

    def _called(self, identity: int) -> str:
        name = self.session.names.get(identity)
        return f"{identity}, {name}" if name else str(identity)

    def _show_pair(self, row: int, at: int) -> None:
        if not (0 <= row < len(self.group) and 0 <= at < len(self.rows)):
            return
        note = self.group[row]
        pair = _candidate(note, self.rows[at])
        who = str(note.identity) if note.identity else "a track not yet believed"
        if pair is None:
            self.pair.setText(f"{who} and box {at + 1} are too far apart to be a pair.")
            return
        terms = ", ".join(f"{name} {value:.2f}" for name, value in pair.terms.items())
        state = "taken" if pair.chosen else pair.refused or "free"
        self.pair.setText(
            f"{who} and box {at + 1}: {pair.distance:.1f} σ apart, cost {pair.cost:.2f} of {terms}: {state}."
        )

    def closeEvent(self, event: QCloseEvent) -> None:
        self.notes.want("table", False)
        super().closeEvent(event)


def _candidate(note: LinkNote, detection: int) -> Candidate | None:
    return next((one for one in note.candidates if one.row == detection), None)


def _cell(pair: Candidate | None) -> QTableWidgetItem:
    refused = pair is None or pair.refused.startswith(("beyond", "too far"))
    item = QTableWidgetItem("-" if pair is None or refused else f"{pair.cost:.2f}")
    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
    item.setFont(number_font(12, bold=pair is not None and pair.chosen))
    item.setForeground(QColor(INK if not refused else MUTED_TEXT))
    if pair is not None:
        item.setToolTip(pair.refused or ("chosen" if pair.chosen else "free"))
        if pair.chosen:
            item.setBackground(QColor(TINT))
    return item
