"""The stage strip: one tile a stage, in working order; navigation, progress and diagnosis at once."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFontMetricsF,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
)
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QWidget

from drover.app.session import STAGES, StageState
from drover.app.theme import BASE, FAINT, FIELD, INK, MOSS, MUTED_TEXT, OCHRE, PAPER, RULE, STONE, TROUGH, number_font

__all__ = ["StageStrip", "TileFacts"]

TITLES = {"footage": "Footage", "detect": "Detect", "track": "Track", "count": "Count", "score": "Score"}
_BARS = {
    StageState.FRESH: MOSS,
    StageState.WORKING: OCHRE,
    StageState.STALE: FAINT,
    StageState.EMPTY: TROUGH,
}


@dataclass(frozen=True)
class TileFacts:
    """What a tile says: headline number, a line below it, cost, state, and progress 0..1 while working."""

    headline: str = "-"
    detail: str = ""
    cost: str = ""
    state: str = StageState.EMPTY
    progress: float | None = None


class StageTile(QWidget):
    """One stage."""

    clicked = Signal(str)

    def __init__(self, stage: str) -> None:
        super().__init__()
        self.stage = stage
        self.facts = TileFacts()
        self.thumbnail: QImage | None = None
        self.chosen = False
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(TITLES[stage])

    def sizeHint(self) -> QSize:
        return QSize(236, 74)

    def show_facts(self, facts: TileFacts) -> None:
        """Take new facts."""
        self.facts = facts
        parts = [TITLES[self.stage], facts.headline, facts.detail, facts.cost, f"Result: {facts.state}."]
        number = STAGES.index(self.stage) + 1
        self.setToolTip("\n".join(part for part in parts if part) + f"\nCtrl+{number}")
        self.setAccessibleDescription(", ".join(part for part in parts if part))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
            frame = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
            painter.setPen(QPen(QColor(MOSS if self.chosen else RULE), 1.6 if self.chosen else 1))
            painter.setBrush(QColor(BASE if self.chosen else PAPER))
            painter.drawRoundedRect(frame, 6, 6)
            self._paint_thumbnail(painter)
            self._paint_words(painter)
            self._paint_bar(painter)
            if self.hasFocus():
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(QColor(MOSS), 1, Qt.PenStyle.DotLine))
                painter.drawRoundedRect(frame.adjusted(3, 3, -3, -3), 4, 4)

    def _paint_thumbnail(self, painter: QPainter) -> None:
        place = QRectF(7, 7, 92, 54)
        painter.fillRect(place, QColor(FIELD))
        if self.thumbnail is not None and not self.thumbnail.isNull():
            painter.drawImage(place, self.thumbnail)

    def _paint_words(self, painter: QPainter) -> None:
        left, width = 108.0, self.width() - 114.0
        rows = (
            (TITLES[self.stage], number_font(12, bold=self.chosen), INK, 6, 16),
            (self.facts.headline, number_font(16, bold=True), INK, 21, 22),
            (self.facts.detail, number_font(11), MUTED_TEXT, 43, 15),
        )
        for text, font, tint, top, height in rows:
            painter.setFont(font)
            painter.setPen(QColor(tint))
            short = QFontMetricsF(font).elidedText(text, Qt.TextElideMode.ElideRight, width)
            painter.drawText(QRectF(left, top, width, height), Qt.AlignmentFlag.AlignVCenter, short)
        cost_font = number_font(10)
        painter.setFont(cost_font)
        painter.setPen(QColor(MUTED_TEXT))
        painter.drawText(
            QRectF(left, 6, width, 16),
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
            self.facts.cost,
        )

    def _paint_bar(self, painter: QPainter) -> None:
        full = QRectF(7, self.height() - 9.0, self.width() - 14.0, 3)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(_BARS[self.facts.state]))
        if self.facts.state == StageState.WORKING:
            painter.setBrush(QColor(TROUGH))
            painter.drawRoundedRect(full, 1.5, 1.5)
            share = 1.0 if self.facts.progress is None else self.facts.progress
            full.setWidth(max(6.0, full.width() * share))
            painter.setBrush(QColor(OCHRE))
        painter.drawRoundedRect(full, 1.5, 1.5)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.clicked.emit(self.stage)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.clicked.emit(self.stage)
        else:
            super().keyPressEvent(event)


class _Chevron(QWidget):
    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(10)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(QColor("#A39E90"), 1.6))
            middle = self.height() / 2
            painter.drawPolyline(QPolygonF([QPointF(3, middle - 4), QPointF(7, middle), QPointF(3, middle + 4)]))


class StageStrip(QWidget):
    """All tiles; ``chosen`` tells which stage the user went to."""

    chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, True)
        self.setStyleSheet(f"StageStrip {{ background: {STONE}; border-bottom: 1px solid {RULE}; }}")
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 7, 10, 7)
        row.setSpacing(4)
        self.tiles: dict[str, StageTile] = {}
        for stage in STAGES:
            if self.tiles:
                row.addWidget(_Chevron())
            tile = StageTile(stage)
            tile.clicked.connect(self.choose)
            row.addWidget(tile, 1)
            self.tiles[stage] = tile

    def choose(self, stage: str) -> None:
        """Go to a stage."""
        for name, tile in self.tiles.items():
            tile.chosen = name == stage
            tile.update()
        self.chosen.emit(stage)
