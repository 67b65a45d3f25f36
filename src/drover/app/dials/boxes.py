"""Boxes of another detector: bringing them in, how sure they must be, and what is one thing reported twice."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from drover.app.dials.evidence_plot import EvidencePlot
from drover.app.dials.parts import Card, ChoiceRow, SettingRow, muted
from drover.app.session import Session
from drover.core.names import grouped
from drover.core.recipe import ClassLimit, Recipe, value_of, with_value
from drover.core.setting_info import setting_help, setting_info

__all__ = ["BoxCard"]

MOST_CLASSES = 6
BINS = 40
PATH = "detect.boxes."
SOURCES = {"motion": "what moves", "boxes": "imported boxes", "boxes+motion": "both together"}
OVERLAPS = {"leave": "left as they are", "drop": "less sure one dropped", "weaken": "made less sure"}


class BoxCard(Card):
    """The page of a Detect card about imported boxes; most of it shows only once there are some."""

    wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__("Boxes from elsewhere")
        self.session = session
        self.words = muted("", wrap=True)
        self.body.addWidget(self.words)
        self.bring = QPushButton("Bring in boxes…")
        self.bring.setToolTip("Rows, COCO JSON or a text file an image; they are shown before they are taken.")
        self.bring.clicked.connect(self.wanted)
        self.body.addWidget(self.bring)
        self.inside = QWidget()
        column = QVBoxLayout(self.inside)
        column.setContentsMargins(0, 0, 0, 0)
        self.use = ChoiceRow("detections are", "detect.sources", SOURCES, setting_help("detect.sources"))
        self.use.changed.connect(
            lambda _, word: self.session.edit(
                with_value(self.session.recipe, "detect.sources", word.split("+")), "set where detections come from"
            )
        )
        column.addWidget(self.use)
        self.plots: dict[str, EvidencePlot] = {}
        self._plot_column = QVBoxLayout()
        column.addLayout(self._plot_column)
        self.overlaps = self._choice("overlapping boxes", "overlaps", OVERLAPS)
        column.addWidget(self.overlaps)
        self.most = SettingRow("most overlap", PATH + "most_overlap")
        self.most.changed.connect(lambda path, value: self._set(path, value, "set most overlap"))
        column.addWidget(self.most)
        self.across = self._choice("between classes", "across_classes", {"True": "also", "False": "not judged"})
        column.addWidget(self.across)
        self.body.addWidget(self.inside)
        session.imported_changed.connect(self._rebuild)
        session.recipe_changed.connect(self.show_recipe)
        self._rebuild()

    def show_recipe(self) -> None:
        """Show what the recipe says now."""
        boxes = self.session.recipe.detect.boxes
        self.use.show_value("+".join(self.session.recipe.detect.sources))
        self.overlaps.show_value(boxes.overlaps)
        self.across.show_value(boxes.across_classes)
        self.most.box.show_value(boxes.most_overlap)
        for name, plot in self.plots.items():
            plot.show_value(min(boxes.limit_of(name), 1.0))

    def _choice(self, label: str, name: str, words: dict[str, str]) -> ChoiceRow:
        made = ChoiceRow(label, PATH + name, words, setting_help(PATH + name))
        made.changed.connect(
            lambda path, word: self._set(path, word == "True" if word in ("True", "False") else word, f"set {label}")
        )
        made.show_value(value_of(self.session.recipe, PATH + name))
        return made

    def _set(self, path: str, value: object, what: str) -> None:
        self.session.edit(with_value(self.session.recipe, path, value), what)

    def _rebuild(self) -> None:
        """A confidence histogram for each class brought in."""
        while self._plot_column.count():
            item = self._plot_column.takeAt(0).widget()
            if item is not None:
                item.deleteLater()
        self.plots.clear()
        boxes = self.session.imported
        self.inside.setVisible(boxes is not None)
        if boxes is None:
            self.words.setText("Detections of another program, linked and counted here.")
            return
        counts = np.bincount(boxes.class_id, minlength=len(boxes.class_names))
        self.words.setText(f"{grouped(len(boxes))} boxes in {len(boxes.class_names)} classes")
        edges = np.linspace(0, 1, BINS + 1)
        for number in np.argsort(-counts, kind="stable")[:MOST_CLASSES].tolist():
            name = boxes.class_names[number]
            plot = EvidencePlot(setting_info(PATH + "least_confidence"), keep_below=False, log_counts=True, height=74)
            sure = boxes.confidence[boxes.class_id == number]
            plot.show_evidence(edges, np.histogram(sure, edges)[0].astype(float))
            plot.changing.connect(lambda value, name=name: self.session.preview(self._limited(name, value)))
            plot.changed.connect(
                lambda value, name=name: self.session.edit(self._limited(name, value), f"set confidence of {name}")
            )
            self._plot_column.addWidget(muted(f"{name}: {grouped(counts[number])} boxes by confidence"))
            self._plot_column.addWidget(plot)
            self.plots[name] = plot
        self.show_recipe()

    def _limited(self, name: str, least: float) -> Recipe:
        """The recipe with another least confidence for a class."""
        limits = {limit.name: limit for limit in self.session.recipe.detect.boxes.class_limit}
        before = limits.get(name, ClassLimit(name=name))
        limits[name] = before.model_copy(update={"least_confidence": round(min(max(least, 0.0), 1.0), 2)})
        listed = [limit.model_dump() for limit in limits.values()]
        return with_value(self.session.recipe, PATH + "class_limit", listed)
