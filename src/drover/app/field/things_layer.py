"""Things that are followed by their look, drawn by the outline that was fitted: dashed where it is a forecast."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from drover.app.field.view_transform import ViewTransform
from drover.app.theme import DAY, NIGHT, colour, number_font
from drover.core.follow.table import FollowedThing

__all__ = ["draw_things"]


def draw_things(painter: QPainter, view: ViewTransform, things: tuple[FollowedThing, ...], frame: int) -> None:
    """The four-cornered outline of each thing that is there in a frame, with its name at the upper edge."""
    painter.setFont(number_font(11, bold=True))
    for thing in things:
        if frame >= len(thing.outline) or not np.isfinite(thing.outline[frame]).all():
            continue
        corners = [view.to_widget(float(x), float(y)) for x, y in thing.outline[frame]]
        style = Qt.PenStyle.SolidLine if thing.seen[frame] else Qt.PenStyle.DashLine
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for tint, width in ((colour(NIGHT, 150), 4.4), (QColor("#FFFFFF"), 2.0)):
            painter.setPen(QPen(tint, width, style))
            painter.drawPolygon(QPolygonF(corners))
        painter.setBrush(QColor(DAY))
        painter.setPen(QPen(QColor(NIGHT), 1.2))
        painter.drawEllipse(corners[0], 3.5, 3.5)  # its upper left corner: which way up it is
