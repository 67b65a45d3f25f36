"""The live picture with lines, identities and counts; on a full screen the counts are legible from across a room."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from drover.app.field.line_drawing import arrow_of, draw_lines
from drover.app.field.scene import HINTS, draw_results
from drover.app.field.tracks_layer import TracksLayer
from drover.app.field.view_transform import ViewTransform
from drover.app.field.zone_drawing import draw_zones
from drover.app.icons import arrow_path
from drover.app.live.work import LivePicture
from drover.app.theme import DAY, FIELD, colour, number_font

__all__ = ["LiveView"]

SHOWN = {"Outlines", "Numbers", "Trails"}
# A digit seen from three metres needs about 25 mm (a two-hundredth of the way is read with ease; twice that is safe);
# an eighth of a screen's height is that on a laptop, and more on anything larger.
LARGE = 1 / 8
MOST_LARGE = 4  # lines whose counts are shown large


class LiveView(QWidget):
    """Paints the newest picture; ``large`` adds the counts in letters of an eighth of the height."""

    def __init__(self, waiting: str) -> None:
        super().__init__()
        self.picture: LivePicture | None = None
        self.large = False
        self.words = waiting
        self._layer = TracksLayer()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(320, 180)
        self.setAccessibleName("live picture")

    def show_picture(self, picture: LivePicture) -> None:
        """Show this one now."""
        self.picture = picture
        self.update()

    def say(self, words: str) -> None:
        """What stands over the picture, as that the source is gone; nothing while all is well."""
        if words != self.words:
            self.words = words
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        del event
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), colour(FIELD))
            painter.setRenderHints(HINTS)
            foot = round(self.height() * LARGE * 1.5) if self.large else 0
            if self.picture is not None:
                self._paint_picture(painter, self.picture, self.height() - foot)
                if self.large:
                    self._paint_large(painter, self.picture, foot)
            if self.words:
                self._paint_words(painter)

    def _paint_picture(self, painter: QPainter, shown: LivePicture, height: float) -> None:
        image, scene = shown.image, shown.scene
        view = ViewTransform(image.width(), image.height(), self.width(), height, margin=0.0 if self.large else 10.0)
        painter.drawImage(view.picture_rect(), image)
        painter.save()
        painter.setClipRect(view.picture_rect())
        last = scene.clip.frame_count - 1
        draw_results(painter, view, scene, SHOWN, last, self._layer)
        painter.restore()
        now = float(scene.clip.times[last])
        there = scene.to_scene(last)
        draw_zones(painter, view, scene.count.zone, scene.counted, now, to_scene=there)
        draw_lines(painter, view, scene.count.line, None, now, totals=shown.totals, to_scene=there)

    def _paint_large(self, painter: QPainter, shown: LivePicture, height: int) -> None:
        """A strip below the picture: for each line its name, and how many went each way."""
        named = [line for line in shown.scene.count.line if line.name in shown.totals][:MOST_LARGE]
        width = self.width() / max(1, len(named))
        for place, line in enumerate(named):
            cell = QRectF(place * width, self.height() - height, width, height)
            forward, back = shown.totals[line.name]
            ahead = arrow_of(line, ViewTransform(shown.image.width(), shown.image.height()))[1]
            ways = (forward, line.forward_name, ahead), (back, line.back_name, -ahead)
            self._paint_line(painter, cell, line.name, ways)

    def _paint_line(
        self, painter: QPainter, cell: QRectF, name: str, ways: tuple[tuple[int, str, QPointF], ...]
    ) -> None:
        size = max(18, round(self.height() * LARGE))
        big, small = number_font(size, bold=True), number_font(max(12, size // 5))
        half = cell.width() / 2
        while size > 18 and QFontMetricsF(big).horizontalAdvance("0" * max(3, len(str(ways[0][0])))) > half * 0.72:
            size = round(size * 0.85)
            big = number_font(size, bold=True)
        for place, (count, way, along) in enumerate(ways):
            side = QRectF(cell.left() + place * half, cell.top(), half, cell.height())
            painter.setPen(colour(DAY))
            painter.setFont(big)
            top = QRectF(side.left(), side.top(), side.width(), side.height() * 0.74)
            painter.drawText(top.adjusted(size * 0.7, 0, 0, 0), Qt.AlignmentFlag.AlignCenter, str(count))
            wide = QFontMetricsF(big).horizontalAdvance(str(count))
            at = QPointF(top.center().x() - wide / 2 - size * 0.12, top.center().y())
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour(DAY, 190))
            painter.drawPath(arrow_path(at + along * (size * 0.2), along, size * 0.42))
            painter.setPen(colour(DAY, 200))
            painter.setFont(small)
            foot = QRectF(side.left(), side.top() + side.height() * 0.72, side.width(), side.height() * 0.24)
            painter.drawText(foot, Qt.AlignmentFlag.AlignCenter, f"{name}: {way}")

    def _paint_words(self, painter: QPainter) -> None:
        painter.setFont(number_font(15, bold=True))
        bounds = QRectF(self.rect()).adjusted(40, 30, -40, -30)
        flags = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap
        text = painter.boundingRect(bounds, int(flags), self.words)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour(FIELD, 225))
        painter.drawRoundedRect(text.adjusted(-14, -9, 14, 9), 6, 6)
        painter.setPen(colour(DAY))
        painter.drawText(bounds, int(flags), self.words)
