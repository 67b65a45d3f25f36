"""The field in one piece or split in two halves that move in step."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QWidget

from drover.app.field.view import LAYERS, Field
from drover.app.link_notes import LinkNotes
from drover.app.pictures import Pictures
from drover.app.session import Session

__all__ = ["FieldPair"]


class FieldPair(QWidget):
    """Two fields over the same frame. ``active`` is the half that the chips switch; the left one when not split.

    The right half starts with Detect's difference picture, or with the result held for comparing where there is one.
    """

    active_changed = Signal()
    moves = Signal(bool)  # whether the camera does

    def __init__(self, session: Session, pictures: Pictures, notes: LinkNotes) -> None:
        super().__init__()
        self.session, self._pictures = session, pictures
        self._other_pictures = Pictures(session, of_other=True)
        self.left, self.right = Field(session, pictures, notes), Field(session, pictures, notes)
        self._notes = notes
        self.right.shown = {"Difference", "Outlines"}
        self.active = self.left
        self._stage_wants = False
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(2)
        for half, twin in ((self.left, self.right), (self.right, self.left)):
            row.addWidget(half, 1)
            half.view_changed.connect(lambda half=half, twin=twin: twin.set_view(half.view))
            half.touched.connect(lambda half=half: self._activate(half))
        self.right.hide()
        self._other_pictures.detect_ready.connect(self.right.update)
        session.other_changed.connect(self._on_other)
        session.detections_changed.connect(self._tell_moves)
        session.span_changed.connect(self._show_captions)

    @property
    def split(self) -> bool:
        """Whether both halves are on screen."""
        return not self.right.isHidden()

    def set_split(self, on: bool) -> None:
        """Split the field, or make it one again."""
        self.right.setVisible(on)
        self.right.set_view(self.left.view)
        self._activate(self.right if on else self.left)

    def toggle(self, name: str, on: bool) -> None:
        """Switch an overlay of the active half."""
        self.active.toggle(name, on)
        self._want_pictures()
        self._show_captions()

    def want_detect(self, wanted: bool) -> None:
        """Say whether the stage in focus needs Detect's pictures too."""
        self._stage_wants = wanted
        self._want_pictures()

    def close_pictures(self) -> None:
        """End the threads of the right half."""
        self._other_pictures.close()

    def _activate(self, half: Field) -> None:
        self.active = half
        for each in (self.left, self.right):
            each.active = each is half
            each.update()
        self._show_captions()
        self._want_pictures()
        self.active_changed.emit()

    def _want_pictures(self) -> None:
        shown = set(self.left.shown)
        compares = self.right.other_pictures is not None
        if self.split and not compares:
            shown |= self.right.shown
        self._notes.want("field", "Gates" in shown)
        self._pictures.want_detect(self._stage_wants or bool(shown & LAYERS))
        self._other_pictures.want_detect(self.split and compares and bool(self.right.shown & LAYERS))

    def _on_other(self) -> None:
        held = self.session.other is not None
        self.right.other_pictures = self._other_pictures if held else None
        if held and not self.split:
            self.right.shown = set(self.left.shown)
            self.set_split(True)
        self._show_captions()
        self._want_pictures()

    def _tell_moves(self) -> None:
        found = self.session.detect
        self.moves.emit(found is not None and found.motion is not None)

    def _show_captions(self) -> None:
        names = ("A: settings now", "B: settings held") if self.session.other is not None else (None, None)
        for half, name in zip((self.left, self.right), names, strict=True):
            half.caption = (name or _layer_words(half.shown)) if self.split else ""
            half.update()


def _layer_words(shown: set[str]) -> str:
    """What a half shows, in words."""
    picture = next((name for name in ("Background", "Difference") if name in shown), "Picture")
    masks = [name.lower() for name in ("Raw mask", "Mask", "Shadow") if name in shown]
    return " + ".join([picture, *masks])
