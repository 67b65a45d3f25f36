"""A small plot over the clip's time: a cursor follows the frame, a click or drag goes there."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QWidget

from drover.app.dials.plotting import PLAIN, dress_plot, pg
from drover.app.session import Session
from drover.app.theme import INK

__all__ = ["TimePlot"]


class TimePlot(pg.PlotWidget):
    """A plot with seconds along the bottom; it scrubs the footage."""

    def __init__(self, session: Session, *, height: int = 112, parent: QWidget | None = None) -> None:
        super().__init__(parent, **PLAIN)
        self.session = session
        self.setFixedHeight(height)
        dress_plot(self)
        self.getAxis("left").setWidth(28)
        self.cursor_line = pg.InfiniteLine(angle=90, pen=pg.mkPen(INK, width=1))
        self.addItem(self.cursor_line)
        self.setToolTip("Click or drag to go there.")
        self.viewport().installEventFilter(self)
        session.frame_changed.connect(self.move_cursor)
        session.clip_changed.connect(self.move_cursor)

    def move_cursor(self, _: int = 0) -> None:
        """Put the cursor at the frame shown."""
        clip = self.session.clip
        if clip is not None:
            self.cursor_line.setValue(float(clip.times[self.session.frame]))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QMouseEvent) and self.session.clip is not None:
            pressed = event.type() == QEvent.Type.MouseButtonPress and event.button() == Qt.MouseButton.LeftButton
            dragged = event.type() == QEvent.Type.MouseMove and event.buttons() & Qt.MouseButton.LeftButton
            if pressed or dragged:
                at = self.getViewBox().mapSceneToView(self.mapToScene(event.position().toPoint()))
                self.session.set_frame(self.session.clip.frame_at(float(at.x())))
                return True
        return super().eventFilter(watched, event)
