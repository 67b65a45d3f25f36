"""The window comes back as it was left: its size and place, and the height of the lanes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QByteArray, QEvent, QObject

from drover.app.preferences import change_preferences, preferences

if TYPE_CHECKING:
    from drover.app.window import MainWindow

__all__ = ["remember_layout"]


class _Keeper(QObject):
    """Keeps the layout as the window closes."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window = window
        window.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self._window and event.type() == QEvent.Type.Close:
            kept = self._window.saveGeometry().toBase64().toStdString()
            change_preferences(geometry=kept, lanes=tuple(self._window.splitter.sizes()))
        return False


def remember_layout(window: MainWindow) -> None:
    """Lay the window out as it was left last, and keep its layout as it closes."""
    kept = preferences()
    if kept.geometry:
        window.restoreGeometry(QByteArray.fromBase64(QByteArray(kept.geometry.encode())))
    if len(kept.lanes) == window.splitter.count():
        window.splitter.setSizes(list(kept.lanes))
    _Keeper(window)
