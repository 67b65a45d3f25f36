"""Things that are followed by their look: how sure it is of each, and why one was lost."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from drover.app.dials.parts import Card, muted
from drover.app.session import Session
from drover.app.theme import CLAY
from drover.core.errors import DroverError
from drover.core.follow.steps import FollowState
from drover.core.follow.table import FollowedThing
from drover.core.recipe import FollowedSettings, with_value

__all__ = ["FollowCard", "followed_as_lists"]


class FollowCard(Card):
    """A row for each thing; a new one is drawn on the field, or taken from a picture."""

    box_wanted = Signal(str)
    picture_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__("Follow one thing")
        self.session = session
        words = "Draw a box round it in any frame: it is followed by its look, through turning, zoom and hiding."
        self.body.addWidget(muted(words, wrap=True))
        row = QHBoxLayout()
        self.draw, self.load = QPushButton("Draw a box"), QPushButton("From a picture…")
        self.draw.setToolTip("Drag a box round the thing on the field (key B).")
        self.load.setToolTip("A picture of it; it is looked for in every frame.")
        self.draw.clicked.connect(lambda: self.box_wanted.emit("thing"))
        self.load.clicked.connect(self.picture_wanted)
        row.addWidget(self.draw)
        row.addWidget(self.load)
        row.addStretch(1)
        self.body.addLayout(row)
        self.holder = QVBoxLayout()
        self.holder.setSpacing(8)
        self.body.addLayout(self.holder)
        self.rows: list[_ThingRow] = []
        session.recipe_changed.connect(self.refresh)
        session.tracks_changed.connect(self.refresh)
        session.frame_changed.connect(lambda _: self._show_states())
        self.refresh()

    def refresh(self) -> None:
        """Show the things of the recipe."""
        things = self.session.recipe.follow.thing
        self.note.setText(f"{len(things)} thing" + ("s" if len(things) != 1 else "") if things else "")
        while len(self.rows) > len(things):
            row = self.rows.pop()
            self.holder.removeWidget(row)
            row.deleteLater()
        while len(self.rows) < len(things):
            row = _ThingRow(self.session, len(self.rows))
            self.rows.append(row)
            self.holder.addWidget(row)
        self._show_states()

    def _show_states(self) -> None:
        for row, settings in zip(self.rows, self.session.recipe.follow.thing, strict=False):
            row.show_thing(settings)


class _ThingRow(QWidget):
    """One thing: its name, how it stands on this frame, and what can be done."""

    def __init__(self, session: Session, number: int) -> None:
        super().__init__()
        self.session, self.number = session, number
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        head = QHBoxLayout()
        self.name = QLineEdit()
        self.name.setAccessibleName(f"name of thing {number + 1}")
        self.name.editingFinished.connect(self._rename)
        self.show_it, self.drop = QPushButton("Show"), QPushButton("Remove")
        self.show_it.setToolTip("Go to where it is next seen.")
        self.show_it.clicked.connect(self._go)
        self.drop.clicked.connect(self._remove)
        for widget in (self.name, self.show_it, self.drop):
            head.addWidget(widget)
        column.addLayout(head)
        self.state = QLabel("")
        self.state.setWordWrap(True)
        self.state.setAccessibleName(f"how sure it is of thing {number + 1}")
        column.addWidget(self.state)

    @property
    def thing(self) -> FollowedThing | None:
        """What came of it, once it is followed."""
        things = self.session.engine.following.things
        names = [thing.name for thing in self.session.recipe.follow.thing]
        if self.number >= len(names):
            return None
        return next((one for one in things if one.name == names[self.number]), None)

    def show_thing(self, settings: FollowedSettings) -> None:
        """Its name, and its state on the frame shown."""
        if not self.name.hasFocus():
            self.name.setText(settings.name)
        thing = self.thing
        words, bad = _state_words(thing, self.session.frame)
        self.state.setText(words)
        self.state.setStyleSheet(f"color: {CLAY};" if bad else "")
        self.show_it.setEnabled(thing is not None and bool(thing.seen.any()))

    def _rename(self) -> None:
        things = followed_as_lists(self.session)
        text = self.name.text().strip()
        if not text or self.number >= len(things) or things[self.number]["name"] == text:
            return
        things[self.number]["name"] = text
        try:
            self.session.edit(with_value(self.session.recipe, "follow.thing", things), f"name '{text}'")
        except DroverError as error:
            self.session.message_raised.emit(str(error))

    def _remove(self) -> None:
        things = followed_as_lists(self.session)
        gone = things.pop(self.number)
        self.session.edit(with_value(self.session.recipe, "follow.thing", things), f"no longer follow '{gone['name']}'")

    def _go(self) -> None:
        thing = self.thing
        if thing is None:
            return
        seen = np.flatnonzero(thing.seen)
        later = seen[seen > self.session.frame]
        # On from here to where it comes into sight again; at the end from the beginning.
        starts = later[np.diff(later, prepend=self.session.frame) > 1] if len(later) else later
        self.session.set_frame(int(starts[0] if len(starts) else seen[0]))


def _state_words(thing: FollowedThing | None, frame: int) -> tuple[str, bool]:
    """How a thing stands on a frame, and whether that is bad news."""
    if thing is None:
        return "being followed …", False
    if thing.refused:
        return thing.refused, True
    if frame >= len(thing.state):
        return "", False
    share = f"{100 * float(thing.seen.mean()):.0f}\u00a0%"  # a space at which no line ends
    state = FollowState(int(thing.state[frame]))
    if state == FollowState.SEEN:
        return f"seen here, {100 * thing.sure[frame]:.0f}\u00a0% sure; in {share} of the frames", False
    why = [text for at, text in thing.reason.items() if at <= frame]
    reason = why[-1] if why else "not found yet"
    word = "not seen, its place is a forecast" if state == FollowState.HIDDEN else "lost"
    return f"{word} ({reason}); seen in {share} of the frames", state == FollowState.LOST


def followed_as_lists(session: Session) -> list[dict[str, object]]:
    """The things of the recipe as a recipe file would hold them."""
    return [thing.model_dump(mode="json") for thing in session.recipe.follow.thing]
