"""A look at a file of boxes before it is brought in: what it holds, what is wrong with it, what is taken of it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QHeaderView,
    QLabel,
    QPlainTextEdit,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import NumberBox, muted, title
from drover.app.theme import number_font
from drover.core.formats.box_table import BoxFile
from drover.core.names import grouped
from drover.core.recipe import ClassLimit, Recipe, with_value
from drover.core.setting_info import setting_info

__all__ = ["BoxImportDialog"]

FIRST_ROWS = 6
USES = {
    "boxes": "these boxes instead of what moves",
    "boxes+motion": "these boxes, and what moves where they have none",
}


class BoxImportDialog(QDialog):
    """Shows a :class:`BoxFile`; :meth:`chosen` gives the recipe with what the user wants taken of it."""

    def __init__(self, path: Path, found: BoxFile, recipe: Recipe, frame_count: int, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.found, self.recipe = found, recipe
        self.setWindowTitle("Bring in boxes")
        self.resize(660, 560)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 14)
        column.setSpacing(8)
        column.addWidget(title(f"{path.name}: {found.kind}"))
        boxes = f"{grouped(len(found.frame))} boxes"
        column.addWidget(QLabel(f"{boxes} in {found.frames_covered} of the clip's {frame_count} frames"))
        column.addWidget(muted("Classes: untick what you do not want; boxes less sure than the limit are left out."))
        self.classes = self._class_table()
        column.addWidget(self.classes, 2)
        column.addWidget(muted("The first rows"))
        column.addWidget(self._row_table(), 2)
        self.leave_out = QCheckBox(f"leave out the {found.bad_rows} rows that cannot be used, and take the others")
        self.leave_out.toggled.connect(self._show_ready)
        if found.bad_rows:
            column.addWidget(muted(f"{found.bad_rows} rows cannot be used"))
            faults = QPlainTextEdit("\n".join(found.faults))
            faults.setReadOnly(True)
            faults.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
            faults.setAccessibleName("faults")
            column.addWidget(faults, 1)
            column.addWidget(self.leave_out)
        self.use = QComboBox()
        for key, words in USES.items():
            self.use.addItem(words, key)
        self.use.setAccessibleName("use")
        column.addWidget(self.use)
        self.buttons = QDialogButtonBox()
        self.take = self.buttons.addButton("Bring in", QDialogButtonBox.ButtonRole.AcceptRole)
        self.buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column.addWidget(self.buttons)
        self._show_ready()

    def chosen(self) -> Recipe:
        """The recipe with the classes and limits as they stand in the dialog."""
        limits = []
        for row, name in enumerate(self.found.per_class()):
            box = self.classes.cellWidget(row, 2)
            keep = self.classes.item(row, 0).checkState() == Qt.CheckState.Checked
            least = float(box.value()) if isinstance(box, NumberBox) else 0.0
            limits.append(ClassLimit(name=name, keep=keep, least_confidence=least).model_dump())
        changed = with_value(self.recipe, "detect.boxes.class_limit", limits)
        return with_value(changed, "detect.sources", str(self.use.currentData()).split("+"))

    def _show_ready(self) -> None:
        usable = len(self.found.frame) > 0 and (not self.found.bad_rows or self.leave_out.isChecked())
        self.take.setEnabled(usable)

    def _class_table(self) -> QTableWidget:
        counts = self.found.per_class()
        table = _table(["class", "boxes", "least confidence"], len(counts))
        info = setting_info("detect.boxes.least_confidence")
        boxes = self.recipe.detect.boxes
        for row, (name, count) in enumerate(counts.items()):
            item = QTableWidgetItem(name)
            item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsUserCheckable)
            limit = boxes.limit_of(name)
            item.setCheckState(Qt.CheckState.Unchecked if limit > 1 else Qt.CheckState.Checked)
            table.setItem(row, 0, item)
            table.setItem(row, 1, _number(grouped(count)))
            box = NumberBox(info)
            box.show_value(min(limit, 1.0) if limit <= 1 else 0.0)
            table.setCellWidget(row, 2, box)
        return table

    def _row_table(self) -> QTableWidget:
        found = self.found
        shown = min(FIRST_ROWS, len(found.frame))
        table = _table(["frame", "class", "left", "top", "width", "height", "confidence"], shown)
        for row in range(shown):
            x1, y1, x2, y2 = map(float, found.box[row])
            cells = [f"{int(found.frame[row]) + 1}", found.class_names[int(found.class_id[row])]]
            cells += [f"{value:.1f}" for value in (x1, y1, x2 - x1, y2 - y1)]
            cells.append(f"{float(found.confidence[row]):.2f}")
            for place, text in enumerate(cells):
                table.setItem(row, place, QTableWidgetItem(text) if place == 1 else _number(text))
        return table


def _table(heads: list[str], rows: int) -> QTableWidget:
    table = QTableWidget(rows, len(heads))
    table.setHorizontalHeaderLabels(heads)
    table.verticalHeader().hide()
    table.verticalHeader().setDefaultSectionSize(26)
    table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
    table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return table


def _number(text: str) -> QTableWidgetItem:
    item = QTableWidgetItem(text)
    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
    item.setFont(number_font(12))
    return item
