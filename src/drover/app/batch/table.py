"""The table of a batch: a row for each clip, with what became of it."""

from __future__ import annotations

import time
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QColor

from drover.app.theme import CLAY, MUTED_TEXT, number_font
from drover.core.batch.ledger import BatchState
from drover.core.batch.outcome import Outcome
from drover.core.batch.plan import Job
from drover.core.batch.preview import Preview
from drover.core.names import grouped

__all__ = ["BatchTable"]

Index = QModelIndex | QPersistentModelIndex
FACTS = ("clip", "state", "frames", "frames/s", "identities")
NUMBERS_FROM = 2


class BatchTable(QAbstractTableModel):
    """Rows in the order of the jobs; a preview of a clip is shown until the clip itself is done."""

    def __init__(self, lines: list[str]) -> None:
        super().__init__()
        self._lines = lines
        self.outcomes: list[Outcome] = []
        self._previews: dict[Job, Preview | str] = {}
        self._begun: dict[Job, float] = {}
        self._speed: dict[Job, float] = {}

    def show_jobs(self, jobs: list[Job]) -> None:
        """Other clips from now on."""
        self.beginResetModel()
        self.outcomes = [Outcome(job) for job in jobs]
        self._previews, self._begun, self._speed = {}, {}, {}
        self.endResetModel()

    def show_state(self, state: BatchState) -> None:
        """How far the batch is by now."""
        now = time.monotonic()
        for before, after in zip(self.outcomes, state.outcomes, strict=True):
            if after.state == "working" and before.state != "working":
                self._begun[after.job] = now
            if after.state == "done" and before.state == "working" and after.job in self._begun:
                self._speed[after.job] = after.frames / max(1e-3, now - self._begun[after.job])
        self.outcomes = list(state.outcomes)
        self._changed()

    def show_preview(self, job: Job, found: Preview | str) -> None:
        """What was found at the beginning of a clip, or why nothing could be."""
        self._previews[job] = found
        self._changed()

    def _changed(self) -> None:
        if self.outcomes:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.outcomes) - 1, self.columnCount() - 1))

    # --- what Qt asks -------------------------------------------------------------------------------------------

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.outcomes)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(FACTS) + 2 * len(self._lines) + 1

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal or role != Qt.ItemDataRole.DisplayRole:
            return None
        ways = [f"{name} {way}" for name in self._lines for way in ("forward", "back")]
        return (*FACTS, *ways, "note")[section]

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        outcome, column = self.outcomes[index.row()], index.column()
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            text = self.cells(index.row())[column]
            return text if role == Qt.ItemDataRole.DisplayRole or column in (0, self.columnCount() - 1) else None
        number = NUMBERS_FROM <= column < self.columnCount() - 1
        if role == Qt.ItemDataRole.TextAlignmentRole and number:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.FontRole and number:
            return number_font(12)
        if role == Qt.ItemDataRole.ForegroundRole:
            if outcome.state == "failed":
                return QColor(CLAY)
            if outcome.state == "waiting":
                return QColor(MUTED_TEXT)
        return None

    def cells(self, row: int) -> list[str]:
        """What a row says, from left to right."""
        outcome = self.outcomes[row]
        seen, named = self._previews.get(outcome.job), f"{outcome.job.clip}: "
        note = outcome.reason.removeprefix(named)
        state = {"waiting": "not begun", "working": f"{round(100 * outcome.share)} %"}.get(outcome.state, outcome.state)
        frames, identities, counts = outcome.frames, outcome.identities, outcome.counts
        if outcome.state == "waiting" and isinstance(seen, Preview):
            frames, identities, counts = seen.frames, seen.identities, seen.counts
            state, note = (
                "tried",
                f"the first {seen.seconds:.0f} s of {seen.whole:.0f}: {'; '.join(seen.said)}".rstrip(": "),
            )
        elif outcome.state == "waiting" and isinstance(seen, str):
            state, note = "tried", seen.removeprefix(named)
        known = bool(frames)
        speed = self._speed.get(outcome.job)
        ways = (
            [str(n) for name in self._lines for n in counts.get(name, (0, 0))] if known else [""] * 2 * len(self._lines)
        )
        return [
            outcome.job.clip.name, "done before" if outcome.kept else state, grouped(frames) if known else "",
            f"{speed:.0f}" if speed else "", str(identities) if known else "", *ways, note,
        ]  # fmt: skip
