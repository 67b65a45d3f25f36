"""Steps that can be undone: of the recipe, and of the audit."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtGui import QUndoCommand

from drover.core.count.audit import Audit
from drover.core.recipe import Recipe

if TYPE_CHECKING:
    from drover.app.session import Session

__all__ = ["AuditEdit", "RecipeEdit"]


class RecipeEdit(QUndoCommand):
    """One change of the recipe."""

    def __init__(self, session: Session, before: Recipe, after: Recipe, what: str) -> None:
        super().__init__(what)
        self._session, self._before, self._after = session, before, after

    def redo(self) -> None:
        self._session.settle(self._after)

    def undo(self) -> None:
        self._session.settle(self._before)


class AuditEdit(QUndoCommand):
    """One thing said in the audit."""

    def __init__(self, session: Session, before: Audit, after: Audit, what: str) -> None:
        super().__init__(what)
        self._session, self._before, self._after = session, before, after

    def redo(self) -> None:
        self._session.take_audit(self._after)

    def undo(self) -> None:
        self._session.take_audit(self._before)
