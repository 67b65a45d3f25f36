"""How a card of the audit is painted."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from drover.app.audit.entries import Entry
from drover.app.audit.strips import STRIP, Strips
from drover.app.theme import BASE, CLAY, FIELD, INK, MOSS, MUTED_TEXT, OCHRE, PAPER, RULE, identity_colour, number_font

__all__ = ["CARD_HEIGHT", "CardPainter"]

CARD_HEIGHT = STRIP[1] + 50
SIGNS = {"confirmed": ("confirmed", MOSS), "rejected": ("rejected", CLAY), "added": ("added", OCHRE)}
Index = QModelIndex | QPersistentModelIndex


class CardPainter(QStyledItemDelegate):
    """A strip of three pictures, then who, when and which way, trust, and what was said."""

    def __init__(self, strips: Strips) -> None:
        super().__init__()
        self._strips = strips

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        del option, index
        return QSize(3 * STRIP[0] + 16, CARD_HEIGHT)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        entry = index.data(Qt.ItemDataRole.UserRole)
        if not isinstance(entry, Entry):
            return
        painter.save()
        rect = QRectF(option.rect).adjusted(2, 2, -2, -2)  # type: ignore[attr-defined]
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)  # type: ignore[attr-defined]
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(MOSS if chosen else RULE), 2 if chosen else 1))
        painter.setBrush(QColor(BASE if chosen else PAPER))
        painter.drawRoundedRect(rect, 5, 5)
        self._paint_strip(painter, rect, entry)
        self._paint_words(painter, rect, entry)
        painter.restore()

    def _paint_strip(self, painter: QPainter, rect: QRectF, entry: Entry) -> None:
        images = self._strips.of_entry(entry)
        for k in range(3):
            place = QRectF(rect.left() + 5 + k * (STRIP[0] + 2), rect.top() + 5, STRIP[0], STRIP[1])
            if k < len(images):
                painter.drawImage(place, images[k])
            else:
                painter.fillRect(place, QColor(FIELD))
        middle = QRectF(rect.left() + 5 + STRIP[0] + 2, rect.top() + 5, STRIP[0], STRIP[1])
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(OCHRE), 2))
        painter.drawRect(middle)

    def _paint_words(self, painter: QPainter, rect: QRectF, entry: Entry) -> None:
        top = rect.top() + STRIP[1] + 8
        left, width = rect.left() + 7, rect.width() - 14
        if entry.identity:
            badge = QRectF(left, top + 1, 30, 15)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(identity_colour(entry.identity)))
            painter.drawRoundedRect(badge, 7, 7)
            painter.setPen(QColor(INK))
            painter.setFont(number_font(11, bold=True))
            painter.drawText(badge, Qt.AlignmentFlag.AlignCenter, str(entry.identity))
        painter.setPen(QColor(INK))
        painter.setFont(number_font(12, bold=True))
        head = f"{entry.time:.2f} s   {entry.line}: {entry.way}"
        start = left + (36 if entry.identity else 0)
        painter.drawText(QRectF(start, top, width - 36, 17), Qt.AlignmentFlag.AlignVCenter, head)
        painter.setFont(number_font(11))
        painter.setPen(QColor(MUTED_TEXT))
        told = f"{entry.class_name}, trust {100 * entry.trust:.0f} %" + ("" if entry.seen else ", not seen crossing")
        told = f"{entry.class_name}, by hand" if entry.said == "added" else told
        painter.drawText(QRectF(left, top + 18, width, 15), Qt.AlignmentFlag.AlignVCenter, told)
        if entry.said:
            self._paint_sign(painter, QPointF(rect.right() - 8, top + 26), *SIGNS[entry.said])

    def _paint_sign(self, painter: QPainter, right: QPointF, word: str, tint: str) -> None:
        painter.setFont(number_font(11, bold=True))
        width = painter.fontMetrics().horizontalAdvance(word) + 14
        plate = QRectF(right.x() - width, right.y() - 9, width, 17)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(tint))
        painter.drawRoundedRect(plate, 8, 8)
        painter.setPen(QColor("#FFFFFF"))
        painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, word)
