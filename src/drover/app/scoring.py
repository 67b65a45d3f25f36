"""Scoring in the background of one window: what is shown, and the result that is held beside it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal

from drover.app.engine_work import Scored, score_all
from drover.app.held import Held
from drover.app.jobs import LatestJob
from drover.core.graph import Result, Subject
from drover.core.recipe import Recipe
from drover.core.score.detection import DetectionScore
from drover.core.score.scorer import Score

__all__ = ["Asked", "Scoring"]


@dataclass(frozen=True)
class Asked:
    """One state of the document; ``final`` says whether all that is shown of it belongs to its recipe."""

    subject: Subject
    recipe: Recipe
    keys: Mapping[str, str]
    shown: Mapping[str, object]  # what is shown, by stage
    final: bool


class Scoring(QObject):
    """``made`` tells that something was scored; the scores of what is held are kept here with it."""

    made = Signal(object)
    failed = Signal(str)
    held_scored = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._job = LatestJob("score", self)
        self._job.failed.connect(self.failed)
        self._job.done.connect(self._on_done)
        self.held: Held | None = None
        self.forget()

    def forget(self) -> None:
        """Another clip is opened: nothing of the one before stays."""
        self._job.cancel()
        self.held = None
        self._beside = ""  # what the scores of what is held belong to
        self.score: Score | None = None
        self.found: DetectionScore | None = None
        self.seconds = 0.0

    @property
    def busy(self) -> bool:
        """Whether something is being scored."""
        return self._job.busy

    def hold(self, held: Held | None) -> None:
        """Compare with another result, or with none; it is scored with what is asked next."""
        self.held, self._beside = held, ""

    def ask(self, asked: Asked, done: Mapping[str, Result], *, fresh: bool) -> bool:
        """Score what is shown unless that is known already: whether there was anything to do."""
        keys = asked.keys
        held_key = self._held_key(keys)
        held = self.held if self.held is not None and self._beside != held_key else None
        if fresh and held is None:
            self._job.cancel()  # of a step that was undone meanwhile
            return False
        known = {keys[name]: Result(name, keys[name], value) for name, value in asked.shown.items()}
        if asked.final:
            known |= {keys[name]: done[keys[name]] for name in ("score", "found") if keys[name] in done}
        subject, recipe, final = asked.subject, asked.recipe, asked.final
        self._job.submit(lambda _: score_all(subject, recipe, known, final, held, held_key))
        return True

    def _held_key(self, keys: Mapping[str, str]) -> str:
        """What the held result's scores depend on."""
        return "" if self.held is None else "|".join((*self.held.run.keys[:3], keys.get("score", "")))

    def _on_done(self, made: Scored) -> None:
        self.score, self.found, self.seconds = made.score.value, made.found.value, made.score.seconds
        if made.beside is not None and self.held is made.held:
            self.held, self._beside = made.beside, made.held_key
            self.held_scored.emit(made.beside)
        self.made.emit(made)

    def close(self) -> None:
        """End the thread."""
        self._job.close()
