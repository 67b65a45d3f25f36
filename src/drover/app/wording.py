"""Texts that name what is counted as the project names it."""

from __future__ import annotations

from collections.abc import Callable

from drover.app.session import Session
from drover.core.recipe import WordSettings

__all__ = ["worded"]


def worded(session: Session, show: Callable[[str], object], template: str) -> None:
    """Show a text with ``{one}`` and ``{many}`` put in, now and whenever the project's words change."""
    said: list[WordSettings] = []

    def refresh() -> None:
        words = session.recipe.words
        if said != [words]:
            said[:] = [words]
            show(words.filled(template))

    session.recipe_changed.connect(refresh)
    session.clip_changed.connect(refresh)
    refresh()
