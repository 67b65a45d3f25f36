"""What part of the clip and which lanes are in sight: zoomed in time and height, moved by the bars."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QScrollBar, QWidget

from drover.app.lanes.axis import TimeAxis
from drover.app.lanes.painting import HEAD, OVERVIEW
from drover.app.lanes.rows import Lane
from drover.app.session import Session

__all__ = ["LANE", "RIGHT", "LanesFrame"]

RIGHT = 22
LANE, LEAST_LANE, MOST_LANE = 17, 4, 44
BAR = 12


class LanesFrame(QWidget):
    """Knows where frames and lanes lie; whoever paints is told by ``_changed`` that something lies elsewhere."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.lanes: list[Lane] = []
        self.axis = TimeAxis.whole(HEAD, 600, 1)
        self.lane_height = LANE
        self._version = 0
        self.bar, self.time_bar = QScrollBar(Qt.Orientation.Vertical, self), QScrollBar(Qt.Orientation.Horizontal, self)
        self.bar.valueChanged.connect(self.update)
        self.time_bar.valueChanged.connect(self._on_time_bar)
        self.time_bar.hide()

    def _changed(self) -> None:
        self._version += 1
        self.update()

    def x_of(self, frame: float) -> float:
        """Widget x of a frame."""
        return self.axis.x_of(frame)

    def frame_at(self, x: float) -> int:
        """Frame under a widget x."""
        return self.axis.frame_at(x)

    def lane_at(self, y: float) -> Lane | None:
        """The lane under a widget y."""
        place = int((y - OVERVIEW + self.bar.value()) // self.lane_height)
        return self.lanes[place] if y >= OVERVIEW and 0 <= place < len(self.lanes) else None

    def show_whole(self) -> None:
        """Show the whole clip again."""
        self._set_axis(TimeAxis.whole(HEAD, self.axis.width, self.axis.frames))

    def zoom(self, factor: float, x: float | None = None) -> None:
        """Show less (over 1) or more of the time, round an x or the playhead."""
        self._set_axis(self.axis.zoomed_by(factor, self.axis.x_of(self.session.frame) if x is None else x))

    def set_lane_height(self, height: int) -> None:
        """Make lanes higher or lower, what is at the top staying there."""
        share = self.bar.value() / self.lane_height
        self.lane_height = min(max(height, LEAST_LANE), MOST_LANE)
        self._fit_bars()
        self.bar.setValue(round(share * self.lane_height))
        self._changed()

    def _set_axis(self, axis: TimeAxis) -> None:
        self.axis = axis
        self._fit_bars()
        self._changed()

    def _fit_bars(self) -> None:
        low = BAR if self.axis.zoomed else 0
        over = OVERVIEW + len(self.lanes) * self.lane_height - (self.height() - low)
        self.bar.setVisible(over > 0)
        self.bar.setRange(0, max(0, over))
        self.bar.setPageStep(max(1, self.height() - low - OVERVIEW))
        self.bar.setSingleStep(self.lane_height)
        self.bar.setGeometry(self.width() - BAR, OVERVIEW, BAR, max(0, self.height() - low - OVERVIEW))
        self.time_bar.setVisible(bool(low))
        span = self.axis.last - self.axis.first
        self.time_bar.blockSignals(True)
        self.time_bar.setRange(0, max(0, round(self.axis.frames - 1 - span)))
        self.time_bar.setPageStep(max(1, round(span)))
        self.time_bar.setValue(round(self.axis.first))
        self.time_bar.blockSignals(False)
        self.time_bar.setGeometry(HEAD, self.height() - BAR, self.width() - HEAD - RIGHT, BAR)

    def _on_time_bar(self, first: int) -> None:
        self.axis = self.axis.moved_to(float(first))
        self._changed()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.axis = self.axis.sized(self.width() - HEAD - RIGHT)
        self._fit_bars()
