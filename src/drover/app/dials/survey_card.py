"""What the clip says of itself: sentences, and small pictures of what they rest on."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPixmap
from PySide6.QtWidgets import QGridLayout, QLabel, QVBoxLayout, QWidget

from drover.app.dials.parts import Card, muted
from drover.app.dials.plotting import pg, small_plot
from drover.app.images import grey_image
from drover.app.session import Session
from drover.app.theme import CLAY, MOSS, MUTED, colour
from drover.core.detect.result import DetectResult
from drover.core.survey.view import RESTLESS_STEPS, SurveyView

__all__ = ["SurveyCard"]

WIDE, TALL = 150, 88  # px of a small picture
MOST_POINTS = 700
GLARING = 6.0  # levels of restlessness that are shown at full strength


class SurveyCard(Card):
    """Sentences of the look that Detect took before it began, and of what it found; four small pictures."""

    def __init__(self, session: Session) -> None:
        super().__init__("What the clip says of itself")
        self.session = session
        self.body.setSpacing(8)
        self.pictures = QWidget()
        grid = QGridLayout(self.pictures)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        self.restless = QLabel()
        self.restless.setFixedHeight(TALL)
        self.restless.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.noise = _small_plot("brightness, levels", "Noise of quiet pixels by their brightness, levels.")
        self.noise.setXRange(0, 255)  # whatever there is: dark or bright footage is seen at a glance
        self.noise.getAxis("bottom").setTickSpacing(100, 100)
        self.light = _small_plot("time, s", "Light of the whole picture against the usual one, %.")
        self.sizes = _small_plot("height, px", "Height of what was found, by how high in the picture its foot is.")
        self.sizes.getPlotItem().invertY(True)
        for place, (words, widget) in enumerate((
            ("where it stirs", self.restless), ("noise, levels", self.noise),
            ("light, %", self.light), ("sizes by place", self.sizes),
        )):  # fmt: skip
            cell = QVBoxLayout()
            cell.setSpacing(2)
            cell.addWidget(muted(words))
            cell.addWidget(widget)
            widget.setAccessibleName(words)
            grid.addLayout(cell, place // 2, place % 2)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(1, 1)
        self.body.addWidget(self.pictures)
        self.said: list[QLabel] = []
        self._shown: DetectResult | None = None
        session.detections_changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        detect = self.session.detect
        if detect is not None and detect is self._shown:
            return
        self._shown = detect
        said = detect.said if detect is not None else ()
        while len(self.said) < len(said):
            sentence = muted("", wrap=True)
            sentence.setAccessibleName("survey")
            self.body.addWidget(sentence)
            self.said.append(sentence)
        for sentence, text in zip(self.said, (*said, *[""] * len(self.said)), strict=False):
            sentence.setText(text)
            sentence.setVisible(bool(text))
        view = detect.view if detect is not None else None
        self.pictures.setVisible(view is not None)
        if detect is not None and view is not None:
            self.restless.setPixmap(QPixmap.fromImage(restless_image(view)))
            self.restless.setToolTip(
                f"Restless ground, and paths that are often used: full strength at {GLARING:.0f} levels over the noise."
            )
            self._show_curves(view)
            self._show_sizes(detect)
        self.setVisible(bool(said))

    def _show_curves(self, view: SurveyView) -> None:
        line, dots = pg.mkPen(MOSS, width=1.6), pg.mkBrush(MOSS)
        for plot, curve, factor in ((self.noise, view.noise, 1.0), (self.light, view.light, 100.0)):
            plot.clear()
            if len(curve):
                values = factor * curve[:, 1].astype(float)
                plot.plot(curve[:, 0].astype(float), values, pen=line, symbol="o", symbolSize=4, symbolBrush=dots,
                          symbolPen=None)  # fmt: skip
                low, high = (0.0, values.max() * 1.2) if plot is self.noise else (
                    min(values.min() - 2, 90.0), max(values.max() + 2, 110.0))  # fmt: skip
                plot.setYRange(low, high, padding=0)

    def _show_sizes(self, detect: DetectResult) -> None:
        self.sizes.clear()
        box = detect.detections.box[:: max(1, -(-len(detect.detections) // MOST_POINTS))]
        if len(box) == 0:
            return
        tall, height = box[:, 3] - box[:, 1], detect.detections.size[1]
        self.sizes.addItem(
            pg.ScatterPlotItem(tall.astype(float), box[:, 3].astype(float), size=3, pen=None,
                               brush=pg.mkBrush(colour(MOSS, 110)))
        )  # fmt: skip
        self.sizes.setXRange(0.0, float(np.quantile(tall, 0.99)) * 1.15, padding=0)
        self.sizes.setYRange(0.0, float(height), padding=0)


def _small_plot(along: str, tip: str) -> pg.PlotWidget:
    plot = small_plot(letters=9)
    plot.setFixedHeight(TALL)
    plot.setMinimumWidth(120)
    plot.setToolTip(tip)
    plot.getPlotItem().setContentsMargins(0, 7, 5, 0)
    for side in ("bottom", "left"):
        axis = plot.getAxis(side)
        axis.setStyle(tickLength=3, maxTickLevel=0)
        axis.setTickDensity(0.6)  # numbers are not to run into each other
    plot.getAxis("left").setWidth(28)
    plot.getAxis("bottom").setLabel(along, color=MUTED, **{"font-size": "10px"})
    plot.getAxis("bottom").setHeight(30)
    return plot


def restless_image(view: SurveyView) -> QImage:
    """The empty scene, pale, with what stirs on it in clay, the more the stronger."""
    ground = (0.45 * view.empty.astype(np.float32) + 140).clip(0, 255).astype(np.uint8)
    image = grey_image(ground)
    strength = np.minimum(view.restless / (RESTLESS_STEPS * GLARING), 1.0)
    tint = QColor(CLAY)
    over = np.zeros((*view.restless.shape, 4), np.uint8)
    alpha = (255 * strength).astype(np.uint8)
    for channel, value in enumerate((tint.blue(), tint.green(), tint.red())):
        over[..., channel] = (alpha.astype(np.uint16) * value // 255).astype(np.uint8)
    over[..., 3] = alpha
    rows, columns = view.restless.shape
    layer = QImage(over.data, columns, rows, 4 * columns, QImage.Format.Format_ARGB32_Premultiplied)
    painter = QPainter(image)
    painter.drawImage(0, 0, layer)
    painter.end()
    return image.scaled(WIDE, TALL, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
