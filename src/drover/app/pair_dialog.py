"""Two frames held against each other: every detector with every way of linking, timed, and what one of them sees."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QSpinBox,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import muted
from drover.app.images import grey_image
from drover.app.theme import DAY, FIELD, MOSS, colour, number_font
from drover.app.work_dialog import WorkDialog
from drover.core.camera.canvas import lay_on
from drover.core.features.models import MODELS, inverse
from drover.core.features.pair import LINKS, PairWay, all_ways, corners_alone
from drover.core.features.scales import DetectorName
from drover.core.footage.opened import open_footage
from drover.core.footage_types import ClipInfo
from drover.core.names import grouped

__all__ = ["PairDialog"]

COLUMNS = ("points by", "linked by", "points", "pairs", "agree", "left over", "overlap", "find", "link", "fit", "all")
WORDS = {"segment": "segment test", "eigen": "least eigenvalue", "blobs": "blobs of any size"}
LIGHTEN = 4  # times by which differences are shown stronger
MOST_DRAWN = 400
OUTLIER = "#F2B6A0"


class PairDialog(WorkDialog):
    """Compares this frame with one some frames on; a row of the table is shown in the pictures."""

    _way = Signal(int, object)

    def __init__(self, clip: ClipInfo, frame: int, model: str, parent: QWidget | None) -> None:
        super().__init__("A pair of frames", "pair", parent)
        self.clip, self.frame = clip, frame
        self.resize(1060, 700)
        head = QHBoxLayout()
        self.apart = QSpinBox()
        self.apart.setRange(1, max(1, min(10_000, clip.frame_count - 1)))
        self.apart.setSuffix(" frames on")
        self.apart.setAccessibleName("frames apart")
        self.model = QComboBox()
        self.model.addItems(list(MODELS))
        self.model.setCurrentText(model)
        self.model.setAccessibleName("what the motion may be")
        head.addWidget(QLabel(f"frame {frame + 1} against the one"))
        head.addWidget(self.apart)
        head.addWidget(QLabel("as a motion that is"))
        head.addWidget(self.model)
        head.addStretch(1)
        self.column.addLayout(head)
        self.corners = muted("")
        self.corners.setAccessibleName("corners of the picture at its own size")
        self.column.addLayout(self._pictures(), 1)
        self.column.addWidget(self.corners)
        self.column.addWidget(self._table())
        self.column.addWidget(self.fault)
        self.column.addWidget(self.words)
        self.ways: list[PairWay] = []
        self._both: tuple[NDArray[np.uint8], NDArray[np.uint8]] | None = None
        self._ticket = 0
        self.apart.valueChanged.connect(lambda _: self.compare())
        self.model.currentTextChanged.connect(lambda _: self.compare())
        self.table.currentCellChanged.connect(lambda row, *_: self.show_way(row))
        self._way.connect(self._on_way)
        self.job.done.connect(self._on_done)
        self.compare()

    def _pictures(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setSpacing(8)
        self.points, self.raw, self.aligned = _Picture(), _Picture(), _Picture()
        for column, (words, picture) in enumerate((
            ("where points went: agreeing solid, others dotted", self.points), ("difference as it is", self.raw),
            ("difference with the motion taken out", self.aligned),
        )):  # fmt: skip
            cell = QVBoxLayout()
            cell.addWidget(muted(words))
            cell.addWidget(picture, 1)
            picture.setAccessibleName(words)
            grid.addLayout(cell, 0, column)
        return grid

    def _table(self) -> QTableWidget:
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setHorizontalHeaderLabels(COLUMNS)
        self.table.horizontalHeaderItem(COLUMNS.index("find")).setToolTip(
            "in both pictures, at four sizes, with directions"
        )
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.verticalHeader().hide()
        self.table.setAccessibleName("ways of finding the motion")
        self.table.setFixedHeight(306)
        self.table.horizontalHeader().setStretchLastSection(True)
        return self.table

    def compare(self) -> None:
        """Go through all ways again."""
        self._ticket += 1
        ticket, path, first = self._ticket, self.clip.path, self.frame
        second = min(first + self.apart.value(), self.clip.frame_count - 1)
        model = MODELS[self.model.currentIndex()]
        self.ways, self._both = [], None
        self.table.setRowCount(0)
        self.fault.hide()
        self.words.setText("looking …")

        def work(cancelled):  # type: ignore[no-untyped-def]
            with open_footage(path, cache_bytes=0) as reader:
                both = reader.frame(first).grey, reader.frame(second).grey
            all_ways(*both, (model,), cancelled=cancelled, on_way=lambda way: self._way.emit(ticket, (both, way)))
            return ticket, corners_alone(both[1])

        self.job.submit(work)

    def _on_way(self, ticket: int, found: tuple[tuple[NDArray[np.uint8], NDArray[np.uint8]], PairWay]) -> None:
        if ticket != self._ticket:
            return
        self._both, way = found
        self.ways.append(way)
        row = self.table.rowCount()
        self.table.setRowCount(row + 1)
        failed = bool(way.fit.reason)
        cells = (
            WORDS[way.detector], LINKS[way.link], f"{way.points}", f"{len(way.a)}",
            f"{int(way.fit.inlier.sum())}", "-" if failed else f"{way.fit.residual:.2f} px",
            "-" if failed else f"{100 * way.overlap:.0f} %", f"{way.find_ms:.1f} ms", f"{way.link_ms:.1f} ms",
            f"{way.fit_ms:.1f} ms", f"{way.ms:.1f} ms",
        )  # fmt: skip
        for column, text in enumerate(cells):
            item = QTableWidgetItem(text)
            if column > 1:
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                item.setFont(number_font(12))
            item.setToolTip(way.fit.reason)
            self.table.setItem(row, column, item)
        if row == 0:
            self.table.resizeColumnsToContents()
            self.table.setCurrentCell(0, 0)

    def _on_done(self, done: tuple[int, dict[DetectorName, tuple[int, float]]]) -> None:
        ticket, corners = done
        if ticket == self._ticket:
            told = [f"{WORDS[name]} {grouped(many)} in {ms:.1f} ms" for name, (many, ms) in corners.items()]
            self.corners.setText(f"corners at the picture's own size alone: {', '.join(told)}")
            self.table.resizeColumnsToContents()
            self.show_way(self.table.currentRow())

    def show_way(self, row: int) -> None:
        """Show what one way saw."""
        if self._both is None or not 0 <= row < len(self.ways):
            return
        way, (before, after) = self.ways[row], self._both
        self.points.show_pairs(after, way)
        self.raw.show_grey(_difference(before, after))
        if way.fit.matrix is None:
            self.aligned.show_grey(np.zeros_like(after))
            self.words.setText(f"no motion: {way.fit.reason}")
            return
        laid = np.zeros_like(after)
        lay_on(before, inverse(way.fit.matrix), after.astype(np.float32), laid)
        self.aligned.show_grey(_difference(laid, after))
        x, y = way.fit.matrix[:2, 2]
        turn = np.degrees(np.arctan2(way.fit.matrix[1, 0], way.fit.matrix[0, 0]))
        zoom = np.sqrt(abs(np.linalg.det(way.fit.matrix[:2, :2])))
        self.words.setText(
            f"the picture goes {x:+.1f} px right and {y:+.1f} px down at its corner, turns by {turn:+.2f}° and grows "
            f"{zoom:.3f} times; {100 * way.fit.share:.0f} % of the pairs agree, in {100 * way.fit.coverage:.0f} % of it"
        )


def _difference(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> NDArray[np.uint8]:
    apart = np.abs(one.astype(np.int16) - other) * LIGHTEN
    return np.minimum(apart, 255).astype(np.uint8)


class _Picture(QWidget):
    """A picture that fits its place, with pairs of points on it."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(QSize(240, 140))
        self._grey: NDArray[np.uint8] | None = None
        self._pairs: PairWay | None = None

    def show_grey(self, grey: NDArray[np.uint8]) -> None:
        """A picture alone."""
        self._grey, self._pairs = grey, None
        self.update()

    def show_pairs(self, grey: NDArray[np.uint8], way: PairWay) -> None:
        """A picture with where its points came from."""
        self._grey, self._pairs = grey, way
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), QColor(FIELD))
            if self._grey is None:
                return
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            height, width = self._grey.shape
            scale = min(self.width() / width, self.height() / height)
            rect = QRectF(0, 0, width * scale, height * scale)
            rect.moveCenter(QPointF(self.width() / 2, self.height() / 2))
            painter.drawImage(rect, grey_image(self._grey))
            if self._pairs is not None:
                self._draw_pairs(painter, rect, scale)

    def _draw_pairs(self, painter: QPainter, rect: QRectF, scale: float) -> None:
        way = self._pairs
        assert way is not None
        step = max(1, len(way.a) // MOST_DRAWN)
        for k in range(0, len(way.a), step):
            agrees = bool(way.fit.inlier[k])
            ends = [QPointF(rect.left() + x * scale, rect.top() + y * scale) for x, y in (way.a[k], way.b[k])]
            style = Qt.PenStyle.SolidLine if agrees else Qt.PenStyle.DotLine
            painter.setPen(QPen(colour(DAY, 230) if agrees else QColor(OUTLIER), 1.3, style))
            painter.drawLine(*ends)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(MOSS if agrees else OUTLIER))
            painter.drawEllipse(ends[1], 2.0, 2.0)
