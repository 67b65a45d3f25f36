"""Opens the source dialog for a window, and the windows of live runs that come from it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt
from shiboken6 import isValid

from drover.app.sources.ways import CAMERA, FILE, NETWORK

if TYPE_CHECKING:  # loaded when first asked for: the window is to be there at once
    from drover.app.live.window import LiveWindow
    from drover.app.live.work import LiveWish
    from drover.app.sources.dialog import SourceDialog
    from drover.app.window import MainWindow

__all__ = ["SourceOpener"]


class SourceOpener(QObject):
    """Asks for sources on behalf of a window; a live run counts with the recipe that the window has by then."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window = window
        self.dialog: SourceDialog | None = None
        self.live: list[LiveWindow] = []

    def ask(self, tab: int = FILE) -> SourceDialog:
        """Show the dialog."""
        from drover.app.sources.dialog import SourceDialog

        if self.dialog is not None:
            self.dialog.close()
        dialog = SourceDialog(self._window.session.recipe, self._window, tab=tab)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.clip_wanted.connect(self._window.open_path)
        dialog.live_wanted.connect(self.start_live)
        dialog.destroyed.connect(self._forget_dialog)
        self.dialog = dialog
        dialog.show()
        return dialog

    def open_named(self, text: str) -> None:
        """A clip at once; a stream or a camera in the dialog, to be seen first."""
        if "://" in text or text.startswith("/dev/"):
            self.ask(NETWORK if "://" in text else CAMERA).form.set_text(text)
        else:
            self._window.open_path(Path(text))

    def start_live(self, wish: LiveWish) -> LiveWindow:
        """Count on a source in a window of its own."""
        from drover.app.live.window import LiveWindow

        window = LiveWindow(wish)
        window.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        window.recording_wanted.connect(self._window.open_path)
        self.live = [*self._open(), window]
        window.show()
        return window

    def _forget_dialog(self) -> None:
        self.dialog = None

    def may_close(self) -> bool:
        """Whether no live run goes on, or the user lets all of them end."""
        return all(window.close() for window in self._open())

    def _open(self) -> list[LiveWindow]:
        """The live windows that were not closed yet."""
        return [window for window in self.live if isValid(window)]

    def close(self) -> None:
        """End everything."""
        if self.dialog is not None:
            self.dialog.close()
        for window in self._open():
            window.work.close()
            window.deleteLater()
        self.live = []
