"""A distribution with a handle where a setting cuts it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QGridLayout, QWidget

from drover.app.dials.plotting import pg, small_plot
from drover.app.theme import CLAY, GROUND, INK, number_font
from drover.core.recipe import is_auto
from drover.core.setting_info import SettingInfo

__all__ = ["EvidencePlot"]


class EvidencePlot(QWidget):
    """A distribution with a handle where it is cut; for a setting on auto, where it was taken to be cut.

    ``changing`` while the handle moves, ``changed`` once it is let go. Bars on the kept side are moss, on the
    cut side pale.
    """

    changing = Signal(float)
    changed = Signal(float)

    def __init__(self, info: SettingInfo, *, keep_below: bool, log_counts: bool = False, height: int = 104) -> None:
        super().__init__()
        self.info, self._keep_below, self._log = info, keep_below, log_counts
        layout = QGridLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.plot = small_plot()
        self.plot.setFixedHeight(height)
        self.plot.hideAxis("left")
        axis = self.plot.getAxis("bottom")
        axis.setStyle(tickLength=3)
        axis.setHeight(20)
        self.plot.getPlotItem().setContentsMargins(4, 4, 4, 0)
        self._bars = pg.BarGraphItem(x=[0.0], height=[0.0], width=1.0)
        self._now = pg.PlotCurveItem(pen=pg.mkPen(INK, width=1.3))
        self.plot.addItem(self._bars)
        self.plot.addItem(self._now)
        self.handle = pg.InfiniteLine(
            movable=True, angle=90, bounds=(info.low, info.high), pen=pg.mkPen(CLAY, width=2),
            hoverPen=pg.mkPen(CLAY, width=4), label="{value:.1f}",
            labelOpts={"position": 0.86, "color": "#FFFFFF", "fill": pg.mkBrush(CLAY),
                       "movable": False, "rotateAxis": None},
        )  # fmt: skip
        unit = "" if info.unit == "fraction" else f" {info.unit}"
        number = "{value:.0f}" if info.whole or info.step >= 1 else "{value:.1f}" if info.step >= 0.1 else "{value:.2f}"
        self._number = number + unit
        self._setting: float = info.low
        self._taken: float | None = None
        self.handle.label.setFormat(self._number)
        self.handle.label.setFont(number_font(10, bold=True))
        self.handle.setCursor(Qt.CursorShape.SizeHorCursor)
        self.handle.sigDragged.connect(self._dragged)
        self.handle.sigPositionChangeFinished.connect(self._dropped)
        self.plot.addItem(self.handle)
        self.plot.setToolTip(info.help + "\nDrag the red handle.")
        layout.addWidget(self.plot, 0, 0)
        self._marker: pg.InfiniteLine | None = None
        self._edges, self._counts = np.array([0.0, 1.0]), np.zeros(1)

    def show_evidence(
        self, edges: NDArray[np.float64], counts: NDArray[np.float64], now: NDArray[np.float64] | None = None
    ) -> None:
        """Show a histogram; ``now`` is a second one over the same bins, for this frame alone, as a line."""
        self._edges, self._counts = np.asarray(edges, float), self._scaled(np.asarray(counts, float))
        if now is not None and now.sum() > 0:
            line = self._scaled(np.asarray(now, float) * (counts.sum() / now.sum()))
            self._now.setData(np.repeat(self._edges, 2)[1:-1], np.repeat(line, 2))
        else:
            self._now.setData([], [])
        top = max(1e-9, float(self._counts.max(initial=0)))
        self.plot.setYRange(0, top * 1.25, padding=0)
        self.plot.setXRange(float(self._edges[0]), float(self._edges[-1]), padding=0.01)
        self._tint()

    def show_marker(self, value: float | None, words: str) -> None:
        """Mark a place that is not to be moved, such as the measured noise; None takes it away."""
        if self._marker is None:
            self._marker = pg.InfiniteLine(
                angle=90, pen=pg.mkPen(INK, width=1.2, style=Qt.PenStyle.DotLine), label="",
                labelOpts={"position": 0.5, "color": INK, "fill": pg.mkBrush(GROUND), "movable": False,
                           "anchors": [(0, 0.5), (0, 0.5)]},
            )  # fmt: skip
            self._marker.label.setFont(number_font(10))
            self.plot.addItem(self._marker)
        self._marker.setVisible(value is not None)
        if value is not None:
            self._marker.setPos(value)
            self._marker.label.setFormat(words)

    def show_value(self, value: float) -> None:
        """Put the handle where the setting is, unless it is being dragged."""
        self._setting = value
        self._place()

    def show_taken(self, value: float | None) -> None:
        """While the setting is on auto, put the handle where it was taken to be; None as long as nobody knows."""
        self._taken = value
        self._place()

    def _place(self) -> None:
        if self.handle.moving:
            return
        on_auto = self.info.auto and is_auto(self._setting)
        value = self._taken if on_auto else self._setting
        self.handle.setVisible(value is not None)
        self.handle.label.setFormat(f"auto {self._number}" if on_auto else self._number)
        if value is not None and value != self.handle.value():
            with QSignalBlocker(self.handle):
                self.handle.setValue(value)
            self._tint()
        self.handle.label.valueChanged()

    def _scaled(self, counts: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.log10(1.0 + counts) if self._log else counts

    def _tint(self) -> None:
        middle = (self._edges[1:] + self._edges[:-1]) / 2
        kept = (middle <= self.handle.value()) == self._keep_below
        counted, cut = pg.mkBrush("#7FA392"), pg.mkBrush("#D8CBB2")
        brushes = [counted if on else cut for on in kept]
        width = np.diff(self._edges) * 0.9
        self._bars.setOpts(x=middle, height=self._counts, width=width, brushes=brushes, pen=pg.mkPen(None))

    def _value(self) -> float:
        value = float(self.handle.value())
        return float(round(value)) if self.info.whole or self.info.step >= 1 else round(value, 2)

    def _dragged(self) -> None:
        self._tint()
        self.changing.emit(self._value())

    def _dropped(self) -> None:
        self.changed.emit(self._value())
