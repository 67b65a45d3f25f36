"""The innovation check as a plot: its mean second by second within its bounds, and what to do about it."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget

from drover.app.dials.parts import muted
from drover.app.dials.plotting import pg
from drover.app.dials.time_plot import TimePlot
from drover.app.session import Session
from drover.app.theme import INK, MOSS, colour
from drover.core.track.evidence import NoiseCheck

__all__ = ["NoisePlot"]


class NoisePlot(QWidget):
    """Mean normalised innovation squared a second, its 95 % bounds, and a sentence."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.plot = TimePlot(session, height=88)
        self.plot.setLogMode(y=True)
        edge = pg.mkPen(colour(MOSS, 130), width=1)
        self._low, self._high = self.plot.plot(pen=edge), self.plot.plot(pen=edge)
        self.plot.addItem(pg.FillBetweenItem(self._low, self._high, brush=colour(MOSS, 40)))
        self.plot.getAxis("left").setTicks([[(-1, "0.1"), (0, "1"), (1, "10")]])
        self._mean = self.plot.plot(pen=pg.mkPen(INK, width=1.6))
        column.addWidget(self.plot)
        column.addWidget(
            muted(
                "Innovation check (NIS), mean of each second, log scale; in the band when noises are right.", wrap=True
            )
        )
        self.words = muted("", wrap=True)
        self.words.setAccessibleName("noise check")
        column.addWidget(self.words)

    def show_check(self, check: NoiseCheck) -> None:
        """Show a check made of the current tracks."""
        self.words.setText(check.words)
        floor = 0.01
        for curve, values in ((self._low, check.low), (self._high, check.high), (self._mean, check.mean)):
            curve.setData(check.time, np.maximum(values, floor))
