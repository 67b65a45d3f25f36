"""Where the user is: frame, choice, what is hidden and coloured. Changing it decodes, and never saves or counts."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QObject, Signal

__all__ = ["ViewState", "numbers_of", "numbers_text"]

MOST_TEXT = 4_000  # characters of a list of numbers in a project
MOST_NUMBER = 10_000_000


def numbers_text(numbers: Iterable[int]) -> str:
    """Numbers as text, runs of them as "3-9"; what would be too long is left out."""
    parts: list[list[int]] = []
    for number in sorted(numbers):
        if parts and number == parts[-1][1] + 1:
            parts[-1][1] = number
        else:
            parts.append([number, number])
    words = [str(first) if first == last else f"{first}-{last}" for first, last in parts]
    text = " ".join(words)
    return text if len(text) <= MOST_TEXT else text[:MOST_TEXT].rpartition(" ")[0]


def numbers_of(text: str) -> frozenset[int]:
    """Numbers from such a text; what is none is passed over."""
    out: set[int] = set()
    for word in text[:MOST_TEXT].split():
        ends = word.split("-")
        if all(end.isdecimal() and len(end) < 9 for end in ends) and 1 <= len(ends) <= 2:
            first, last = int(ends[0]), int(ends[-1])
            out.update(range(first, min(last, MOST_NUMBER, first + MOST_NUMBER // 100) + 1))
    return frozenset(out)


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

    def restore(self, hidden: frozenset[int], only: frozenset[int]) -> None:
        """Show what was shown when the project was saved."""
        if hidden or only:
            self.hidden, self.only = hidden, only
            self.shown_changed.emit()

    def show_all(self) -> None:
        """Show everybody."""
        self.hidden = self.only = frozenset()
        self.shown_changed.emit()
