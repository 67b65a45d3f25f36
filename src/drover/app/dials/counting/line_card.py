"""One line: its totals counted, corrected and by hand; its rule; signing off."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtGui import QIntValidator
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QLineEdit, QPushButton

from drover.app.dials.counting.item import ItemCard
from drover.app.dials.parts import Folded, muted
from drover.app.session import Session
from drover.app.theme import CLAY, MOSS, number_font
from drover.core.count.audit import audit_totals, rule_words, with_hand_total, with_line_renamed, with_sign_off
from drover.core.count.edits import with_item
from drover.core.count.tallies import tally
from drover.core.doubt.bounds import CountBounds
from drover.core.errors import DroverError
from drover.core.recipe import LineSettings

__all__ = ["LineCard"]

POINT_NAMES = {
    "foot": "foot of the box", "centre": "centre of the box", "top": "top of the box", "left": "left side",
    "right": "right side", "two": "any two of the five",
}  # fmt: skip
COLUMNS = ("identities", "passages", "corrected", "by hand")


class LineCard(ItemCard):
    """Name, totals, rule, and what can be done with the line."""

    kind = "line"
    model = LineSettings

    def __init__(self, session: Session, number: int) -> None:
        super().__init__(session, number, "Line")
        self.name = self.add_text("name", "name")
        self.reference = self.add_choice("counts the", "reference", lambda: POINT_NAMES)
        self.points = self.add_points()
        self.cells: dict[str, QLabel] = {}
        self.hand: dict[int, QLineEdit] = {}
        self._ways: dict[int, QLabel] = {}
        self._build_totals()
        self._build_rule()
        self._build_buttons()
        self.signed = muted("", wrap=True)
        self.signed.setAccessibleName("sign-off")
        self.body.addWidget(self.signed)
        self.refresh()

    @property
    def line(self) -> LineSettings:
        """The line's settings now."""
        item = self.item
        assert isinstance(item, LineSettings)
        return item

    def _build_totals(self) -> None:
        grid = QGridLayout()
        right = Qt.AlignmentFlag.AlignRight
        for column, text in enumerate(COLUMNS, 1):
            grid.addWidget(muted(text), 0, column, right)
        for row, (name, way) in enumerate((("forward", 1), ("back", -1), ("net", 0)), 1):
            label = QLabel(name)
            label.setMaximumWidth(70)
            self._ways[way] = label
            grid.addWidget(label, row, 0)
            for column, kind in enumerate(COLUMNS[:3], 1):
                cell = QLabel("-")
                cell.setFont(number_font(13, bold=True))
                cell.setAlignment(right | Qt.AlignmentFlag.AlignVCenter)
                grid.addWidget(cell, row, column)
                self.cells[f"{name} {kind}"] = cell
            if way:
                grid.addWidget(self._hand_box(name, way), row, 4, right)
        grid.setColumnStretch(0, 1)
        grid.setHorizontalSpacing(8)
        self.body.addLayout(grid)
        self.surely = muted("", wrap=True)
        self.surely.setAccessibleName("bounds of the counts")
        self.surely.setToolTip("Nine times in ten; narrower as crossings are audited and moments worked off.")
        self.body.addWidget(self.surely)
        self.verdict = muted("", wrap=True)
        self.verdict.setAccessibleName("against the hand count")
        self.body.addWidget(self.verdict)

    def _hand_box(self, name: str, way: int) -> QLineEdit:
        box = QLineEdit()
        box.setFixedWidth(46)
        box.setValidator(QIntValidator(0, 9_999_999, box))
        box.setAlignment(Qt.AlignmentFlag.AlignRight)
        box.setAccessibleName(f"{name} by hand")
        box.setToolTip("What a person counted; empty where nobody did.")
        box.editingFinished.connect(partial(self._take_hand, way))
        self.hand[way] = box
        return box

    def _build_rule(self) -> None:
        self.rule = Folded("rule")
        rows = self.rule.rows
        self.add_number("dead band", "dead_band", rows)
        self.add_choice("counts", "each", lambda: {"passage": "every passage", "identity": "an identity once"}, rows)
        self.add_text("classes", "classes", rows, "Classes that count, parted by commas; empty counts all.")
        self.add_choice("stands in", "fixed_to", lambda: {"scene": "the scene", "picture": "the picture"}, rows)
        self.add_number("known for", "least_age", rows)
        self.add_number("has come", "least_travel", rows)
        self.add_choice("from zone", "from_zone", self._zones, rows)
        self.add_choice("to zone", "to_zone", self._zones, rows)
        self.add_text("forward is", "forward_name", rows)
        self.add_text("back is", "back_name", rows)
        self.add_choice(
            "alarm on", "forbidden", lambda: {"none": "neither way", "forward": "forward", "back": "back"}, rows
        )
        self.body.addWidget(self.rule)

    def _zones(self) -> dict[str, str]:
        return {"": "anywhere"} | {zone.name: zone.name for zone in self.session.recipe.count.zone}

    def _build_buttons(self) -> None:
        row = QHBoxLayout()
        self.turn, self.double, self.drop = QPushButton("Reverse"), QPushButton("Copy"), QPushButton("Remove")
        self.sign = QPushButton("Sign off")
        self.turn.setToolTip("Forward becomes back. The arrow on the field shows forward.")
        self.sign.setToolTip("Put the corrected totals on record with the rule and the time.")
        self.turn.clicked.connect(self._reverse)
        self.double.clicked.connect(self.copy)
        self.drop.clicked.connect(self.remove)
        self.sign.clicked.connect(self._sign_off)
        for button in (self.turn, self.double, self.drop, self.sign):
            row.addWidget(button)
        row.addStretch(1)
        self.body.addLayout(row)

    # --- showing --------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the line and its totals as they are now."""
        self.show_item()
        line = self.line
        for way, label in self._ways.items():
            words = line.way(way) if way else "net"
            label.setText(label.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, 68))
            label.setToolTip(words)
        crossings = self.session.crossings
        if crossings is None or self.number >= len(crossings.line_names):
            return
        t = tally(crossings, self.number)
        audited = {way: audit_totals(self.session.audit, crossings, self.number, way) for way in (1, -1)}
        values = {
            "forward identities": t.identities_forward, "back identities": t.identities_back,
            "net identities": t.identities_forward - t.identities_back,
            "forward passages": t.forward, "back passages": t.back, "net passages": t.net,
            "forward corrected": audited[1].corrected, "back corrected": audited[-1].corrected,
            "net corrected": audited[1].corrected - audited[-1].corrected,
        }  # fmt: skip
        for name, value in values.items():
            self.cells[name].setText(str(value).replace("-", "−"))
        unseen = int((~crossings.seen[crossings.line == self.number]).sum())
        looked = sum(one.confirmed + one.rejected for one in audited.values())
        self.note.setText(f"{looked} of {t.passages} audited" + (f", {unseen} unseen" if unseen else ""))
        self._show_hand({way: one.corrected for way, one in audited.items()})
        self._show_signed({way: one.corrected for way, one in audited.items()})

    def show_bounds(self, bounds: dict[tuple[str, int], CountBounds]) -> None:
        """Say between what the corrected totals surely lie."""
        mine = {way: bounds.get((self.line.name, way)) for way in (1, -1)}
        told = [f"{self.line.way(way)} {one.low} to {one.high}" for way, one in mine.items() if one is not None]
        self.surely.setText("Surely " + ", ".join(told) if told else "")
        self.surely.setVisible(bool(told))

    def _show_hand(self, corrected: dict[int, int]) -> None:
        off = []
        for way, box in self.hand.items():
            total = self.session.audit.hand_total(self.line.name, way)
            if not box.hasFocus():
                box.setText("" if total is None else str(total))
            if total is not None:
                off.append(f"{self.line.way(way)} {corrected[way] - total:+d}".replace("-", "−"))
        self.verdict.setVisible(bool(off))
        self.verdict.setText("Against the hand count: " + ", ".join(off))

    def _show_signed(self, corrected: dict[int, int]) -> None:
        signed = self.session.audit.signed_off(self.line.name)
        self.signed.setVisible(signed is not None)
        if signed is None:
            return
        totals = f"{signed.forward} {self.line.forward_name}, {signed.back} {self.line.back_name}"
        rule = rule_words(self.line)
        same = (signed.forward, signed.back, signed.rule) == (corrected[1], corrected[-1], rule)
        self.signed.setText(f"Signed off {signed.at}: {totals}" + ("" if same else "; changed since"))
        self.signed.setStyleSheet(f"color: {MOSS if same else CLAY};")
        self.signed.setToolTip(f"by the rule: {signed.rule}")

    # --- changes --------------------------------------------------------------------------------------------

    def change(self, update: dict[str, object], what: str) -> bool:
        """Change fields as one edit; what was said in the audit follows a new name."""
        before, session = self.line.name, self.session
        after = str(update.get("name", before))
        document = session.document
        try:
            recipe = with_item(session.recipe, "line", self.number, update)
        except DroverError:
            after = before  # what follows says why it is refused
        if after == before or document is None:
            return super().change(update, what)
        renamed = with_line_renamed(session.audit, before, after)
        session.change(replace(document.with_recipe(recipe), audit=renamed), what)
        return True

    def _take_hand(self, way: int) -> None:
        text = self.hand[way].text().strip()
        total = int(text) if text else None
        if total != self.session.audit.hand_total(self.line.name, way):
            audit = with_hand_total(self.session.audit, self.line.name, way, total)
            self.session.say(audit, f"count {self.line.way(way)} by hand")

    def _sign_off(self) -> None:
        crossings = self.session.crossings
        if crossings is None:
            return
        now = datetime.now(UTC).isoformat(timespec="seconds").replace("+00:00", "Z")
        audit = with_sign_off(self.session.audit, crossings, self.number, rule_words(self.line), now)
        self.session.say(audit, f"sign off '{self.line.name}'")

    def _reverse(self) -> None:
        self.change({"points": self.line.points[::-1]}, f"reverse line '{self.line.name}'")
