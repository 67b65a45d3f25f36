"""A dialog that asks what is wanted and does it on a thread: how far it is, a way to stop, what went wrong."""

from __future__ import annotations

from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import QDialog, QProgressBar, QVBoxLayout, QWidget

from drover.app.dials.parts import muted, notice
from drover.app.jobs import LatestJob

__all__ = ["WorkDialog"]

WHOLE = 1000  # of the bar


class WorkDialog(QDialog):
    """``job`` does the work; ``show_working`` is for the subclass to switch its own controls."""

    def __init__(self, title: str, job: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(18, 16, 18, 14)
        self.column.setSpacing(10)
        self.fault = notice()
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setRange(0, WHOLE)
        self.bar.setAccessibleName(f"progress: {title.lower()}")
        self.words = muted("", wrap=True)
        self.job = LatestJob(job, self)
        self.job.failed.connect(self.show_fault)

    def show_share(self, done: float, total: float) -> None:
        """How far the work is."""
        self.bar.setValue(round(WHOLE * done / max(1, total)))

    def show_working(self, on: bool) -> None:
        """Whether the work goes on."""
        del on
        self.bar.setValue(0)

    def stop_work(self, words: str) -> None:
        """Stop, and say what is left of it."""
        self.job.cancel()
        self.show_working(False)
        self.words.setText(words)

    def show_fault(self, words: str) -> None:
        """What went wrong stays until the next try."""
        self.show_working(False)
        self.words.setText("")
        self.fault.setText(words)
        self.fault.show()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.job.close()
        super().closeEvent(event)
