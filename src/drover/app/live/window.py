"""The window of a live run: the picture, the counts, how it does, and an end to it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QCloseEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QMessageBox,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import Card, muted, notice
from drover.app.layouts import tight
from drover.app.live.view import LiveView
from drover.app.live.work import LiveWish, LiveWork
from drover.app.theme import dress, number_font
from drover.core.live_session.facts import LiveFacts

__all__ = ["LiveWindow"]

FACTS = (
    ("rate", "pictures a second"), ("latency", "behind (median)"), ("worst", "behind (1 in 100)"),
    ("dropped", "dropped"), ("broken", "broken pictures"), ("again", "connected again"), ("length", "running for"),
)  # fmt: skip


class LiveWindow(QWidget):
    """Counts on one source until it is stopped; F fills the screen with picture and counts, Esc leaves that."""

    recording_wanted = Signal(object)

    def __init__(self, wish: LiveWish) -> None:
        super().__init__(None, Qt.WindowType.Window)
        self.wish, self.work = wish, LiveWork(wish, self)
        self.setWindowTitle(f"{wish.source.name} - live - Drover")
        self.resize(1180, 720)
        self.view = LiveView("waiting for the first picture")
        self.side = self._side_panel()
        row = tight(QHBoxLayout(self))
        row.addWidget(self.view, 1)
        row.addWidget(self.side)
        for keys, slot in (("F", self.fill_screen), ("F11", self.fill_screen), ("Esc", self.leave_screen)):
            QShortcut(QKeySequence(keys), self).activated.connect(slot)
        self.work.pictured.connect(self._on_picture)
        self.work.told.connect(self._on_told)
        self.work.ended.connect(self._on_ended)
        dress(self)
        self.work.start()

    # --- building -------------------------------------------------------------------------------------------

    def _side_panel(self) -> QWidget:
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(12, 12, 12, 12)
        column.setSpacing(10)
        self.fault = notice()
        column.addWidget(self.fault)
        column.addWidget(self._counts_card())
        column.addWidget(self._facts_card())
        column.addWidget(self._survey_card())
        if self.wish.recipe.send.receiver:
            column.addWidget(self._receivers_card())
        column.addWidget(self._results_card())
        column.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inner)
        panel = QWidget()
        panel.setFixedWidth(300)
        column = tight(QVBoxLayout(panel))
        column.addWidget(scroll, 1)
        column.addLayout(self._buttons())
        return panel

    def _counts_card(self) -> Card:
        card = Card("Counts so far")
        grid = QGridLayout()
        grid.setColumnStretch(0, 1)
        grid.setHorizontalSpacing(16)
        self.counts: dict[str, tuple[QLabel, QLabel]] = {}
        for place, line in enumerate(self.wish.recipe.count.line):
            numbers = QLabel("0"), QLabel("0")
            for k, (label, way) in enumerate(zip(numbers, (line.forward_name, line.back_name), strict=True)):
                label.setFont(number_font(26, bold=True))
                label.setAlignment(Qt.AlignmentFlag.AlignRight)
                label.setAccessibleName(f"{line.name}, {way}")
                below = muted(way)
                below.setAlignment(Qt.AlignmentFlag.AlignRight)
                grid.addWidget(label, 2 * place, k + 1)
                grid.addWidget(below, 2 * place + 1, k + 1)
            grid.addWidget(QLabel(line.name), 2 * place, 0)
            self.counts[line.name] = numbers
        card.body.addLayout(grid)
        if not self.counts:
            card.body.addWidget(muted("no line; stays in zones are written to the results", wrap=True))
        return card

    def _facts_card(self) -> Card:
        card = Card("How it does")
        self.state = card.note
        grid = QGridLayout()
        grid.setColumnStretch(0, 1)
        self.facts: dict[str, QLabel] = {}
        for row, (name, words) in enumerate(FACTS):
            value = QLabel("-")
            value.setFont(number_font(12))
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            value.setAccessibleName(words)
            grid.addWidget(muted(words), row, 0)
            grid.addWidget(value, row, 1)
            self.facts[name] = value
        card.body.addLayout(grid)
        return card

    def _survey_card(self) -> Card:
        """What the survey of the last minute says; nothing for the first seconds."""
        self.survey_card = Card("What it sees")
        self.survey = muted("", wrap=True)
        self.survey.setAccessibleName("survey of the last minute")
        self.survey_card.body.addWidget(self.survey)
        self.survey_card.hide()
        return self.survey_card

    def _receivers_card(self) -> Card:
        card = Card("Told to")
        self.receivers = muted("", wrap=True)
        card.body.addWidget(self.receivers)
        return card

    def _results_card(self) -> Card:
        card = Card("Results")
        self.where = muted(str(self.wish.folder), wrap=True)
        self.where.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        card.body.addWidget(self.where)
        words = "Every crossing is written there at once."
        card.body.addWidget(muted(words + (" The stream is recorded." if self.wish.record else ""), wrap=True))
        self.open_recording = QPushButton("Open the recording")
        self.open_recording.clicked.connect(self._open_recording)
        self.open_recording.hide()
        card.body.addWidget(self.open_recording)
        return card

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(12, 8, 12, 12)
        row.setSpacing(8)
        self.full = QPushButton("Fill the screen")
        self.full.setToolTip("Picture and counts alone, large (F); Esc comes back")
        self.full.clicked.connect(self.fill_screen)
        self.stop = QPushButton("Stop")
        self.stop.clicked.connect(self._stop)
        row.addWidget(self.full, 1)
        row.addWidget(self.stop, 1)
        return row

    # --- what the user does -----------------------------------------------------------------------------------

    def fill_screen(self) -> None:
        """Picture and large counts on the whole screen; once more, and it is as it was."""
        if self.view.large:
            self.leave_screen()
            return
        self.view.large = True
        self.side.hide()
        self.showFullScreen()

    def leave_screen(self) -> None:
        """The window as it was."""
        if self.view.large:
            self.view.large = False
            self.side.show()
            self.showNormal()
            self.view.update()

    def _stop(self) -> None:
        self.stop.setEnabled(False)
        self.stop.setText("Stopping")
        self.work.stop()

    def _open_recording(self) -> None:
        found = sorted(self.wish.folder.glob("recording-*.mkv"), key=lambda path: -path.stat().st_size)
        if found:
            self.recording_wanted.emit(found[0])

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.work.running and self.isVisible() and not self._may_end():
            event.ignore()
            return
        self.work.close()
        super().closeEvent(event)

    def _may_end(self) -> bool:
        answer = QMessageBox.question(
            self, "End the live run?", "Counting on this source ends with the window. What was counted is kept.",
            QMessageBox.StandardButton.Ok | QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Cancel,
        )  # fmt: skip
        return answer == QMessageBox.StandardButton.Ok

    # --- what the work tells ------------------------------------------------------------------------------------

    def _on_picture(self) -> None:
        picture = self.work.take()
        if picture is not None:
            self.view.show_picture(picture)

    def _on_told(self, facts: LiveFacts) -> None:
        for name, (forward, back) in self.work.totals.items():
            for label, value in zip(self.counts[name], (forward, back), strict=True):
                label.setText(str(value))
        self.state.setText(facts.connection)
        minutes, seconds = divmod(int(facts.seconds), 60)
        for name, text in (
            ("rate", f"{facts.rate:.1f}"), ("latency", f"{facts.latency:.0f} ms"),
            ("worst", f"{facts.latency_worst:.0f} ms"), ("dropped", f"{100 * facts.drop_share:.2f} %"),
            ("broken", str(facts.broken)), ("again", f"{facts.reconnects} times"),
            ("length", f"{minutes} min {seconds:02d} s"),
        ):  # fmt: skip
            self.facts[name].setText(text)
        if facts.survey:
            self.survey.setText("\n".join(facts.survey))
            self.survey_card.show()
        lost = facts.connection == "waiting for the source"
        self.view.say(f"waiting for the source\n{facts.last_trouble}" if lost and facts.frames else "")
        if self.wish.recipe.send.receiver:
            self.receivers.setText("\n".join(
                f"{one.name}: {one.taken} taken" + (f"; others wait ({one.trouble})" if one.trouble else "")
                for one in self.work.deliveries
            ))  # fmt: skip

    def _on_ended(self, fault: str) -> None:
        self.stop.setEnabled(False)
        self.stop.setText("Stopped")
        if fault:
            self.fault.setText(fault)
            self.fault.show()
            self.view.say(fault)
            return
        self.view.say("the run has ended")
        self.open_recording.setVisible(any(Path(self.wish.folder).glob("recording-*.mkv")))
