"""The sizes of all blobs of the clip, width by height, with the limits as a rectangle to drag."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from drover.app.dials.parts import muted
from drover.app.dials.plotting import pg, small_plot
from drover.app.theme import CLAY, MOSS, MUTED, colour
from drover.core.detect.result import DetectResult
from drover.core.detect.size_rules import sizes_near_by
from drover.core.names import grouped
from drover.core.recipe import DetectSettings, SizeSettings
from drover.core.types import rows_to_frames

__all__ = ["SizePlot"]

MOST_POINTS = 2500  # of each kind: more would only paint the same spots again
LEAST, MOST = 1.0, 2000.0  # px, the ends of both axes


class SizePlot(QWidget):
    """Kept blobs are filled, rejected ones hollow. ``changing`` and ``changed`` carry the four limits.

    The limits come as least width, least height, most width, most height, px.
    """

    changing = Signal(float, float, float, float)
    changed = Signal(float, float, float, float)
    frame_wanted = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        self.plot = small_plot()
        self.plot.setFixedHeight(190)
        for side, words in (("bottom", "width, px"), ("left", "height, px")):
            self.plot.getAxis(side).setLabel(words, color=MUTED, **{"font-size": "10px"})
        ticks = [(float(np.log10(v)), str(v)) for v in (2, 5, 10, 20, 50, 100, 200, 500, 1000)]
        self.plot.getAxis("bottom").setTicks([ticks])
        self.plot.getAxis("left").setTicks([ticks])
        self.rejected = pg.ScatterPlotItem(size=5, pen=pg.mkPen(CLAY, width=1), brush=None, hoverable=True)
        self.kept = pg.ScatterPlotItem(size=5, pen=None, brush=pg.mkBrush(colour(MOSS, 110)), hoverable=True)
        for points, word in ((self.rejected, "rejected"), (self.kept, "kept")):
            points.opts["tip"] = lambda x, y, data, word=word: (
                f"frame {data + 1}: {10**x:.0f} × {10**y:.0f} px, {word}\nclick goes there"
            )
            points.sigClicked.connect(self._clicked)
            self.plot.addItem(points)
        self.limits = pg.RectROI((0, 0), (1, 1), pen=pg.mkPen(CLAY, width=2), hoverPen=pg.mkPen(CLAY, width=3))
        self.limits.handlePen = pg.mkPen(CLAY, width=2)
        self.limits.addScaleHandle((0, 0), (1, 1))
        self.limits.setZValue(10)
        self.limits.translatable = False
        self.limits.sigRegionChanged.connect(self._dragged)
        self.limits.sigRegionChangeFinished.connect(self._dropped)
        self.plot.addItem(self.limits)
        self.plot.setToolTip("Every blob of the clip by its size. Drag the corners of the red rectangle to set limits.")
        self._showing = False
        column.addWidget(self.plot)
        self.words = muted("", wrap=True)
        column.addWidget(self.words)

    def show_blobs(self, detect: DetectResult | None, settings: DetectSettings, size: tuple[int, int]) -> None:
        """Show all blobs of a result, by their size where they stand over the size near by."""
        if detect is None:
            return
        found = detect.detections
        frames = rows_to_frames(found.frame_start)
        kept = np.column_stack([frames, found.box]) if len(found) else np.zeros((0, 5))
        ends = []
        for points, rows in ((self.kept, kept), (self.rejected, detect.rejected)):
            some = rows[:: max(1, -(-len(rows) // MOST_POINTS))]
            sizes = sizes_near_by(some[:, 1:], settings.size, size)
            wide, tall = (np.maximum(side, LEAST) for side in sizes)
            points.setData(np.log10(wide), np.log10(tall), data=some[:, 0].astype(int))
            if len(wide):
                ends.append((wide.min(), wide.max(), tall.min(), tall.max()))
        low = max(LEAST, min((min(e[0], e[2]) for e in ends), default=2.0) * 0.8)
        high = min(MOST, max((max(e[1], e[3]) for e in ends), default=200.0) * 1.5)
        self.plot.setXRange(np.log10(low), np.log10(high), padding=0.02)
        self.plot.setYRange(np.log10(low), np.log10(high), padding=0.02)
        scaled = settings.size.near_box is not None and settings.size.far_box is not None
        depth = " Sizes are brought to the near box's distance." if scaled else ""
        if size[0] != settings.size.for_width:
            depth += f" Shown as in frames {settings.size.for_width} px wide, which the limits are given for."
        counts = (grouped(len(rows)) for rows in (kept, detect.rejected))
        self.words.setText("{} kept, {} rejected.".format(*counts) + depth)

    def show_limits(self, size: SizeSettings) -> None:
        """Put the rectangle where the settings are, unless it is being dragged."""
        if self.limits.isMoving:
            return
        low = np.log10([max(size.least_width, LEAST), max(size.least_height, LEAST)])
        high = np.log10([min(size.most_width, MOST), min(size.most_height, MOST)])
        self._showing = True
        self.limits.setPos(low, finish=False)
        self.limits.setSize(np.maximum(high - low, 0.02), finish=False)
        self._showing = False

    def _values(self) -> tuple[float, float, float, float]:
        at, size = self.limits.pos(), self.limits.size()
        low, high = (at.x(), at.y()), (at.x() + size.x(), at.y() + size.y())
        least = [0.0 if v <= np.log10(LEAST) else float(round(10**v)) for v in low]
        most = [4000.0 if v >= np.log10(MOST) - 0.01 else float(round(10**v)) for v in high]
        return least[0], least[1], most[0], most[1]

    def _dragged(self) -> None:
        if not self._showing:
            self.changing.emit(*self._values())

    def _dropped(self) -> None:
        if not self._showing:
            self.changed.emit(*self._values())

    def _clicked(self, _: object, points: list, event: object) -> None:
        if len(points):
            self.frame_wanted.emit(int(points[0].data()))
