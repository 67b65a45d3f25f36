"""The card for places where objects come and go inside the picture: drawn, learned, forgotten."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton

from drover.app.dials.parts import Card, muted
from drover.app.session import Session
from drover.core.recipe import with_value
from drover.core.track.exits import learn_exits

__all__ = ["ExitCard"]


class ExitCard(Card):
    """Draw an exit on the field, learn them from the tracks, or forget them all."""

    area_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__("Where they come and go")
        self.session = session
        words = "Besides the picture's edge: a gap, a doorway. Identities may begin and end there for good."
        self.body.addWidget(muted(words, wrap=True))
        row = QHBoxLayout()
        self.draw, self.learn, self.forget = QPushButton("Draw"), QPushButton("Learn"), QPushButton("Forget")
        self.draw.setToolTip("Click its corners on the field; Enter or a click on the first corner closes it.")
        self.learn.setToolTip("Take the places in which most tracks that come there begin or end.")
        self.draw.clicked.connect(lambda: self.area_wanted.emit("exit"))
        self.learn.clicked.connect(self._learn)
        self.forget.clicked.connect(lambda: self._set((), "forget all exits"))
        for button in (self.draw, self.learn, self.forget):
            row.addWidget(button)
        row.addStretch(1)
        self.body.addLayout(row)
        session.recipe_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Say how many there are."""
        n = len(self.session.recipe.track.life.exits)
        self.note.setText(f"{n} exit" if n == 1 else f"{n} exits" if n else "edge only")
        self.forget.setEnabled(n > 0)

    def _learn(self) -> None:
        tracks = self.session.tracks
        if tracks is None:
            return
        learnt = learn_exits(tracks)
        if learnt:
            self._set(learnt, "learn exits")
        else:
            self.note.setText("none to learn: all begin and end at the edge")

    def _set(self, exits: tuple, what: str) -> None:
        polygons = [[list(point) for point in polygon] for polygon in exits]
        self.session.edit(with_value(self.session.recipe, "track.life.exits", polygons), what)
