"""The audit on the right: filters, totals, the cards, and the keys that say what is true."""

from __future__ import annotations

from PySide6.QtCore import (
    QAbstractListModel,
    QEvent,
    QModelIndex,
    QPersistentModelIndex,
    QSignalBlocker,
    Qt,
    QTimer,
    Signal,
)
from PySide6.QtGui import QKeyEvent, QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QListView,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from drover.app.audit.cards import CardPainter
from drover.app.audit.entries import TRUSTS, Choice, Entry, make_entries
from drover.app.audit.strips import Strips
from drover.app.dials.parts import muted, title
from drover.app.moment_watch import MomentWatch
from drover.app.session import Session
from drover.core.count.audit import Missed, audit_totals, with_added, with_verdict, without_added
from drover.core.types import DEFAULT_CLASS

__all__ = ["AuditPanel"]

KEYS = "C confirm, X reject, U undecided, A add one missed here (Shift+A: back), arrows and N walk through."
Index = QModelIndex | QPersistentModelIndex


class _Entries(QAbstractListModel):
    """The cards shown."""

    def __init__(self) -> None:
        super().__init__()
        self.entries: list[Entry] = []

    def show(self, entries: list[Entry]) -> None:
        """Show other cards."""
        self.beginResetModel()
        self.entries = entries
        self.endResetModel()

    def rowCount(self, parent: Index | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.entries)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if not index.isValid():
            return None
        entry = self.entries[index.row()]
        if role == Qt.ItemDataRole.UserRole:
            return entry
        if role == Qt.ItemDataRole.AccessibleTextRole:
            return f"{entry.line} {entry.way} at {entry.time:.2f} s, {entry.said or 'open'}"
        return None


class _CardList(QListView):
    """The list of cards; letters are commands, not a search."""

    said = Signal(str)

    def event(self, event: QEvent) -> bool:
        # While the cards have the focus their letters are not the window's.
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and self._word(event):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        word = self._word(event)
        if word:
            self.said.emit(word)
        else:
            super().keyPressEvent(event)

    @staticmethod
    def _word(event: QKeyEvent) -> str:
        """What a key says; nothing for keys that mean something else."""
        back = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        commands = {
            Qt.Key.Key_C: "confirmed", Qt.Key.Key_X: "rejected", Qt.Key.Key_U: "undecided",
            Qt.Key.Key_A: "missed back" if back else "missed forward", Qt.Key.Key_N: "next",
        }  # fmt: skip
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            return ""
        return commands.get(Qt.Key(event.key()), "")


