"""Both futures of a moment over the picture: the ways as they are, solid, and the other ones, dashed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from drover.app.field.view_transform import ViewTransform
from drover.app.theme import DAY, NIGHT, colour, identity_colour, number_font
from drover.core.doubt.moments import Moment
from drover.core.types import Tracks

__all__ = ["draw_ahead", "draw_futures"]

Float = NDArray[np.float64]
REACH = 1.6  # s before and after that are drawn


def draw_futures(
    painter: QPainter, view: ViewTransform, tracks: Tracks, times: Float, moment: Moment, partner: int
) -> None:
    """The feet of the identities before and after a moment.

    Solid is how they went on, as it is; dashed in the colour that an identity had before is how it would have gone on
    as the other.
    """
    who = [moment.identities[0], *([partner] if partner else [])]
    before = [_way(view, tracks, times, one, float(times[moment.first]), -1) for one in who]
    after = [_way(view, tracks, times, one, float(times[moment.last]), 1) for one in who]
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for k, one in enumerate(who):
        whole = [*before[k], *after[k]]
        _line(painter, whole, QColor(identity_colour(one)), Qt.PenStyle.SolidLine)
    if len(who) == 2:
        for k, one in enumerate(who):
            if before[k] and after[1 - k]:
                other = [before[k][-1], *after[1 - k]]
                _line(painter, other, QColor(identity_colour(one)), Qt.PenStyle.DashLine, aside=5.0)
    for k, one in enumerate(who):
        if after[k]:
            _mark(painter, after[k][-1], str(one), QColor(identity_colour(one)))


def draw_ahead(painter: QPainter, view: ViewTransform, places: Float) -> None:
    """A forecast, (frames, 4) px: x, y and their spreads; every fifth frame with the ellipse of two spreads."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for k, (x, y, across, down) in enumerate(places.tolist(), 1):
        at = view.to_widget(x, y)
        if k % 5 == 0 or k == len(places):
            for tint, width in ((colour(NIGHT, 150), 2.6), (QColor(DAY), 1.2)):
                painter.setPen(QPen(tint, width))
                painter.drawEllipse(at, 2 * across * view.scale, 2 * down * view.scale)
        painter.setPen(QPen(colour(NIGHT, 190), 1))
        painter.setBrush(QColor(DAY))
        painter.drawEllipse(at, 2.4, 2.4)
        painter.setBrush(Qt.BrushStyle.NoBrush)


def _way(view: ViewTransform, tracks: Tracks, times: Float, identity: int, edge: float, way: int) -> list[QPointF]:
    """Its feet in widget px on one side of a time, in order of time."""
    path = tracks.path_of(identity)
    when = times[tracks.frame[path]]
    near = (when >= edge - REACH) & (when <= edge) if way < 0 else (when >= edge) & (when <= edge + REACH)
    box = tracks.box[path[near]].astype(np.float64)
    return [view.to_widget(x, y) for x, y in zip((box[:, 0] + box[:, 2]) / 2, box[:, 3], strict=True)]


def _line(painter: QPainter, points: list[QPointF], tint: QColor, style: Qt.PenStyle, *, aside: float = 0.0) -> None:
    if len(points) < 2:
        return
    shifted = QPolygonF([QPointF(p.x() + aside, p.y() + aside) for p in points])
    for pen in (QPen(colour(NIGHT, 170), 5.0, style), QPen(tint, 2.6, style)):
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        painter.setPen(pen)
        painter.drawPolyline(shifted)


def _mark(painter: QPainter, at: QPointF, text: str, tint: QColor) -> None:
    """The end of a way as it is, with its number."""
    painter.setPen(QPen(colour(NIGHT, 200), 1.4))
    painter.setBrush(tint)
    painter.drawEllipse(at, 4.5, 4.5)
    painter.setFont(number_font(11, bold=True))
    painter.setPen(QColor("#FFFFFF"))
    painter.drawText(QPointF(at.x() + 7, at.y() + 4), text)
    painter.setBrush(Qt.BrushStyle.NoBrush)
