"""How lanes are painted: only what is in sight, however long the clip and however many the identities."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

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

    def prepare(self, lanes: list[Lane]) -> None:
        """Work out in one go what of these lanes is in sight: one by one a page of them takes too long."""
        for which in ("seen", "coasted"):
            new = [lane for lane in lanes if (lane.identity, which) not in self.known]
            if new:
                parts = self._merged([getattr(lane, which) for lane in new])
                self.known |= {(lane.identity, which): part for lane, part in zip(new, parts, strict=True)}

    def _known_parts(self, lane: Lane, which: str) -> list[tuple[float, float]]:
        return self.known[lane.identity, which]

    def _merged(self, lanes: list[NDArray[np.int64]]) -> list[list[tuple[float, float]]]:
        """For each lane its stretches in sight in px; those nearer than a px to each other are one."""
        axis = self.axis
        parts = np.concatenate(lanes)
        of = np.repeat(np.arange(len(lanes)), [len(lane) for lane in lanes])
        shown = (parts[:, 1] >= axis.first) & (parts[:, 0] <= axis.last)
        parts, of = parts[shown], of[shown]
        scale = axis.width / max(1e-9, axis.last - axis.first)
        x = np.clip(axis.left + scale * (parts - axis.first), axis.left, self.width)
        begins = np.ones(len(x), np.bool_)
        begins[1:] = (of[1:] != of[:-1]) | (x[1:, 0] - x[:-1, 1] >= 1.0)
        first = np.flatnonzero(begins)
        ends = x[np.append(first[1:], len(x))[: len(first)] - 1, 1]
        pairs = list(zip(x[first, 0].tolist(), ends.tolist(), strict=True))
        edges = np.searchsorted(of[first], np.arange(len(lanes) + 1)).tolist()
        return [pairs[a:b] for a, b in zip(edges[:-1], edges[1:], strict=True)]

    def strip(self, top: float, lane: Lane, values: NDArray[np.float64]) -> None:
        """A value along a lane, 0..1 a px, NaN where there is none: the bar's height says it."""
        key = lane.identity, f"strip of {self.height}"
        if key not in self.known:
            self.known[key] = _strip_picture(values, self.height, QColor(identity_colour(lane.identity)).darker(130))
        self.painter.drawImage(QPointF(self.axis.left, top + self.height * 0.1), self.known[key])

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
    scale = axis.width / max(1e-9, axis.last - axis.first)
    x = axis.left + scale * (first + edges - axis.first)
    high = means / top * (OVERVIEW - 10)
    bar = zip(x[:-1].tolist(), np.maximum(1.0, np.diff(x) - 1).tolist(), high.tolist(), strict=True)
    rects = [QRectF(left, OVERVIEW - 4 - tall, wide, tall) for left, wide, tall in bar]
    painter.drawRects(rects)
    painter.setPen(QColor(MUTED_TEXT))
    painter.setFont(number_font(10))
    painter.drawText(QRectF(axis.left + axis.width + 3, 2, 20, 14), Qt.AlignmentFlag.AlignLeft, str(top))


def _strip_picture(values: NDArray[np.float64], height: float, tint: QColor) -> QImage:
    """Bars one px wide and up to 0.8 of a lane high, as a picture."""
    tall = max(1, round(height * 0.8))
    known = np.nan_to_num(values)
    from_top = tall - np.where(np.isfinite(values), np.maximum(known * tall, 0.5), 0.0)
    shown = np.arange(tall)[:, None] + 0.5 >= from_top
    pixels = np.where(shown, np.uint32(tint.rgba()), np.uint32(0))
    picture = QImage(pixels.data, len(values), tall, 4 * len(values), QImage.Format.Format_ARGB32)
    return picture.convertToFormat(QImage.Format.Format_ARGB32_Premultiplied)


def strip_of(tracks: Tracks, clip: ClipInfo, identity: int, what: str, axis: TimeAxis) -> NDArray[np.float64]:
    """A value of an identity for each px of an axis, 0..1, NaN where it is not there: confidence, or speed (of 6
    sizes a second).
    """
    out = np.full(int(axis.width), np.nan)
    path = tracks.path_of(identity)
    low, high = np.searchsorted(tracks.frame[path], (axis.first, axis.last + 1))
    a_px = (axis.last - axis.first) / axis.width  # frames
    path = path[low : high : max(1, int(a_px / 4), int((high - low) // axis.width))]
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
