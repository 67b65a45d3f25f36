"""The plots of the filter bench; all those over time scrub the footage."""

from __future__ import annotations

import warnings

import numpy as np
from numpy.typing import NDArray
from PySide6.QtWidgets import QGraphicsPathItem, QGridLayout, QVBoxLayout, QWidget

from drover.app.dials.parts import muted
from drover.app.dials.plotting import pg, small_plot
from drover.app.dials.time_plot import TimePlot
from drover.app.session import Session
from drover.app.theme import CLAY, FAINT, INK, MOSS, MUTED, OCHRE, colour
from drover.core.track.filters import FRAME_RATE
from drover.core.track.ride import Measured, Ride, Trade

__all__ = ["BenchPlots"]

Float = NDArray[np.float64]
MARKS = (0.001, 0.01, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100)  # px/frame², where the axis of roughness has words
MOST_CORNERS, MOST_DOTS = 300, 400
MOST_POINTS = 2000  # of a curve: more than that are told by the least and the most of each stretch
BOUND = 5.991  # of a normalised square in the plane, nineteen in twenty below


class BenchPlots(QWidget):
    """Place, speed, misses and their normalised square over time; the errors ahead, and what calmness costs."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(6)
        self.place = [_PlacePlot(session, axis) for axis in "xy"]
        self.speed = _Curves(session, "speed, px/s: across solid, down dashed", 2)
        self.off = _Curves(session, "measured less expected, px, and twice the usual", 2, band=True)
        self.nis = _Curves(session, "its normalised square; below the line nineteen times in twenty", 1)
        self.nis.plot.addItem(pg.InfiniteLine(BOUND, angle=0, pen=pg.mkPen(CLAY, width=1)))
        self.ahead, self.trade = _AheadPlot(), _TradePlot()
        for plot, row, column in (
            (self.place[0], 0, 0), (self.place[1], 0, 1), (self.speed, 1, 0), (self.off, 1, 1), (self.nis, 2, 0),
        ):  # fmt: skip
            grid.addWidget(plot, row, column)
        last = QGridLayout()
        last.setSpacing(6)
        last.addWidget(self.ahead, 0, 0)
        last.addWidget(self.trade, 0, 1)
        grid.addLayout(last, 2, 1)
        for row in range(3):
            grid.setRowStretch(row, 1)
        self.over_time = (*self.place, self.speed, self.off, self.nis)
        self.span = pg.LinearRegionItem(brush=colour(CLAY, 34), pen=pg.mkPen(CLAY, width=1))
        self.span.setZValue(-5)
        self.place[0].plot.addItem(self.span)
        self.span.hide()

    def show_ride(self, measured: Measured, made: Ride) -> None:
        """Show what a filter made of an identity."""
        time = measured.time
        for axis, plot in enumerate(self.place):
            plot.show_ride(measured, made, axis)
        self.speed.show_curves(time, [made.speed[:, 0], made.speed[:, 1]])
        usual = 2 * np.fmax(made.off_spread[:, 0], made.off_spread[:, 1])
        self.off.show_curves(time, [made.off[:, 0], made.off[:, 1]], usual)
        self.nis.show_curves(time, [np.minimum(made.nis, 30.0)])
        self.ahead.show_errors(*made.errors_ahead())

    def fit(self) -> None:
        """Choose the heights of all plots anew; while a dial moves they stay, so that traces can be compared."""
        for plot in (*(one.plot for one in self.over_time), self.ahead.plot, self.trade.plot):
            box = plot.getViewBox()
            box.enableAutoRange(axis="y")
            box.updateAutoRange()
            box.disableAutoRange(axis="y")

    def show_cursor(self) -> None:
        """Put the cursors at the frame shown."""
        for plot in self.over_time:
            plot.plot.move_cursor()


class _Curves(QWidget):
    """Some curves over time under a line of words; a ``band`` lies round nought."""

    def __init__(self, session: Session, words: str, curves: int, *, band: bool = False) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(muted(words))
        self.plot = TimePlot(session)
        self.plot.setMinimumHeight(90)
        self.plot.setMaximumHeight(16_777_215)
        self.plot.getAxis("left").setWidth(38)
        self.plot.setAccessibleName(words)
        column.addWidget(self.plot, 1)
        self._band = _Band(self.plot) if band else None
        pens = (pg.mkPen(INK, width=1), pg.mkPen(OCHRE, width=1, dash=(5, 3)))
        self._curves = [_curve(self.plot, pens[k]) for k in range(curves)]

    def show_curves(self, time: Float, values: list[Float], band: Float | None = None) -> None:
        """Show other values."""
        for curve, column in zip(self._curves, values, strict=True):
            curve.setData(*thinned(time, column))
        if self._band is not None and band is not None:
            whole = np.nan_to_num(band)
            self._band.show(time, -whole, whole)


class _PlacePlot(QWidget):
    """One coordinate over time: measured, expected, filtered with its band, smoothed."""

    def __init__(self, session: Session, axis: str) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        words = f"{axis}, px: measured dots, expected dashed, filtered ±2σ, smoothed ochre"
        column.addWidget(muted(words))
        self.plot = TimePlot(session)
        self.plot.setMinimumHeight(120)
        self.plot.setMaximumHeight(16_777_215)
        self.plot.getAxis("left").setWidth(38)
        self.plot.setAccessibleName(f"{axis} over time")
        column.addWidget(self.plot, 1)
        self._band = _Band(self.plot)
        self._smooth = _curve(self.plot, pg.mkPen(OCHRE, width=1))
        self._expected = _curve(self.plot, pg.mkPen(MUTED, width=1, dash=(4, 3)))
        self._filtered = _curve(self.plot, pg.mkPen(MOSS, width=1))
        self._dotted: Measured | None = None
        self._dots = pg.ScatterPlotItem(size=3.2, pen=None, brush=pg.mkBrush(INK))
        self.plot.addItem(self._dots)

    def show_ride(self, measured: Measured, made: Ride, axis: int) -> None:
        """Show one coordinate of a ride."""
        time = measured.time
        known = np.isfinite(made.filtered[:, axis])
        at, spread = made.filtered[known, axis], 2 * made.spread[known, axis]
        self._band.show(time[known], at - spread, at + spread)
        self._smooth.setData(*thinned(time, made.smooth[:, axis]))
        self._expected.setData(*thinned(time, made.expected[:, axis]))
        self._filtered.setData(*thinned(time, made.filtered[:, axis]))
        if measured is not self._dotted:  # a dial that moves leaves them where they are
            self._dotted, at = measured, measured.centre[:, axis]
            seen = np.isfinite(at)
            step = 1 + int(seen.sum()) // MOST_DOTS
            self._dots.setData(time[seen][::step], at[seen][::step])


def _curve(plot: pg.PlotWidget, pen: object) -> pg.PlotCurveItem:
    """A thin curve with gaps where a value is not finite; not smoothed, which costs and shows nothing."""
    made = pg.PlotCurveItem(pen=pen, connect="finite", antialias=False)
    plot.addItem(made)
    return made


def thinned(time: Float, values: Float) -> tuple[Float, Float]:
    """A curve of no more points than can be seen: the least and the most of each stretch, so that no peak is lost."""
    if len(values) <= MOST_POINTS:
        return time, values
    length = 2 * len(values) // MOST_POINTS
    whole = len(values) // length * length
    parts = values[:whole].reshape(-1, length)
    with np.errstate(all="ignore"), warnings.catch_warnings():
        warnings.simplefilter("ignore")  # a stretch without a value is a gap
        ends = np.column_stack([np.nanmin(parts, axis=1), np.nanmax(parts, axis=1)])
    return np.repeat(time[:whole:length], 2), ends.ravel()


class _Band:
    """What lies between two curves, as one shape of no more corners than can be seen."""

    def __init__(self, plot: pg.PlotWidget) -> None:
        self._shape = QGraphicsPathItem()
        self._shape.setPen(pg.mkPen(None))
        self._shape.setBrush(colour(MOSS, 44))
        self._shape.setZValue(-2)
        plot.addItem(self._shape)

    def show(self, time: Float, low: Float, high: Float) -> None:
        """Lie between other curves."""
        step = max(1, len(time) // MOST_CORNERS)
        t = np.concatenate([time[::step], time[::-1][::step]])
        y = np.concatenate([low[::step], high[::-1][::step]])
        self._shape.setPath(pg.arrayToQPath(t, y))


def _small_plot(name: str) -> pg.PlotWidget:
    plot = small_plot()
    plot.setMinimumHeight(90)
    plot.setAccessibleName(name)
    plot.getAxis("left").setWidth(38)
    return plot


class _AheadPlot(QWidget):
    """How far forecasts were off at each number of frames ahead."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(muted("px off, frames ahead; 9 in 10 dashed"))
        self.plot = _small_plot("errors of forecasts")
        column.addWidget(self.plot, 1)
        self._most = self.plot.plot(pen=pg.mkPen(FAINT, width=1.4, dash=(4, 3)), connect="finite")
        self._mean = self.plot.plot(pen=pg.mkPen(INK, width=1), connect="finite")

    def show_errors(self, mean: Float, most: Float) -> None:
        """Show the errors of other forecasts."""
        ahead = np.arange(1, len(mean) + 1)
        self._mean.setData(ahead, mean)
        self._most.setData(ahead, most)


