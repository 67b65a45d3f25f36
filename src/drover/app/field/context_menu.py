"""What the right button offers on the field: what can be done to what is under it, and what can be drawn."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QMenu

from drover.core.count.edits import Kind, with_copy

if TYPE_CHECKING:
    from drover.app.field.view import Field

__all__ = ["context_menu"]


def context_menu(field: Field, point: QPointF) -> QMenu:
    """The menu for a place on the field, px by the view of :attr:`Field.laid`."""
    menu, words = QMenu(field), field.session.recipe.words
    number = field.editor.line_at(point, field.laid)
    if number is not None:
        menu.addAction("Reverse direction", lambda: field.editor.reverse(number))
        menu.addAction("Copy line", lambda: _copy(field, "line", number))
        menu.addAction("Remove line", lambda: field.editor.remove(number))
        menu.addSeparator()
    zone = field.zones.zone_at(point, field.laid)
    if zone is not None:
        menu.addAction("Copy zone", lambda: _copy(field, "zone", zone))
        menu.addAction("Remove zone", lambda: field.zones.remove(zone))
        menu.addSeparator()
    area = field.areas.area_at(point, field.laid)
    if area is not None:
        kind, place = area
        menu.addAction("Remove this area", lambda: field.areas.remove(kind, place))
        menu.addSeparator()
    menu.addAction("Draw a counting line", field.start_line)
    menu.addAction("Draw a zone", lambda: field.start_area("zone"))
    menu.addAction("Ignore an area", lambda: field.start_area("ignore"))
    menu.addAction("Count only inside an area", lambda: field.start_area("include"))
    menu.addAction("Draw an exit", lambda: field.start_area("exit"))
    menu.addAction(f"Draw one {words.one} near", lambda: field.start_box("near"))
    menu.addAction(f"Draw one {words.one} far", lambda: field.start_box("far"))
    menu.addAction("Show the whole picture", field.fit)
    return menu


def _copy(field: Field, kind: Kind, number: int) -> None:
    name = getattr(field.session.recipe.count, kind)[number].name
    field.session.edit(with_copy(field.session.recipe, kind, number), f"copy {kind} '{name}'")
