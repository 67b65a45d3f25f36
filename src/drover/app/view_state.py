"""Where the user is: frame and choice. Changing it decodes, and never saves or counts."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

__all__ = ["ViewState"]


class ViewState(QObject):
    """The frame on screen and the identity chosen."""

    frame_changed = Signal(int)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.frame = 0
        self.frame_count = 0
        self.selected: int | None = None
        self.beside: int | None = None  # a second one, for what is done to two

    def reset(self, frame_count: int) -> None:
        """Another clip: its first frame, nobody chosen."""
        self.frame, self.selected, self.beside, self.frame_count = 0, None, None, frame_count

    def set_frame(self, frame: int) -> None:
        """Go to a frame, held inside the clip."""
        held = min(max(frame, 0), self.frame_count - 1)
        if self.frame_count and held != self.frame:
            self.frame = held
            self.frame_changed.emit(held)

    def select(self, identity: int | None, beside: int | None = None) -> None:
        """Choose an identity, or none, and a second one beside it."""
        if (identity, beside) != (self.selected, self.beside):
            self.selected, self.beside = identity, beside
            self.frame_changed.emit(self.frame)
