"""How lanes are painted: only what is in sight, however long the clip and however many the identities."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from drover.app.icons import arrow_path
from drover.app.lanes.axis import TimeAxis
from drover.app.lanes.rows import Lane
from drover.app.theme import CLAY, FAINT, INK, MUTED_TEXT, PAPER, STONE, TINT, colour, identity_colour, number_font
from drover.core.footage_types import ClipInfo
from drover.core.types import Tracks, TrackState

__all__ = ["HEAD", "OVERVIEW", "LaneBrush", "paint_overview", "strip_of"]

OVERVIEW = 30
HEAD = 112  # px of number, length and ways at the left
TEXT_FROM = 12  # px of height from which a lane has words
STRIPS = ("none", "confidence", "speed")


@dataclass
class LaneBrush:
    """Paints lanes of one height along one axis."""

    painter: QPainter
    axis: TimeAxis
    clip: ClipInfo
    height: float
    width: float
    names: dict[int, str]
    known: dict[tuple[int, str], Any]  # what was worked out for this axis, by identity and what it is

    def lane(self, lane: Lane, top: float, *, shaded: bool, chosen: bool) -> None:
        """One lane without marks."""
        row = QRectF(0, top, self.width, self.height)
        if chosen or shaded:
            self.painter.fillRect(row, QColor(TINT) if chosen else colour(STONE, 120))
        tint = QColor(identity_colour(lane.identity))
        if self.height >= TEXT_FROM:
            self._head(lane, top, tint)
        middle, thick = top + self.height / 2, min(7.0, self.height * 0.5)
        self.painter.setPen(Qt.PenStyle.NoPen)
        self.painter.setBrush(tint)
        self.painter.setRenderHint(
            QPainter.RenderHint.Antialiasing, False
        )  # of upright edges it costs and shows nothing
        bars = [QRectF(a, middle - thick / 2, max(1.0, b - a), thick) for a, b in self._known_parts(lane, "seen")]
        self.painter.drawRects(bars)
        if self.height >= TEXT_FROM:
            self.painter.setPen(QPen(tint.darker(125), 2.0, Qt.PenStyle.DotLine))
            self.painter.drawLines([QLineF(a, middle, b, middle) for a, b in self._known_parts(lane, "coasted")])
        else:
            self.painter.setBrush(colour(tint.name(), 90))
            self.painter.drawRects([QRectF(a, middle - 0.5, b - a, 1.0) for a, b in self._known_parts(lane, "coasted")])
        self.painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)

    def _known_parts(self, lane: Lane, which: str) -> list[tuple[float, float]]:
        key = lane.identity, which
        if key not in self.known:
            self.known[key] = self._merged(getattr(lane, which))
        return self.known[key]

    def _merged(self, parts: NDArray[np.int64]) -> list[tuple[float, float]]:
        """Stretches in sight in px; those nearer than a px to each other are one."""
        axis = self.axis
        shown = parts[(parts[:, 1] >= axis.first) & (parts[:, 0] <= axis.last)]
        if not len(shown):
            return []
        scale = axis.width / max(1e-9, axis.last - axis.first)
        x = np.clip(axis.left + scale * (shown - axis.first), axis.left, self.width)
        cut = np.flatnonzero(x[1:, 0] - x[:-1, 1] >= 1.0)
        first, last = x[np.append(0, cut + 1), 0], x[np.append(cut, len(x) - 1), 1]
        return list(zip(first.tolist(), last.tolist(), strict=True))

    def strip(self, top: float, lane: Lane, values: NDArray[np.float64]) -> None:
        """A value along a lane, 0..1 a px, NaN where there is none: the bar's height says it."""
        thick = self.height * 0.8
        low = top + self.height * 0.9
        known = np.flatnonzero(np.isfinite(values))
        if not len(known):
            return
        self.painter.setPen(Qt.PenStyle.NoPen)
        self.painter.setBrush(QColor(identity_colour(lane.identity)).darker(130))
        rects = [
            QRectF(self.axis.left + k, low - thick * values[k], 1.0, max(0.5, thick * values[k]))
            for k in known.tolist()
        ]
        self.painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        self.painter.drawRects(rects)
        self.painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)

    def _head(self, lane: Lane, top: float, tint: QColor) -> None:
        painter, high = self.painter, min(self.height - 4, 15.0)
        plate = QRectF(12, top + (self.height - high) / 2, 30, high)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(tint)
        painter.drawRoundedRect(plate, 6, 6)
        painter.setPen(QColor("#17201D"))
        painter.setFont(number_font(10, bold=True))
        painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, str(lane.identity))
        painter.setFont(number_font(10))
        painter.setPen(QColor(MUTED_TEXT))
        seconds = (lane.last - lane.first + 1) / self.clip.rate
        words = self.names.get(lane.identity, f"{seconds:.1f} s")
        words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, 40)
        painter.drawText(QRectF(48, top, 42, self.height), Qt.AlignmentFlag.AlignVCenter, words)
        ways = {way for _, way in lane.crossings}
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(INK))
        middle = top + self.height / 2
        if 1 in ways:
            painter.drawPath(arrow_path(QPointF(104, middle), QPointF(1, 0), 7))
        if -1 in ways:
            painter.drawPath(arrow_path(QPointF(93, middle), QPointF(-1, 0), 7))

    def crossings(self, lane: Lane, middle: float) -> None:
        """A wedge at each crossing, pointing right for forward and left for back."""
        self.painter.setPen(QPen(QColor(PAPER), 1))
        self.painter.setBrush(QColor(INK))
        high = min(6.5, self.height * 0.4)
        for time, way in lane.crossings:
            x = self.axis.x_of(float(np.interp(time, self.clip.times, np.arange(self.clip.frame_count))))
            if x < self.axis.left - 8 or x > self.width + 8:
                continue
            wedge = [(x - 4 * way, middle - high), (x + 4 * way, middle), (x - 4 * way, middle + high)]
            self.painter.drawPolygon(QPolygonF([QPointF(*corner) for corner in wedge]))

    def ring(self, frame: int, middle: float, doubt: float) -> None:
        """A ring at a moment, heavier the more doubtful."""
        at = QPointF(self.axis.x_of(frame), middle)
        if at.x() < self.axis.left - 8 or self.height < 8:
            return
        size = min(5.2, self.height * 0.32)
        self.painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in (QPen(QColor(PAPER), 3.4), QPen(QColor(CLAY), 1.2 + 1.2 * doubt)):
            self.painter.setPen(pen)
            self.painter.drawEllipse(at, size, size)

    def alarm(self, frame: int, middle: float) -> None:
        """A filled triangle at an alarm."""
        x = self.axis.x_of(frame)
        if x < self.axis.left - 8:
            return
        self.painter.setPen(QPen(QColor(PAPER), 1))
        self.painter.setBrush(QColor(CLAY))
        corners = [QPointF(x, middle - 6), QPointF(x + 5.5, middle + 4), QPointF(x - 5.5, middle + 4)]
        self.painter.drawPolygon(QPolygonF(corners))

    def group(self, top: float, name: str) -> None:
        """Where a group of lanes begins: a rule, and its name at the right."""
        self.painter.setPen(QPen(QColor(FAINT), 1))
        self.painter.drawLine(QPointF(0, top), QPointF(self.width, top))
        if self.height >= TEXT_FROM:
            self.painter.setFont(number_font(10, bold=True))
            self.painter.setPen(QColor(MUTED_TEXT))
            place = QRectF(self.width - 180, top, 160, self.height)
            self.painter.drawText(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, name)


