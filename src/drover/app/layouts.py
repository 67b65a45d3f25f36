"""Layouts without the room that Qt leaves around and between."""

from __future__ import annotations

from typing import TypeVar

from PySide6.QtWidgets import QLayout

__all__ = ["tight"]

Layout = TypeVar("Layout", bound=QLayout)


def tight(layout: Layout) -> Layout:
    """The layout with no margins and no spacing."""
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(0)
    return layout
