"""The document of one window: the value in force, and the one kind of step that replaces it and can be undone."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack

from drover.core.document import Document, KeptRun
from drover.core.project.file import Edit

__all__ = ["DocumentStore"]


class _Replace(QUndoCommand):
    """One document in place of another."""

    def __init__(self, store: DocumentStore, before: Document, after: Document, what: str) -> None:
        super().__init__(what)
        self._store, self._before, self._after = store, before, after

    def redo(self) -> None:
        self._store.put(self._after)

    def undo(self) -> None:
        self._store.put(self._before)


class DocumentStore(QObject):
    """Holds the document; ``replaced`` tells of the one before (None at first) and the one after."""

    replaced = Signal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.document: Document | None = None
        self.undo = QUndoStack(self)
        self._edits: list[Edit] = []
        self.undo.indexChanged.connect(self._log)
        self._logged: Document | None = None

    def open(self, document: Document) -> None:
        """Begin with a document; nothing before it can be undone."""
        before, self.document = self.document, None
        self.undo.clear()
        self._edits.clear()
        self.document, self._logged = document, document
        self.replaced.emit(before, document)

    def change(self, after: Document, what: str) -> None:
        """Put another document in force, as one step that can be undone."""
        if self.document is not None:
            self.undo.push(_Replace(self, self.document, after, what))

    def put(self, document: Document) -> None:
        """Take over a document as it is after a step, or after one was undone; the newest result stays."""
        before = self.document
        if before is not None:
            document = replace(document, latest=before.latest)
        self.document = document
        self.replaced.emit(before, document)

    def keep_latest(self, run: KeptRun) -> None:
        """A finished result takes the place of the one before; that is no step to be undone."""
        if self.document is not None and (self.document.latest is None or self.document.latest.keys != run.keys):
            before, self.document = self.document, replace(self.document, latest=run)
            self.replaced.emit(before, self.document)

    def take_edits(self) -> list[Edit]:
        """Steps made since they were last asked for: what, document before, document after."""
        taken, self._edits = self._edits, []
        return taken

    def give_back(self, edits: list[Edit]) -> None:
        """Steps that could not be written, to be written another time."""
        self._edits = edits + self._edits

    def _log(self, index: int) -> None:
        if self.document is None:
            return
        before, self._logged = self._logged, self.document
        if index > 0 and before is not None:
            self._edits.append((self.undo.text(index - 1), before, self._logged))