class AuditPanel(QWidget):
    """Cards of all crossings with the filters above them."""

    closed = Signal()

    def __init__(self, session: Session, watch: MomentWatch) -> None:
        super().__init__()
        self.session, self.watch = session, watch
        self.strips = Strips(session)
        self.model = _Entries()
        column = QVBoxLayout(self)
        column.setContentsMargins(9, 9, 9, 9)
        column.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(title("Audit of crossings"))
        head.addStretch(1)
        self.done = QPushButton("Back to the dials")
        self.done.clicked.connect(self.closed)
        head.addWidget(self.done)
        column.addLayout(head)
        column.addLayout(self._filters())
        self.totals = muted("", wrap=True)
        self.totals.setAccessibleName("audit totals")
        column.addWidget(self.totals)
        column.addLayout(self._buttons())
        column.addWidget(self._make_list(), 1)
        column.addWidget(muted(KEYS, wrap=True))
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(60)
        self._later.timeout.connect(self.refresh)
        for signal in (session.crossings_changed, session.audit_changed, watch.changed):
            signal.connect(self._soon)
        self.strips.ready.connect(self.list.viewport().update)

    def _filters(self) -> QGridLayout:
        grid = QGridLayout()
        self.line, self.way, self.kind, self.trust = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        for place, (box, name) in enumerate(
            ((self.line, "line"), (self.way, "direction"), (self.kind, "class"), (self.trust, "trust"))
        ):
            box.setAccessibleName(f"audit {name}")
            box.activated.connect(self.refresh)
            grid.addWidget(box, place // 2, place % 2)
        for text, direction in (("both ways", 0), ("forward", 1), ("back", -1)):
            self.way.addItem(text, direction)
        for text, most in TRUSTS.items():
            self.trust.addItem(text, most)
        return grid

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        for text, word in (("Confirm", "confirmed"), ("Reject", "rejected"), ("Add missed", "missed forward")):
            button = QPushButton(text)
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            button.clicked.connect(lambda _=False, word=word: self.say(word))
            row.addWidget(button)
        row.addStretch(1)
        self.open_only = QCheckBox("open ones")
        self.open_only.setToolTip("Only cards nobody has said anything of.")
        self.open_only.toggled.connect(self.refresh)
        row.addWidget(self.open_only)
        return row

    def _make_list(self) -> QListView:
        self.list = _CardList()
        self.list.setModel(self.model)
        self.list.setItemDelegate(CardPainter(self.strips))
        self.list.setUniformItemSizes(True)
        self.list.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setAccessibleName("crossings to audit")
        self.list.said.connect(self.say)
        self.list.selectionModel().currentChanged.connect(self._go)
        self.list.verticalScrollBar().valueChanged.connect(self._ask_pictures)
        return self.list

    # --- showing --------------------------------------------------------------------------------------------

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()
        self.list.setFocus()

    def _soon(self) -> None:
        if self.isVisible():
            self._later.start()

    def refresh(self) -> None:
        """Show the cards that fit the filters, and keep the one chosen."""
        session = self.session
        self._offer()
        chosen = self.current
        choice = Choice(
            self.line.currentData() or "", self.way.currentData(), self.kind.currentData() or "",
            self.trust.currentData(), self.open_only.isChecked(),
        )  # fmt: skip
        entries = [entry for entry in make_entries(session, self.watch.found) if choice.takes(entry)]
        with QSignalBlocker(self.list.selectionModel()):
            self.model.show(entries)
            if chosen is not None and entries:
                place = min(range(len(entries)), key=lambda k: (abs(entries[k].time - chosen.time), -entries[k].row))
                self.list.setCurrentIndex(self.model.index(place))
        self._show_totals()
        self._ask_pictures()

    def _offer(self) -> None:
        crossings = self.session.crossings
        if crossings is None:
            return
        for box, all_of, names in (
            (self.line, "all lines", crossings.line_names), (self.kind, "all classes", crossings.class_names),
        ):  # fmt: skip
            if [box.itemData(k) for k in range(box.count())] != ["", *names]:
                with QSignalBlocker(box):
                    box.clear()
                    box.addItem(all_of, "")
                    for name in names:
                        box.addItem(name, name)

    def _show_totals(self) -> None:
        crossings, count = self.session.crossings, self.session.recipe.count
        if crossings is None:
            return
        told = []
        for number, name in enumerate(crossings.line_names):
            if self.line.currentData() not in ("", None, name):
                continue
            line = count.line[number]
            for way in (1, -1):
                t = audit_totals(self.session.audit, crossings, number, way)
                told.append(
                    f"{name} {line.way(way)}: counted {t.counted}, confirmed {t.confirmed}, corrected {t.corrected}"
                )
        self.totals.setText("\n".join(told[:8]))

    def _ask_pictures(self) -> None:
        """Fetch pictures for the cards on screen, then for those next to them."""
        first = self.list.indexAt(self.list.viewport().rect().topLeft()).row()
        first = max(first, 0)
        self.strips.ask_entries(self.model.entries[first : first + 10])

    # --- saying ---------------------------------------------------------------------------------------------

    @property
    def current(self) -> Entry | None:
        """The card chosen."""
        row = self.list.currentIndex().row()
        return self.model.entries[row] if 0 <= row < len(self.model.entries) else None

    def _go(self, index: QModelIndex) -> None:
        entry = index.data(Qt.ItemDataRole.UserRole)
        if isinstance(entry, Entry):
            self.session.set_frame(entry.frame)
            self.session.select(entry.identity or None)

    def say(self, word: str) -> None:
        """Confirm, reject or leave the chosen card undecided, add one that was missed, or go to the next open one."""
        if word.startswith("missed"):
            self._add_missed(1 if word.endswith("forward") else -1)
        elif word == "next":
            self._next_open()
        elif self.current is not None:
            self._judge(self.current, word)

    def _judge(self, entry: Entry, word: str) -> None:
        session, crossings = self.session, self.session.crossings
        if crossings is None:
            return
        if entry.added >= 0:
            if word == "rejected":
                session.say(without_added(session.audit, entry.added), f"take back a crossing of '{entry.line}'")
            return
        said = word if word in ("confirmed", "rejected") else None
        what = {"confirmed": "confirm", "rejected": "reject"}.get(word, "leave undecided")
        session.say(with_verdict(session.audit, crossings, entry.row, said), f"{what} a crossing of '{entry.line}'")  # type: ignore[arg-type]
        self.refresh()
        if said is not None:
            self._next_open()

    def _add_missed(self, direction: int) -> None:
        """A crossing on the frame shown, of the line chosen in the filter or the first."""
        session, clip = self.session, self.session.clip
        lines = session.recipe.count.line
        if clip is None or not lines:
            return
        name = self.line.currentData() or lines[0].name
        kind = self.kind.currentData() or (session.crossings.class_names[0] if session.crossings else DEFAULT_CLASS)
        missed = Missed(name, direction, float(clip.times[session.frame]), session.frame, kind)
        session.say(with_added(session.audit, missed), f"add a missed crossing of '{name}'")
        self.refresh()

    def _next_open(self) -> None:
        """Choose the next card nobody has said anything of."""
        row = self.list.currentIndex().row()
        places = [k for k, entry in enumerate(self.model.entries) if entry.open]
        after = [k for k in places if k > row] or places
        if after:
            self.list.setCurrentIndex(self.model.index(after[0]))
            self.list.scrollTo(self.model.index(after[0]), QListView.ScrollHint.PositionAtTop)
