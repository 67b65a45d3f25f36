"""Garbage is collected on the interface thread alone.

Widgets and the functions they hold refer to each other, so they are freed by the collector, which by itself runs on
whatever thread allocates next. Freed on a worker's thread, a widget can leave Qt waiting for ever.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

__all__ = ["TidyHere"]

EVERY = 500  # ms
THRESHOLDS = (700, 10, 10)  # allocations and collections after which each generation is collected, as Python has them


class TidyHere(QObject):
    """Switches automatic collection off, and collects from a timer of the thread that it was made on."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.tidy)
        self._timer.start(EVERY)

    def tidy(self) -> None:
        """Collect the oldest generation that is due."""
        due = [n for n, (count, limit) in enumerate(zip(gc.get_count(), THRESHOLDS, strict=True)) if count > limit]
        if due:
            gc.collect(due[-1])