class _TradePlot(QWidget):
    """Error and lag against roughness, one point for each jumpiness; a ring where the present one stands."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        self.words = muted("what calmness costs")
        column.addWidget(self.words)
        self.plot = _small_plot("what calmness costs")
        self.plot.setLogMode(x=True)
        marks = [(np.log10(value), f"{value:g}") for value in MARKS]
        self.plot.getAxis("bottom").setTicks([marks])
        column.addWidget(self.plot, 1)
        self._error = self.plot.plot(pen=pg.mkPen(INK, width=1), connect="finite")
        self._lag = self.plot.plot(pen=pg.mkPen(OCHRE, width=1.4, dash=(4, 3)), connect="finite")
        self._best = pg.ScatterPlotItem(size=9, pen=pg.mkPen(MOSS, width=2), brush=pg.mkBrush(MOSS))
        self._now = pg.ScatterPlotItem(size=11, pen=pg.mkPen(CLAY, width=2), brush=None)
        self.plot.addItem(self._best)
        self.plot.addItem(self._now)

    def show_trade(self, made: Trade, reference: str, now: tuple[float, float]) -> None:
        """Show a curve; ``now`` is the roughness and the error of the present setting."""
        rough = np.maximum(made.rough, 1e-4)
        self.words.setText(f"off px against {reference}, by roughness; lag in frames dashed")
        self._error.setData(rough, made.error)
        self._lag.setData(rough, made.lag * FRAME_RATE)
        self._best.setData([np.log10(rough[made.best])], [made.error[made.best]])
        self.show_now(now)

    def show_now(self, now: tuple[float, float]) -> None:
        """The present setting moved."""
        if np.isfinite(now).all() and now[0] > 0:
            self._now.setData([np.log10(max(now[0], 1e-4))], [now[1]])
