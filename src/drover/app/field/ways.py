"""Where they went, over the whole clip: paths, time spent, standing, flow. Worked out once for each result."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPen, QPolygonF

from drover.app.field.view_transform import ViewTransform
from drover.app.icons import arrow_path
from drover.app.theme import DAY, FIELD, NIGHT, colour, identity_colour, number_font
from drover.core.count.presence import flow_map, presence_map
from drover.core.footage_types import ClipInfo
from drover.core.geometry import box_foot
from drover.core.types import Tracks

__all__ = ["WAYS", "Ways"]

WAYS = {
    "All paths": "Where every foot went, in the colour of its identity.",
    "Path of the chosen": "Where the foot of the chosen object went.",
    "Time spent": "How long they were in each part of the picture: the brighter the longer.",
    "Standing": "How long they stood still in each part of the picture.",
    "Flow": "Mean movement in each part of the picture.",
}
# Dark to light in lightness alone as well, so that it reads without colour.
RAMP = np.array([[31, 38, 35], [47, 107, 85], [128, 139, 62], [200, 134, 42], [247, 236, 200]], np.float64)


class Ways:
    """Draws the maps; kept until tracks or the chosen object change."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[object, object]] = {}

    def draw(
        self,
        painter: QPainter,
        view: ViewTransform,
        shown: set[str],
        tracks: Tracks,
        clip: ClipInfo,
        selected: int | None,
    ) -> None:
        """Draw those of the maps that are switched on."""
        for name, standing in (("Time spent", False), ("Standing", True)):
            if name in shown:
                seconds = self._once(
                    name, tracks, lambda standing=standing: presence_map(tracks, clip.times, standing=standing)
                )
                self._draw_heat(painter, view, seconds, name)
        if "All paths" in shown:
            self._draw_paths(painter, view, tracks, None)
        elif "Path of the chosen" in shown and selected is not None:
            self._draw_paths(painter, view, tracks, selected)
        if "Flow" in shown:
            flow = self._once("Flow", tracks, lambda: flow_map(tracks, clip.times))
            self._draw_flow(painter, view, flow)

    def _once(self, name: str, tracks: Tracks, make):  # type: ignore[no-untyped-def]
        known = self._known.get(name)
        if known is None or known[0] is not tracks:
            known = self._known[name] = tracks, make()
        return known[1]

    def _draw_paths(self, painter: QPainter, view: ViewTransform, tracks: Tracks, only: int | None) -> None:
        paths = tracks.paths
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for k, who in enumerate(paths.identity.tolist()):
            if only is not None and who != only:
                continue
            rows = paths.row[paths.start[k] : paths.start[k + 1]]
            feet = box_foot(tracks.box[rows[:: 1 if only else 3]])
            shape = QPolygonF([view.to_widget(x, y) for x, y in feet.tolist()])
            painter.setPen(QPen(colour(NIGHT, 110), 3.2))
            painter.drawPolyline(shape)
            painter.setPen(QPen(colour(identity_colour(who), 235), 1.6))
            painter.drawPolyline(shape)

    def _draw_heat(self, painter: QPainter, view: ViewTransform, seconds: NDArray[np.float64], name: str) -> None:
        image, most = heat_image(seconds)
        cell = view.picture_width / seconds.shape[1]
        low, high = view.to_widget(0, 0), view.to_widget(view.picture_width, cell * seconds.shape[0])
        painter.drawImage(QRectF(low, high), image)
        self._draw_scale(painter, view, most, name)

    def _draw_scale(self, painter: QPainter, view: ViewTransform, most: float, name: str) -> None:
        """What the colours mean, at the foot of the picture."""
        words = f"{name.lower()}: 0 to {most:.1f} s a cell"
        painter.setFont(number_font(11))
        width = QFontMetricsF(painter.font()).horizontalAdvance(words)
        rect = view.picture_rect()
        plate = QRectF(rect.left() + 10, rect.bottom() - 32, width + 96, 22)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour(FIELD, 215))
        painter.drawRoundedRect(plate, 4, 4)
        ramp = QImage(64, 1, QImage.Format.Format_RGB32)
        for k in range(64):
            ramp.setPixelColor(k, 0, QColor(*map(int, _ramp(np.array([k / 63]))[0])))
        painter.drawImage(QRectF(plate.left() + 8, plate.top() + 6, 70, 10), ramp)
        painter.setPen(QColor(DAY))
        painter.drawText(plate.adjusted(84, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words)

    def _draw_flow(self, painter: QPainter, view: ViewTransform, flow) -> None:  # type: ignore[no-untyped-def]
        fast = np.hypot(flow.dx, flow.dy)
        top = float(np.percentile(fast, 95)) if len(fast) else 1.0
        for x, y, dx, dy, speed in zip(flow.x, flow.y, flow.dx, flow.dy, fast, strict=True):
            if speed < 0.05 * max(top, 1e-9):
                continue
            length = 0.42 * flow.cell * min(speed / max(top, 1e-9), 1.0) + 0.14 * flow.cell
            way = QPointF(dx / speed, dy / speed)
            tail = view.to_widget(x - way.x() * length / 2, y - way.y() * length / 2)
            tip = view.to_widget(x + way.x() * length / 2, y + way.y() * length / 2)
            painter.setPen(QPen(colour(NIGHT, 170), 4))
            painter.drawLine(tail, tip)
            painter.setPen(QPen(QColor("#FFFFFF"), 1.8))
            painter.drawLine(tail, tip)
            painter.setPen(QPen(colour(NIGHT, 170), 1))
            painter.setBrush(QColor("#FFFFFF"))
            painter.drawPath(arrow_path(tip + way * 4, way, max(6.0, 8.0 * math.sqrt(view.scale))))


def _ramp(share: NDArray[np.float64]) -> NDArray[np.float64]:
    """Colours (n, 3) 0..255 for shares (n,) 0..1."""
    at = np.linspace(0, 1, len(RAMP))
    return np.column_stack([np.interp(share, at, RAMP[:, c]) for c in range(3)])


def heat_image(seconds: NDArray[np.float64]) -> tuple[QImage, float]:
    """A map of seconds as a picture, clear where nothing was, and the value at the ramp's top."""
    most = float(np.percentile(seconds[seconds > 0.02], 99)) if (seconds > 0.02).any() else 1.0
    share = np.clip(seconds / most, 0.0, 1.0)
    out = np.zeros((*seconds.shape, 4), np.uint8)
    out[..., :3] = _ramp(share.ravel()).reshape(*seconds.shape, 3)
    out[..., 3] = np.where(seconds > 0.02, 90 + 140 * np.sqrt(share), 0)
    height, width = seconds.shape
    held = np.ascontiguousarray(out)
    return QImage(held.data, width, height, 4 * width, QImage.Format.Format_RGBA8888).copy(), most
