"""Where the user is: frame, choice, what is hidden and coloured. Changing it decodes, and never saves or counts."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QObject, Signal

__all__ = ["ViewState"]


class ViewState(QObject):
    """The frame on screen, the identities chosen, and those that are not shown."""

    frame_changed = Signal(int)
    shown_changed = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.frame = 0
        self.frame_count = 0
        self.chosen: tuple[int, ...] = ()
        self.hidden: frozenset[int] = frozenset()
        self.only: frozenset[int] = frozenset()
        self.colours: dict[int, str] = {}

    @property
    def selected(self) -> int | None:
        """The first one chosen."""
        return self.chosen[0] if self.chosen else None

    @property
    def beside(self) -> int | None:
        """The second one, for what is done to two."""
        return self.chosen[1] if len(self.chosen) > 1 else None

    def reset(self, frame_count: int) -> None:
        """Another clip: its first frame, nobody chosen, everybody shown."""
        self.frame, self.chosen, self.frame_count = 0, (), frame_count
        self.hidden = self.only = frozenset()
        self.colours = {}
        self.shown_changed.emit()

    def set_frame(self, frame: int) -> None:
        """Go to a frame, held inside the clip."""
        held = min(max(frame, 0), self.frame_count - 1)
        if self.frame_count and held != self.frame:
            self.frame = held
            self.frame_changed.emit(held)

    def select(self, *identities: int | None) -> None:
        """Choose identities, or none."""
        chosen = tuple(dict.fromkeys(who for who in identities if who))
        if chosen != self.chosen:
            self.chosen = chosen
            self.frame_changed.emit(self.frame)

    def toggle(self, identity: int) -> None:
        """Choose one more, or one less."""
        if identity in self.chosen:
            self.select(*(who for who in self.chosen if who != identity))
        else:
            self.select(*self.chosen, identity)

    # --- who is shown -----------------------------------------------------------------------------------------

    def shows(self, identity: int) -> bool:
        """Whether an identity is shown."""
        return identity not in self.hidden and (not self.only or identity in self.only)

    @property
    def all_shown(self) -> bool:
        """Whether nobody is hidden."""
        return not self.hidden and not self.only

    def hide(self, identities: Iterable[int]) -> None:
        """Show these no more."""
        self.hidden = self.hidden | frozenset(identities)
        self.shown_changed.emit()

    def show_only(self, identities: Iterable[int]) -> None:
        """Show these and no others."""
        self.only, self.hidden = frozenset(identities), frozenset()
        self.shown_changed.emit()

    def show_all(self) -> None:
        """Show everybody."""
        self.hidden = self.only = frozenset()
        self.shown_changed.emit()

    def paint(self, identities: Iterable[int], tint: str | None) -> None:
        """Give identities another of the colours; None: their own."""
        for who in identities:
            if tint is None:
                self.colours.pop(who, None)
            else:
                self.colours[who] = tint
        self.shown_changed.emit()