def paint_overview(painter: QPainter, axis: TimeAxis, in_view: NDArray[np.int64], width: float, words: str) -> None:
    """How many are in view over time, as bars."""
    painter.fillRect(QRectF(0, 0, width, OVERVIEW), QColor(PAPER))
    painter.setPen(QColor(MUTED_TEXT))
    painter.setFont(number_font(11))
    painter.drawText(QRectF(12, 0, HEAD - 12, OVERVIEW), Qt.AlignmentFlag.AlignVCenter, words)
    if len(in_view) == 0:
        return
    first, past = int(axis.first), min(int(axis.last) + 1, len(in_view))
    shown = in_view[first:past]
    if not len(shown):
        return
    bars = max(1, min(int(axis.width // 4), len(shown)))
    edges = np.linspace(0, len(shown), bars + 1).astype(np.int64)
    means = np.add.reduceat(shown, edges[:-1]) / np.maximum(np.diff(edges), 1)
    top = max(1, int(in_view.max()))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(FAINT))
    rects = []
    for k in range(bars):
        x0, x1 = axis.x_of(first + edges[k]), axis.x_of(first + edges[k + 1])
        high = float(means[k]) / top * (OVERVIEW - 10)
        rects.append(QRectF(x0, OVERVIEW - 4 - high, max(1.0, x1 - x0 - 1), high))
    painter.drawRects(rects)
    painter.setPen(QColor(MUTED_TEXT))
    painter.setFont(number_font(10))
    painter.drawText(QRectF(axis.left + axis.width + 3, 2, 20, 14), Qt.AlignmentFlag.AlignLeft, str(top))


def strip_of(tracks: Tracks, clip: ClipInfo, identity: int, what: str, axis: TimeAxis) -> NDArray[np.float64]:
    """A value of an identity for each px of an axis, 0..1, NaN where it is not there: confidence, or speed (of 6
    sizes a second).
    """
    out = np.full(int(axis.width), np.nan)
    path = tracks.path_of(identity)
    low, high = np.searchsorted(tracks.frame[path], (axis.first, axis.last + 1))
    path = path[low : high : max(1, int((high - low) // axis.width))]
    if len(path) < 3:
        return out
    if what == "confidence":
        values = np.where(tracks.state[path] == TrackState.COASTING, np.nan, tracks.confidence[path])
    else:
        box, when = tracks.lying[path].astype(np.float64), clip.times[tracks.frame[path]]
        middle, side = (box[:, :2] + box[:, 2:]) / 2, np.sqrt((box[:, 2:] - box[:, :2]).prod(axis=1).clip(1.0))
        speed = np.gradient(middle, when, axis=0)
        values = np.hypot(speed[:, 0], speed[:, 1]) / side / 6.0
    at = np.clip(
        (axis.width * (tracks.frame[path] - axis.first) / max(axis.last - axis.first, 1e-9)).astype(int),
        0,
        len(out) - 1,
    )
    reach = int(axis.width / max(axis.last - axis.first, 1e-9)) + 1
    for step in range(reach):  # a frame that is several px wide fills them
        out[np.minimum(at + step, len(out) - 1)] = np.clip(values, 0.0, 1.0)
    return out
