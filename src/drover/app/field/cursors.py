"""Which cursor says what a press on the field would do."""

from __future__ import annotations

from PySide6.QtCore import Qt

__all__ = ["cursor_of"]

Hover = tuple[int, int]  # which line or zone is under the mouse, and which of its corners, -1 for none


def cursor_of(drawing: bool, line: Hover | None, zone: Hover | None) -> Qt.CursorShape | None:
    """The cursor while something is drawn or lies under the mouse; None for the usual one."""
    under = line or zone
    if drawing or (under is not None and under[1] >= 0):
        return Qt.CursorShape.CrossCursor
    return None if under is None else Qt.CursorShape.SizeAllCursor
