"""Boxes drawn on the field: one object near and one far, whose sizes limits follow; and a thing to be followed."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from drover.app.field.view_transform import ViewTransform
from drover.app.session import Session
from drover.app.theme import DAY, NIGHT, colour, number_font
from drover.core.recipe import value_of, with_value

__all__ = ["BOX_KEYS", "BoxEditor", "BoxKind"]

BoxKind = Literal["near", "far", "thing", "hand"]
PATHS: dict[BoxKind, str] = {"near": "detect.size.near_box", "far": "detect.size.far_box"}
ARROWS = {
    Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1),
}  # fmt: skip
BOX_KEYS = (*ARROWS, Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape)
SMALLEST = 0.002  # of the picture
Sides = tuple[float, float, float, float]
LEAST = 4.0  # widget px: a smaller drag is a slip of the hand


class BoxEditor:
    """Draws boxes; the field passes it mouse and keys. ``shown`` says whether the near and the far one are on screen.

    A thing to be followed is told to ``thing_marked``, a correction to ``hand_drawn``, in fractions of the picture.
    """

    def __init__(self, session: Session) -> None:
        self.session = session
        self.kind: BoxKind | None = None
        self.thing_marked: Callable[[list[float]], None] = lambda box: None
        self.hand_drawn: Callable[[list[float]], None] = lambda box: None
        self.shown = False
        self.held: Sides | None = None  # the box that keys move, fractions
        self._from: QPointF | None = None
        self._to: QPointF | None = None

    @property
    def drawing(self) -> bool:
        """Whether the next drag draws a box."""
        return self.kind is not None

    def start(self, kind: BoxKind) -> None:
        """The next drag is a box round one object; keys move one that begins where the one chosen is."""
        self.kind, self._from, self._to = kind, None, None
        self.held = self._first_box()

    def stop(self) -> None:
        """Give up."""
        self.kind = self._from = self._to = self.held = None

    def press(self, point: QPointF) -> None:
        """First corner."""
        self._from = self._to = point
        self.held = None

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
        self._take(kind, corners)

    def key(self, key: int, keys: Qt.KeyboardModifier) -> bool:
        """Move the box by a tenth of its size, with Ctrl by a hundredth; with Shift its lower right corner alone; Enter
        takes it. Whether the key was of use.
        """
        if self.kind is None or self.held is None:
            return False
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            kind, held = self.kind, self.held
            self.stop()
            self._take(kind, [round(side, 4) for side in held])
            return True
        if key not in ARROWS:
            return False
        part = 0.01 if keys & Qt.KeyboardModifier.ControlModifier else 0.1
        self.held = _moved(self.held, *ARROWS[key], part, corner=bool(keys & Qt.KeyboardModifier.ShiftModifier))
        return True

    def _take(self, kind: BoxKind, corners: list[float]) -> None:
        held = [min(max(value, 0.0), 1.0) for value in corners]
        if kind == "thing":
            self.thing_marked(held)
        elif kind == "hand":
            self.hand_drawn(held)
        else:
            what = f"draw the {kind} {self.session.recipe.words.one}"
            self.session.edit(with_value(self.session.recipe, PATHS[kind], held), what)

    def _first_box(self) -> Sides:
        """Where the identity chosen is, or was last; without one the middle of the picture."""
        tracks, who, clip = self.session.tracks, self.session.selected, self.session.clip
        path = tracks.path_of(who) if tracks is not None and who else ()
        if tracks is None or clip is None or not len(path):
            return 0.45, 0.45, 0.55, 0.55
        past = int(np.searchsorted(tracks.frame[path], self.session.frame, side="right"))
        sides = tracks.box[path[max(past - 1, 0)]] / (clip.width, clip.height, clip.width, clip.height)
        x1, y1, x2, y2 = np.clip(sides, 0.0, 1.0).tolist()
        return (x1, y1, x2, y2) if min(x2 - x1, y2 - y1) >= SMALLEST else (0.45, 0.45, 0.55, 0.55)

    def draw(self, painter: QPainter, view: ViewTransform) -> None:
        """Both boxes with their names, and the one being drawn."""
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self._from is not None and self._to is not None:
            painter.setPen(QPen(QColor("#FFFFFF"), 1.6, Qt.PenStyle.DashLine))
            painter.drawRect(QRectF(self._from, self._to).normalized())
        elif self.kind is not None and self.held is not None:
            self._draw_held(painter, view, self.held)
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

    @staticmethod
    def _draw_held(painter: QPainter, view: ViewTransform, held: Sides) -> None:
        """The box that keys move, with a knob at the corner that they pull."""
        width, height = view.picture_width, view.picture_height
        rect = QRectF(
            view.to_widget(held[0] * width, held[1] * height), view.to_widget(held[2] * width, held[3] * height)
        )
        painter.setPen(QPen(colour(NIGHT, 160), 4))
        painter.drawRect(rect)
        painter.setPen(QPen(QColor("#FFFFFF"), 1.6, Qt.PenStyle.DashLine))
        painter.drawRect(rect)
        painter.fillRect(QRectF(rect.right() - 3, rect.bottom() - 3, 6, 6), QColor("#FFFFFF"))


def _moved(held: Sides, across: int, down: int, part: float, *, corner: bool) -> Sides:
    """A box moved by a part of its size, or with its lower right corner alone, inside the picture."""
    x1, y1, x2, y2 = held
    dx, dy = across * part * (x2 - x1), down * part * (y2 - y1)
    if corner:
        return x1, y1, min(max(x2 + dx, x1 + SMALLEST), 1.0), min(max(y2 + dy, y1 + SMALLEST), 1.0)
    dx, dy = min(max(dx, -x1), 1.0 - x2), min(max(dy, -y1), 1.0 - y2)
    return x1 + dx, y1 + dy, x2 + dx, y2 + dy
