"""Score: every measure with what it means, and the overlap it rests on."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QListWidget, QListWidgetItem, QPushButton

from drover.app.dials.parts import Card, muted
from drover.app.dials.settings import SettingsPage
from drover.app.held import Held
from drover.app.session import Session
from drover.app.theme import number_font
from drover.core.score.detection import DetectionScore

__all__ = ["ScoreDials"]

_GROUPS: tuple[tuple[str, tuple[tuple[str, str, str], ...]], ...] = (
    ("Count", (
        ("count_error", "error", "Identities counted too many or too few, summed over lines and directions."),
        ("true_total", "true total", "True identities over all lines and directions."),
    )),
    ("Identities", (
        ("idf1", "IDF1", "Boxes whose identity is right over the whole clip, among all boxes, true and tracked."),
        ("idp", "IDP", "Share of tracked boxes with the right identity."),
        ("idr", "IDR", "Share of true boxes with the right identity."),
        ("id_switches", "switches", "Times a true object went on under another number."),
        ("fragmentations", "fragmentations", "Times tracking of a true object broke off and went on."),
        ("mostly_tracked", "mostly tracked", "True objects found in at least 80 % of their frames."),
        ("partly_tracked", "partly tracked", "True objects found in 20 % to 80 % of their frames."),
        ("mostly_lost", "mostly lost", "True objects found in less than 20 % of their frames."),
    )),
    ("Boxes", (
        ("mota", "MOTA", "1 less misses, false alarms and switches over true boxes."),
        ("motp", "MOTP", "Mean overlap of the boxes found."),
        ("precision", "precision", "Share of tracked boxes that are right."),
        ("recall", "recall", "Share of true boxes that were found."),
        ("fn", "misses", "True boxes not found."),
        ("fp", "false alarms", "Tracked boxes with nothing there."),
    )),
    ("Detection", (
        ("d_f1", "F1", "Precision and recall of the detections in one number, before any identity."),
        ("d_precision", "precision", "Share of detections that are right."),
        ("d_recall", "recall", "Share of true boxes that were detected."),
        ("d_ap", "AP", "Area under precision over recall as confidence falls."),
        ("d_misses", "misses", "True boxes with no detection."),
        ("d_false", "false alarms", "Detections with nothing there."),
    )),
    ("Overall", (
        ("hota", "HOTA", "Detection and association in balance, over nineteen overlap limits."),
        ("deta", "detection", "HOTA's detection part."),
        ("assa", "association", "HOTA's association part."),
        ("loca", "localisation", "HOTA's localisation part."),
    )),
)  # fmt: skip


class ScoreDials(SettingsPage):
    """Measures in groups, and the one setting they rest on."""

    truth_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.cells: dict[str, QLabel] = {}
        self.other_cells: dict[str, QLabel] = {}
        self.ask = Card("No truth loaded")
        self.ask.body.addWidget(
            muted(
                "A score needs the true boxes of this clip, as rows of frame, id, left, top, width, height.",
                wrap=True,
            )
        )
        button = QPushButton("Load truth…")
        button.clicked.connect(self.truth_wanted)
        self.ask.body.addWidget(button)
        self.column.addWidget(self.ask)
        self.compare = self._compare_card()
        self.column.addWidget(self.compare)
        self.cards = [self._group(name, rows) for name, rows in _GROUPS]
        self._add_jumps(self.cards[[name for name, _ in _GROUPS].index("Detection")])
        rule = Card("What counts as found")
        rule.body.addWidget(self.row("least overlap", "score.least_overlap"))
        self.column.addWidget(rule)
        self.cards.append(rule)
        session.score_changed.connect(self._show)
        session.truth_changed.connect(self._show)
        session.other_changed.connect(self._show)
        self._show()

    def _compare_card(self) -> Card:
        """Hold a result, go back to it, compare no more."""
        card = Card("Two recipes side by side")
        self.compare_words = muted("", wrap=True)
        card.body.addWidget(self.compare_words)
        row = QHBoxLayout()
        self.hold_button, self.swap_button, self.let_go_button = (
            QPushButton(text) for text in ("Hold this one", "Swap", "Let go")
        )
        self.hold_button.setToolTip("Keep this result as B; change settings and see both, here and on the field.")
        self.swap_button.setToolTip("Go on with the settings of B, and hold these.")
        self.hold_button.clicked.connect(self.session.hold)
        self.swap_button.clicked.connect(self.session.swap)
        self.let_go_button.clicked.connect(self.session.let_go)
        for button in (self.hold_button, self.swap_button, self.let_go_button):
            row.addWidget(button)
        row.addStretch(1)
        card.body.addLayout(row)
        return card

    def _add_jumps(self, card: Card) -> None:
        """Buttons that walk through the frames with detection errors."""
        row = QHBoxLayout()
        for text, way in (("previous error", -1), ("next error", 1)):
            button = QPushButton(text)
            button.setToolTip("Go to a frame with a miss or a false alarm. The Errors overlay shows them.")
            button.clicked.connect(lambda _=False, way=way: self.session.next_error(way))
            row.addWidget(button)
        row.addStretch(1)
        card.body.addLayout(row)
        self.errors = QListWidget()
        self.errors.setFixedHeight(120)
        self.errors.setUniformItemSizes(True)
        self.errors.setAccessibleName("detection errors")
        self.errors.itemClicked.connect(lambda item: self.session.set_frame(int(item.data(Qt.ItemDataRole.UserRole))))
        card.body.addWidget(self.errors)

    def _list_errors(self) -> None:
        """A line for every frame with an error."""
        boxes = self.session.detection_score
        self.errors.clear()
        if boxes is None:
            return
        for frame, missed, wrong in boxes.errors_by_frame():
            parts = [f"{missed} missed"] if missed else []
            parts += [f"{wrong} false alarm" + ("s" if wrong > 1 else "")] if wrong else []
            item = QListWidgetItem(f"frame {frame + 1}: {', '.join(parts)}")
            item.setData(Qt.ItemDataRole.UserRole, frame)
            self.errors.addItem(item)

    def _group(self, name: str, rows: tuple[tuple[str, str, str], ...]) -> Card:
        card = Card(name)
        grid = QGridLayout()
        grid.setColumnStretch(0, 1)
        grid.setVerticalSpacing(4)
        for at, (key, label, help_text) in enumerate(rows):
            words, value = QLabel(label), QLabel("-")
            words.setToolTip(help_text)
            value.setToolTip(help_text)
            value.setFont(number_font(13, bold=True))
            beside = QLabel("")
            beside.setToolTip(f"B: {help_text}")
            beside.setFont(number_font(13))
            beside.setProperty("role", "muted")
            grid.addWidget(words, at, 0)
            grid.addWidget(value, at, 1, Qt.AlignmentFlag.AlignRight)
            grid.addWidget(beside, at, 2, Qt.AlignmentFlag.AlignRight)
            grid.setColumnMinimumWidth(2, 0)
            self.cells[key], self.other_cells[key] = value, beside
        card.body.addLayout(grid)
        self.column.addWidget(card)
        return card

    def _show(self) -> None:
        has_truth = self.session.truth is not None
        self.ask.setVisible(not has_truth)
        for card in self.cards:
            card.setVisible(has_truth)
        other = self.session.other
        self.hold_button.setEnabled(self.session.detect is not None)
        self.swap_button.setEnabled(other is not None)
        self.let_go_button.setEnabled(other is not None)
        self.compare_words.setText(
            "Left: the settings now (A). Right: the settings held (B)."
            if other is not None
            else "Hold this result, change settings, and compare both, in figures and on the field."
        )
        if self.session.detection_score is not self._listed:
            self._listed = self.session.detection_score
            self._list_errors()
        for cells, result in ((self.cells, self.session if has_truth else None), (self.other_cells, other)):
            values = _values(result) if result is not None and has_truth else {}
            for key, cell in cells.items():
                cell.setText(_text(values.get(key), "-" if cells is self.cells else ""))

    _listed: DetectionScore | None = None


def _values(result: Session | Held) -> dict[str, object]:
    """All measures of a result by key."""
    values: dict[str, object] = dict(result.score.as_dict()) if result.score is not None else {}
    boxes = result.detection_score
    if boxes is not None:
        values |= {
            "d_f1": boxes.f1, "d_precision": boxes.precision, "d_recall": boxes.recall,
            "d_ap": boxes.average_precision, "d_misses": len(boxes.misses), "d_false": len(boxes.false_alarms),
        }  # fmt: skip
    return values


def _text(value: object, missing: str) -> str:
    return missing if value is None else f"{100 * value:.1f} %" if isinstance(value, float) else str(value)
