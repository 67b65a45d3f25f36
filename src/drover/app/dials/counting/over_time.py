"""Counts over time: bars by interval, running sums, the peak; the plot scrubs the footage."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton

from drover.app.dials.parts import Card, muted
from drover.app.dials.plotting import pg
from drover.app.dials.time_plot import TimePlot
from drover.app.session import Session
from drover.app.theme import MOSS, OCHRE, colour
from drover.core.count.intervals import INTERVALS, count_intervals
from drover.core.count.rows import usual_interval

__all__ = ["OverTime"]


class OverTime(Card):
    """Line, class and interval chosen; forward up and back down, with both sums."""

    table_wanted = Signal(float)

    def __init__(self, session: Session) -> None:
        super().__init__("Over time")
        self.session = session
        row = QHBoxLayout()
        self.line, self.kind, self.length = QComboBox(), QComboBox(), QComboBox()
        for box, name in ((self.line, "line"), (self.kind, "class"), (self.length, "interval")):
            box.setAccessibleName(f"{name} over time")
            box.setFixedWidth(88)
            box.activated.connect(self.draw)
            row.addWidget(box)
        row.addStretch(1)
        for text, seconds in INTERVALS.items():
            self.length.addItem(text, seconds)
        self.body.addLayout(row)
        self.plot = TimePlot(session, height=140)
        none = np.zeros(0)
        self._forward = pg.BarGraphItem(x=none, height=none, width=1, brush=colour(MOSS, 130), pen=None)
        self._back = pg.BarGraphItem(x=none, height=none, width=1, brush=colour(OCHRE, 150), pen=None)
        self.plot.addItem(self._forward)
        self.plot.addItem(self._back)
        self._sums = (
            self.plot.plot(pen=pg.mkPen(MOSS, width=2)),
            self.plot.plot(pen=pg.mkPen(OCHRE, width=2, style=Qt.PenStyle.DashLine)),
        )
        self.body.addWidget(self.plot)
        self.words = muted("", wrap=True)
        self.words.setAccessibleName("peak interval")
        self.body.addWidget(self.words)
        button = QPushButton("Write intervals…")
        button.clicked.connect(lambda: self.table_wanted.emit(float(self.length.currentData())))
        foot = QHBoxLayout()
        foot.addWidget(button)
        foot.addStretch(1)
        self.body.addLayout(foot)
        session.clip_changed.connect(self._choose_length)

    def _choose_length(self) -> None:
        clip = self.session.clip
        if clip is not None:
            self.length.setCurrentIndex(self.length.findData(usual_interval(clip.duration)))

    def refresh(self) -> None:
        """Offer the lines and classes there are, and draw."""
        crossings = self.session.crossings
        if crossings is None:
            return
        _offer(self.line, list(crossings.line_names))
        _offer(self.kind, ["all", *crossings.class_names])
        self.draw()

    def draw(self) -> None:
        """Draw the chosen line and class."""
        crossings, clip = self.session.crossings, self.session.clip
        line = self.line.currentIndex()
        if crossings is None or clip is None or not 0 <= line < len(crossings.line_names):
            return
        kind = self.kind.currentIndex() - 1 if self.kind.currentIndex() > 0 else None
        counted = count_intervals(crossings, line, float(self.length.currentData()), clip.duration, kind)
        middle = counted.start + counted.length / 2
        self._forward.setOpts(x=middle, height=counted.forward, width=0.86 * counted.length)
        self._back.setOpts(x=middle, height=-counted.back, width=0.86 * counted.length)
        edges = np.append(counted.start, min(counted.start[-1] + counted.length, clip.duration))
        for curve, values, sign in zip(self._sums, (counted.forward, counted.back), (1, -1), strict=True):
            curve.setData(edges, sign * np.concatenate([[0], np.cumsum(values)]))
        peak = counted.peak
        start, most = counted.start[peak], int(counted.forward[peak] + counted.back[peak])
        end = min(start + counted.length, clip.duration)
        self.words.setText(
            f"Bars a {self.length.currentText()}, lines added up; forward above, back below. "
            f"Most from {start:.0f} to {end:.0f} s: {most} passages."
        )
        self.plot.setXRange(0, clip.duration, padding=0.01)


def _offer(box: QComboBox, names: list[str]) -> None:
    """Put names into a box without telling anybody, and keep what was chosen."""
    if [box.itemText(k) for k in range(box.count())] == names:
        return
    chosen = box.currentText()
    with QSignalBlocker(box):
        box.clear()
        box.addItems(names)
        box.setCurrentIndex(max(0, box.findText(chosen)))
