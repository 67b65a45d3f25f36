"""What the right button offers in the lanes: what can be done to the lane under it, and to the span."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import QMenu

from drover.app.theme import IDENTITY_COLOURS

if TYPE_CHECKING:
    from drover.app.lanes.view import LanesView

__all__ = ["lanes_menu"]


def lanes_menu(lanes: LanesView, identity: int | None) -> QMenu:
    """The menu for a lane, or for none."""
    menu, view = QMenu(lanes), lanes.session.view
    if identity is not None:
        who = view.chosen if identity in view.chosen else (identity,)
        name = f"identity {identity}" if len(who) == 1 else f"{len(who)} identities"
        menu.addAction(f"Hide {name}", lambda: view.hide(who))
        menu.addAction(f"Show only {name}", lambda: view.show_only(who))
        tints = menu.addMenu("Colour")
        for number, tint in enumerate(IDENTITY_COLOURS, 1):
            square = QPixmap(16, 16)
            square.fill(QColor(tint))
            tints.addAction(QIcon(square), f"colour {number}", lambda tint=tint: lanes.colour_wanted.emit(who, tint))
        tints.addAction("Its own", lambda: lanes.colour_wanted.emit(who, ""))
        menu.addAction("Name…", lambda: lanes.name_wanted.emit(identity))
        menu.addSeparator()
    if not view.all_shown:
        menu.addAction("Show all", view.show_all)
    if lanes.session.span is not None:
        menu.addAction("Play the span over and over", lanes.loop_wanted)
        menu.addAction("Work on the whole clip", lambda: lanes.span_wanted.emit(None))
        menu.addAction("Export the span…", lanes.export_wanted)
    if lanes.axis.zoomed:
        menu.addAction("Show the whole time", lanes.show_whole)
    return menu
