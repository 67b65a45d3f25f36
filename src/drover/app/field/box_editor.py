"""Boxes drawn on the field: one object near and one far, whose sizes limits follow; and a thing to be followed."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from drover.app.field.view_transform import ViewTransform
from drover.app.session import Session
from drover.app.theme import DAY, NIGHT, colour, number_font
from drover.core.recipe import value_of, with_value

__all__ = ["BoxEditor", "BoxKind"]

BoxKind = Literal["near", "far", "thing", "hand"]
PATHS: dict[BoxKind, str] = {"near": "detect.size.near_box", "far": "detect.size.far_box"}
LEAST = 4.0  # widget px: a smaller drag is a slip of the hand


class BoxEditor:
    """Draws boxes; the field passes it the mouse. ``shown`` says whether the near and the far one are on screen.

    A thing to be followed is told to ``thing_marked``, a correction to ``hand_drawn``, in fractions of the picture.
    """

    def __init__(self, session: Session) -> None:
        self.session = session
        self.kind: BoxKind | None = None
        self.thing_marked: Callable[[list[float]], None] = lambda box: None
        self.hand_drawn: Callable[[list[float]], None] = lambda box: None
        self.shown = False
        self._from: QPointF | None = None
        self._to: QPointF | None = None

    @property
    def drawing(self) -> bool:
        """Whether the next drag draws a box."""
        return self.kind is not None

    def start(self, kind: BoxKind) -> None:
        """The next drag is a box round one object."""
        self.kind, self._from, self._to = kind, None, None

    def stop(self) -> None:
        """Give up."""
        self.kind = self._from = self._to = None

    def press(self, point: QPointF) -> None:
        """First corner."""
        self._from = self._to = point

    def move(self, point: QPointF) -> None:
        """The other corner follows the mouse."""
        if self._from is not None:
            self._to = point

    def release(self, point: QPointF, view: ViewTransform) -> None:
        """Make the box an edit."""
        kind, start = self.kind, self._from
        self.stop()
        if kind is None or start is None:
            return
        rect = QRectF(start, point).normalized() & view.picture_rect()
        if min(rect.width(), rect.height()) < LEAST:
            return
        corners = []
        for corner in (rect.topLeft(), rect.bottomRight()):
            at = view.to_picture(corner)
            corners += [round(at.x() / view.picture_width, 4), round(at.y() / view.picture_height, 4)]
        held = [min(max(value, 0.0), 1.0) for value in corners]
        if kind == "thing":
            self.thing_marked(held)
            return
        if kind == "hand":
            self.hand_drawn(held)
            return
        self.session.edit(
            with_value(self.session.recipe, PATHS[kind], held), f"draw the {kind} {self.session.recipe.words.one}"
        )

    def draw(self, painter: QPainter, view: ViewTransform) -> None:
        """Both boxes with their names, and the one being drawn."""
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self._from is not None and self._to is not None:
            painter.setPen(QPen(QColor("#FFFFFF"), 1.6, Qt.PenStyle.DashLine))
            painter.drawRect(QRectF(self._from, self._to).normalized())
        if not (self.shown or self.kind in PATHS):
            return
        painter.setFont(number_font(11, bold=True))
        for kind, path in PATHS.items():
            box = value_of(self.session.recipe, path)
            if box is None:
                continue
            width, height = view.picture_width, view.picture_height
            rect = QRectF(
                view.to_widget(box[0] * width, box[1] * height), view.to_widget(box[2] * width, box[3] * height)
            )
            painter.setPen(QPen(colour(NIGHT, 160), 4))
            painter.drawRect(rect)
            painter.setPen(QPen(QColor(DAY), 1.6, Qt.PenStyle.DashDotLine))
            painter.drawRect(rect)
            words = f"one {self.session.recipe.words.one}, {kind}"
            plate = QRectF(rect.left(), rect.bottom() + 4, painter.fontMetrics().horizontalAdvance(words) + 12, 17)
            painter.fillRect(plate, colour(NIGHT, 200))
            painter.setPen(QColor(DAY))
            painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, words)
