"""Start of the window program."""

from __future__ import annotations

import sys
import threading
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from drover.app.layout_memory import remember_layout
from drover.app.log import begin_log
from drover.app.theme import apply_theme
from drover.app.tidying import TidyHere
from drover.app.window import MainWindow
from drover.core.memory import share_one_heap

__all__ = ["start"]


LATER = 1000  # ms until what is compiled is loaded: at once it would hold up the first picture


def start(arguments: list[str]) -> int:
    """Open the window on the demo (``--demo``), a project or a clip, or empty; returns the exit code."""
    share_one_heap()  # or each window that was opened and closed leaves 20 MB with threads that are gone
    app = QApplication(sys.argv[:1])
    app.setApplicationName("Drover")
    app.setDesktopFileName("drover")  # by which a desktop finds the entry, and the icon of windows and the task list
    app.setWindowIcon(QIcon(str(Path(__file__).with_name("signs") / "drover.svg")))
    apply_theme(app)
    begin_log()
    tidy = TidyHere(app)
    window = MainWindow()
    window.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    remember_layout(window)
    window.show()
    QTimer.singleShot(LATER, threading.Thread(target=_warm, name="drover-warm", daemon=True).start)
    if "--demo" in arguments:
        window.open_demo()
    elif arguments:
        window.sources.open_named(arguments[0])
    code = app.exec()
    tidy.deleteLater()
    return code


def _warm() -> None:
    from drover.core.kernels import warm_kernels  # here: it takes in all the program has, and as long as the window

    warm_kernels()
