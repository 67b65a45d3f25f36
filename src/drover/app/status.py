"""The status line: what was worked out and how fast, what is under way, and whether it is up to date and saved."""

from __future__ import annotations

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QLabel, QProgressBar, QPushButton, QStatusBar

from drover.app.saving import Saving
from drover.app.session import STAGES, Session, StageState
from drover.app.theme import CLAY, MOSS, OCHRE
from drover.core.progress import Progress

__all__ = ["StatusLine"]


class StatusLine(QStatusBar):
    """Words at the bottom of the window; ``button`` stops the work, or goes on with it."""

    hint_ended = Signal()

    def __init__(self, session: Session, saving: Saving) -> None:
        super().__init__()
        self.session, self.saving = session, saving
        self.progress: Progress | None = None
        self._hint = ""
        self.setSizeGripEnabled(False)
        self.setContentsMargins(6, 0, 6, 0)
        self.words = QLabel("")
        self.bar = QProgressBar()
        self.bar.setAccessibleName("progress of the work")
        self.bar.setFixedWidth(170)
        self.bar.setTextVisible(False)
        self.bar_words = QLabel("")
        self.button = QPushButton("Stop")
        self.button.setToolTip("Stop working through the clip; what was found stays.")
        self.button.clicked.connect(self._stop_or_go_on)
        self.dot, self.state = QLabel(), QLabel("")
        self.dot.setFixedSize(9, 9)
        self.addWidget(self.words, 1)
        for widget in (self.bar_words, self.bar, self.button, self.dot, self.state):
            self.addPermanentWidget(widget)
        self._hint_timer = QTimer(self)
        self._hint_timer.setSingleShot(True)
        self._hint_timer.timeout.connect(self._end_hint)

    def hint(self, words: str) -> None:
        """Say for a while what the mouse does now."""
        self._hint = words
        self._hint_timer.start(6000)
        self.hint_ended.emit()

    def _end_hint(self) -> None:
        self._hint = ""
        self.hint_ended.emit()

    def _stop_or_go_on(self) -> None:
        if self.progress is not None:
            self.session.cancel_work()
        else:
            self.session.resume_work()

    def refresh(self) -> None:
        """Say how things stand."""
        session, engine = self.session, self.session.engine
        parts = [self._hint] if self._hint else []
        if session.tracks is not None and engine.link_seconds:
            parts.append(f"{session.tracks.frame_count} frames linked in {engine.link_seconds:.2f} s")
        if session.crossings is not None and engine.count_seconds:
            parts.append(f"counted in {1000 * engine.count_seconds:.1f} ms")
        self.words.setText("   ".join(parts))
        self._refresh_progress()
        words, tint = self._state()
        self.state.setText(words)
        self.state.setToolTip(self.saving.fault)
        self.dot.setStyleSheet(f"background: {tint}; border-radius: 4px;" if words else "")

    def _refresh_progress(self) -> None:
        progress = self.progress
        self.bar.setVisible(progress is not None)
        self.bar_words.setVisible(progress is not None)
        self.button.setVisible(progress is not None or self.session.cancelled)
        self.button.setText("Stop" if progress is not None else "Work through the clip")
        if progress is not None:
            self.bar.setRange(0, progress.total)
            self.bar.setValue(progress.done)
            place = f"frame {progress.done} of {progress.total}"
            self.bar_words.setText(f"detecting: {place}, {progress.seconds_left:.0f} s left")

    def _state(self) -> tuple[str, str]:
        session, clip = self.session, self.session.clip
        states = [session.state_of(stage) for stage in STAGES]
        if clip is None:
            return "", MOSS
        if self.saving.fault:
            return "NOT SAVED, trying again", CLAY
        if StageState.WORKING in states:
            return "working", OCHRE
        if session.detect is not None and session.detect.span is not None:
            first, past = (float(clip.times[f]) for f in (session.detect.span[0], session.detect.span[1] - 1))
            return f"only {first:.1f} s to {past:.1f} s, not kept", CLAY
        if session.cancelled or StageState.STALE in states:
            return "not up to date", CLAY
        return "everything up to date" + ("" if self.saving.busy else ", saved"), MOSS
