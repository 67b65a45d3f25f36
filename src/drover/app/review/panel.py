"""The review on the right: how far it has come, the moment looked at, the answers, and all corrections."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QKeyEvent, QShowEvent
from PySide6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import Card, muted, title
from drover.app.review.answers import ANSWERS
from drover.app.review.faces import Faces
from drover.app.review.reviewer import Reviewer
from drover.app.session import Session
from drover.app.theme import CLAY, MUTED_TEXT
from drover.core.doubt.review import Worked
from drover.core.edits.words import edit_words

__all__ = ["ReviewPanel"]

SIGNS = {Worked.RIGHT: "right", Worked.UNSURE: "not sure", Worked.CORRECTED: "corrected"}


class ReviewPanel(QWidget):
    """Shows the reviewer and carries the clicks to it."""

    closed = Signal()

    def __init__(self, session: Session, reviewer: Reviewer) -> None:
        super().__init__()
        self.session, self.reviewer = session, reviewer
        column = QVBoxLayout(self)
        column.setContentsMargins(9, 6, 9, 6)
        column.setSpacing(4)
        column.addLayout(self._head())
        self.progress = QLabel("")
        self.progress.setWordWrap(True)
        self.progress.setAccessibleName("how far the review has come")
        column.addWidget(self.progress)
        self.counts = muted("", wrap=True)
        self.counts.setAccessibleName("counts and their bounds")
        column.addWidget(self.counts)
        column.addWidget(self._card())
        self.moments, self.edits = _List("moments to look at"), _List("corrections by hand")
        self.moments.currentRowChanged.connect(self._go)
        self.lists = QTabWidget()
        self.lists.addTab(self.moments, "Moments")
        self.lists.addTab(self.edits, "Corrections")
        self.lists.setMinimumHeight(70)
        column.addWidget(self.lists, 1)
        self.edits.setToolTip("Everything that was said, in order. Delete takes one back.")
        self.edits.itemClicked.connect(self._go_to_edit)
        self.edits.removed.connect(self.reviewer.take_back)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(0)
        self._later.timeout.connect(self.refresh)
        for signal in (reviewer.changed, session.edits_changed, session.tracks_changed, session.crossings_changed):
            signal.connect(self._soon)

    def _head(self) -> QHBoxLayout:
        head = QHBoxLayout()
        head.addWidget(title("Review"))
        head.addStretch(1)
        self.done = QPushButton("Back to the dials")
        self.done.clicked.connect(self.closed)
        head.addWidget(self.done)
        return head

    def _card(self) -> Card:
        self.card = Card("No moment chosen")
        self.words = muted("N goes to the most doubtful moment.", wrap=True)
        self.card.body.addWidget(self.words)
        self.faces = Faces(self.session, self.reviewer)
        self.card.body.addWidget(self.faces)
        grid = QGridLayout()
        grid.setSpacing(3)
        self.card.body.setSpacing(3)
        self.card.body.setContentsMargins(10, 5, 10, 6)
        self.buttons: dict[str, QPushButton] = {}
        for place, (name, key, text, tip) in enumerate(ANSWERS):
            button = QPushButton(f"{text}  {key}")
            button.setFixedHeight(26)
            button.setToolTip(f"{tip} Key {key}.")
            button.setAccessibleName(text)
            button.clicked.connect(getattr(self.reviewer, name))
            self.buttons[name] = button
            grid.addWidget(button, place // 3, place % 3)
        self.card.body.addLayout(grid)
        return self.card

    # --- showing ----------------------------------------------------------------------------------------------

    def showEvent(self, event: QShowEvent) -> None:
        del event
        self.refresh()

    def _soon(self) -> None:
        if self.isVisible():
            self._later.start()

    def refresh(self) -> None:
        """Show how things stand."""
        reviewer = self.reviewer
        listed, left = reviewer.listed, reviewer.left
        errors = "less than one error" if left < 0.5 else f"about {left:.0f} error" + ("s" if round(left) != 1 else "")
        fainter = len(reviewer.watch.found) - listed
        more = f"; {fainter} fainter ones not listed" if fainter > 0 else ""
        words = f"{reviewer.done} of {listed} looked at, {errors} left{more}" if listed else "Nothing is in doubt."
        self.progress.setText(words)
        self._show_counts()
        self._show_card()
        self._show_moments(listed)
        self._show_edits()

    def _show_counts(self) -> None:
        lines = {line.name: line for line in self.session.recipe.count.line}
        told = [
            f"{name} {lines[name].way(way)} {bounds.words}"
            for (name, way), bounds in self.reviewer.watch.bounds.items()
            if name in lines and bounds.high
        ]
        self.counts.setText("; ".join(told[:4]))
        self.counts.setVisible(bool(told))

    def _show_card(self) -> None:
        moment, clip = self.reviewer.current, self.session.clip
        named = moment is not None and clip is not None
        self.faces.setVisible(named)
        if moment is None or clip is None:
            self.card.heading.setText("No moment chosen")
            self.card.note.setText("")
            who = self.reviewer.who
            chosen = " and ".join(str(one) for one in who if one)
            self.words.setText(
                f"What is said is said of {chosen}." if chosen else "N goes to the most doubtful moment."
            )
            return
        self.card.heading.setText(f"{clip.times[moment.frame]:.2f} s")
        self.card.note.setText(f"doubt {100 * moment.doubt:.0f}\u00a0%")
        other = self.reviewer.partner
        beside = f"; beside it {other}" if other and other not in moment.identities else ""
        self.words.setText(moment.words + beside + ".")

    def _show_moments(self, listed: int) -> None:
        clip, found, worked = self.session.clip, self.reviewer.watch.found, self.reviewer.worked
        self.lists.setTabText(0, f"{listed} moments")
        with QSignalBlocker(self.moments):
            self.moments.clear()
            for place in range(listed):
                moment = found[place]
                said = SIGNS.get(Worked(int(worked[place])), "") if place < len(worked) else ""
                time = clip.times[moment.frame] if clip is not None else 0.0
                text = f"{100 * moment.doubt:3.0f} %  {time:.1f} s  {moment.words}"
                item = QListWidgetItem(f"{said}: {text}" if said else text)
                item.setToolTip(moment.words)
                if said:
                    item.setForeground(QColor(MUTED_TEXT))
                self.moments.addItem(item)
            if self.reviewer.current is not None and self.reviewer.watch.place < listed:
                self.moments.setCurrentRow(self.reviewer.watch.place)

    def _show_edits(self) -> None:
        edits, notes = self.session.edits, self.session.edit_notes
        misfits = sum(not note.fits for note in notes)
        words = f"{len(edits)} corrections" if len(edits) != 1 else "1 correction"
        self.lists.setTabText(1, words + (f", {misfits} fit no more" if misfits else ""))
        self.edits.clear()
        for place, edit in enumerate(edits):
            note = notes[place] if len(notes) == len(edits) else None
            item = QListWidgetItem(f"{edit.at:.1f} s  {edit_words(edit, note)}")
            item.setToolTip(item.text())
            if note is not None and not note.fits:
                item.setForeground(QColor(CLAY))
            self.edits.addItem(item)
        self.edits.scrollToBottom()

    # --- going ------------------------------------------------------------------------------------------------

    def _go(self, row: int) -> None:
        if row >= 0:
            self.reviewer.go_to(row)

    def _go_to_edit(self, item: QListWidgetItem) -> None:
        clip, edit = self.session.clip, self.session.edits[self.edits.row(item)]
        if clip is not None:
            self.reviewer.playback.pause()
            self.reviewer.playback.go(clip.frame_at(edit.at))


class _List(QListWidget):
    """A list in which letters are the window's keys, not a search; ``removed`` tells of Delete."""

    removed = Signal(int)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setTextElideMode(Qt.TextElideMode.ElideRight)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Delete and self.currentRow() >= 0:
            self.removed.emit(self.currentRow())
        elif event.text() and event.text().isprintable() and not event.modifiers():
            event.ignore()
        else:
            super().keyPressEvent(event)
