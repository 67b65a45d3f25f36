"""The way to a first count on the user's own clip: five steps in a bar over the field, to be left at any of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QWidget

from drover.app.session import StageState
from drover.app.theme import INK, MOSS, TINT
from drover.core.count.tallies import tally

if TYPE_CHECKING:
    from drover.app.window import MainWindow

__all__ = ["Guide"]

_SHEET = f"""
Guide {{ background: {TINT}; border-bottom: 2px solid {MOSS}; }}
QLabel {{ background: transparent; color: {INK}; }}
QLabel#place {{ font-weight: 600; }}
"""


@dataclass(frozen=True)
class _Step:
    """``words`` say what to do now; ``act`` does it for the user; ``done`` tells when it is done, if it can."""

    words: Callable[[], str]
    button: str
    act: Callable[[], object]
    done: Callable[[], bool] = lambda: False


class Guide(QWidget):
    """Shows one step at a time and goes on by itself where it sees that a step was taken."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__()
        self._window = window
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, True)
        self.setStyleSheet(_SHEET)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 6, 12, 6)
        self.place, self.words = QLabel(), QLabel()
        self.place.setObjectName("place")
        self.words.setWordWrap(True)
        self.words.setTextFormat(Qt.TextFormat.PlainText)
        self.act, self.next, self.leave = QPushButton("Begin"), QPushButton("Next"), QPushButton("Leave the guide")
        row.addWidget(self.place)
        row.addWidget(self.words, 1)
        for button in (self.act, self.next, self.leave):
            row.addWidget(button)
        self.steps = self._steps()
        self.number = 0
        self.act.clicked.connect(lambda: self.steps[self.number].act())
        self.next.clicked.connect(self._go_on)
        self.leave.clicked.connect(self.hide)
        session = window.session
        for signal in (
            session.clip_changed, session.states_changed, session.tracks_changed, session.crossings_changed,
            session.recipe_changed,
        ):  # fmt: skip
            signal.connect(self.refresh)
        self.hide()

    def _steps(self) -> tuple[_Step, ...]:
        window, session = self._window, self._window.session
        return (
            _Step(
                lambda: "Open a clip of your own: any video, from a camera that stands still.", "Open a clip…",
                window.asking.clip, lambda: session.clip is not None,
            ),
            _Step(self._found_words, "Play", window.playback.toggle),
            _Step(
                lambda: "Draw a line across the way they take: press at one end, let go at the other.", "Draw a line",
                window.new_line, lambda: bool(session.recipe.count.line),
            ),
            _Step(self._counted_words, "Go through them", window.show_audit),
            _Step(
                lambda: "Take it with you: tables, a picture of the line to be checked, a video.", "Export…",
                window.exports.ask_files,
            ),
        )  # fmt: skip

    def start(self) -> None:
        """Begin at the first step that is not done yet."""
        self.number = 0
        self.show()
        self.refresh()

    def refresh(self) -> None:
        """Go on past what is done, and say what is next."""
        if self.isHidden():
            return
        while self.number < len(self.steps) - 1 and self.steps[self.number].done():
            self.number += 1
        step = self.steps[self.number]
        self.place.setText(f"Step {self.number + 1} of {len(self.steps)}")
        self.words.setText(step.words())
        self.act.setText(step.button)
        self.next.setText("Done" if self.number == len(self.steps) - 1 else "Next")
        self.next.setEnabled(self._window.session.clip is not None)

    def _go_on(self) -> None:
        if self.number == len(self.steps) - 1:
            self.hide()
        else:
            self.number += 1
            self.refresh()

    def _found_words(self) -> str:
        session = self._window.session
        if session.tracks is None or session.state_of("track") != StageState.FRESH:
            return "Drover looks for what moves; this takes about a tenth of the clip's own time. Watch it meanwhile."
        many = len(session.tracks.paths.identity)
        return (
            f"{many} identities were found. Play the clip: each body should have one number and keep it. What is "
            "missed or false is mended on the page Detect (Ctrl+2), what changes its number on Track (Ctrl+3)."
        )

    def _counted_words(self) -> str:
        session = self._window.session
        if session.crossings is None or not session.crossings.line_names:
            return "No line, no count: go back by drawing one (L)."
        one = tally(session.crossings, 0)
        return (
            f"{one.line}: {one.forward} forward, {one.back} back. Each crossing can be looked at and judged by a key, "
            "the doubtful ones first."
        )
