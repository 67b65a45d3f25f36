"""The picture of a source that is looked at."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from drover.app.theme import FIELD, colour, number_font

__all__ = ["Preview"]


class Preview(QWidget):
    """The source's picture, or why there is none."""

    def __init__(self) -> None:
        super().__init__()
        self.image: QImage | None = None
        self.words = ""
        self.setMinimumSize(400, 225)
        self.setAccessibleName("preview")

    def show_image(self, image: QImage | None, words: str = "") -> None:
        """Show this picture, or words where there is none."""
        self.image, self.words = image, words
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        del event
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), colour(FIELD))
            if self.image is not None:
                painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
                scale = min(self.width() / self.image.width(), self.height() / self.image.height())
                place = QRectF(0, 0, self.image.width() * scale, self.image.height() * scale)
                place.moveCenter(QRectF(self.rect()).center())
                painter.drawImage(place, self.image)
            painter.setPen(colour("#C9D0CC"))
            painter.setFont(number_font(12))
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(QRectF(self.rect()).adjusted(20, 10, -20, -10), int(flags), self.words)
