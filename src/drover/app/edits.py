"""A step that can be undone: one value is taken for another."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from PySide6.QtGui import QUndoCommand

__all__ = ["Step"]

Value = TypeVar("Value")


class Step(QUndoCommand):
    """Hands ``after`` to ``take`` when done, and ``before`` when undone; ``what`` names it in the menu."""

    def __init__(self, take: Callable[[Value], None], before: Value, after: Value, what: str) -> None:
        super().__init__(what)
        self._redo, self._undo = lambda: take(after), lambda: take(before)

    def redo(self) -> None:
        self._redo()

    def undo(self) -> None:
        self._undo()
