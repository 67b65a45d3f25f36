"""Lists that lead there: alarms, and what is wrong with the crossings against the truth."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QListWidget, QListWidgetItem

from drover.app.dials.parts import Card, muted
from drover.app.session import Session
from drover.core.score.crossing_match import CROSSING_ERRORS, CrossingMatch, errors_by_class, match_crossings

__all__ = ["AlarmCard", "CrossingErrors"]

MOST = 500


class _JumpList(Card):
    """A list whose items carry a frame and an identity."""

    def __init__(self, session: Session, heading: str, name: str) -> None:
        super().__init__(heading)
        self.session = session
        self.list = QListWidget()
        self.list.setUniformItemSizes(True)
        self.list.setFixedHeight(92)
        self.list.setAccessibleName(name)
        self.list.itemClicked.connect(self._go)
        self.body.addWidget(self.list)

    def _add(self, words: str, frame: int, identity: int) -> None:
        item = QListWidgetItem(words)
        item.setToolTip(words)
        item.setData(Qt.ItemDataRole.UserRole, (frame, identity))
        self.list.addItem(item)

    def _go(self, item: QListWidgetItem) -> None:
        frame, identity = item.data(Qt.ItemDataRole.UserRole)
        self.session.set_frame(frame)
        self.session.select(identity or None)


class AlarmCard(_JumpList):
    """All alarms in order of time."""

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Alarms", "alarms")

    def refresh(self) -> None:
        """List the alarms there are now; hidden without any line or zone that raises one."""
        alarms = self.session.counted.alarms if self.session.counted is not None else ()
        count = self.session.recipe.count
        raises = any(line.forbidden != "none" for line in count.line) or any(
            zone.longest_stay or zone.most_inside or zone.top_speed for zone in count.zone
        )
        self.setVisible(raises)
        self.list.clear()
        self.list.setVisible(bool(alarms))
        self.note.setText(f"{len(alarms)}" if alarms else "none")
        for alarm in alarms[:MOST]:
            self._add(f"{alarm.time:.1f} s  {alarm.words}", alarm.frame, alarm.identity)


def _by_class(found: CrossingMatch) -> str:
    """Errors by line, direction and class, a line each."""
    lines = []
    for (line, direction, kind), numbers in sorted(errors_by_class(found).items()):
        told = ", ".join(f"{n} {name}" for n, name in zip(numbers.tolist(), CROSSING_ERRORS, strict=True) if n)
        lines.append(f"{line} {'forward' if direction > 0 else 'back'}, {kind}: {told}")
    return "\n".join(lines[:12])


class CrossingErrors(_JumpList):
    """Crossings that are extra, missed, double or the wrong way, against the true ones."""

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Against the truth", "crossing errors")
        self.words = muted("", wrap=True)
        self.body.addWidget(self.words)

    def refresh(self) -> None:
        """Match what was counted with the true crossings; hidden where there are none."""
        crossings, true = self.session.crossings, self.session.true_crossings
        self.setVisible(crossings is not None and true is not None)
        if crossings is None or true is None:
            return
        found = match_crossings(crossings, true)
        self.list.clear()
        for one in found.errors[:MOST]:
            way = "forward" if one.direction > 0 else "back"
            who = f", {one.identity}" if one.kind != "missed" else ""
            words = f"{one.time:.1f} s  {one.kind}: {one.line} {way}, {one.class_name}{who}"
            self._add(words, one.frame, one.identity if one.kind != "missed" else 0)
        self.list.setVisible(bool(found.errors))
        self.note.setText(f"{found.right} of {len(true)} right")
        self.words.setText(_by_class(found) or "Every true crossing was counted, and nothing else.")
