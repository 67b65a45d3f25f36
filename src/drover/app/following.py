"""Following things in the background of one window: what is known of them, and what is being followed now."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from drover.app.jobs import LatestJob
from drover.core.follow.table import FollowedThing
from drover.core.graph import Call, Result, Subject, run_stage
from drover.core.progress import Progress
from drover.core.recipe import FollowedSettings, Recipe
from drover.core.result_store import ResultStore

__all__ = ["Following"]


class Following(QObject):
    """``ready`` is told when things asked for are followed; until then whoever asked waits."""

    ready = Signal()
    failed = Signal(str)
    progressed = Signal(object)
    marked = Signal(object)
    _progress = Signal(object)

    def __init__(self, store: ResultStore, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._store = store
        self._job, self._marking = LatestJob("follow", self), LatestJob("mark", self)
        self._job.done.connect(self._on_done)
        self._marking.done.connect(self.marked)
        for job in (self._job, self._marking):
            job.failed.connect(self.failed)
        self._progress.connect(self._on_progress)
        self._asked = ""
        self.result: Result | None = None

    def known(self, subject: Subject, recipe: Recipe, key: str) -> bool:
        """Whether the things of a recipe are followed already; else that is begun, and told when it is done."""
        if not recipe.follow.thing or (self.result is not None and self.result.key == key):
            return True
        if self._asked != key or not self._job.busy:
            self._asked = key

            def work(cancelled):  # type: ignore[no-untyped-def]
                call = Call(self._store, self._progress.emit, None, cancelled)
                return run_stage("follow", subject, recipe, call=call)["follow"]

            self._job.submit(work)
        return False

    @property
    def things(self) -> tuple[FollowedThing, ...]:
        """What came of the things that were followed last."""
        return () if self.result is None else self.result.value

    def mark(self, subject: Subject, settings: FollowedSettings) -> None:
        """Look whether a thing can be followed; ``marked`` tells its settings, ``failed`` why it cannot."""
        from drover.core.follow_pass import mark_thing

        def work(_):  # type: ignore[no-untyped-def]
            mark_thing(subject.clip, settings)
            return settings

        self._marking.submit(work)

    def _on_done(self, result: Result) -> None:
        self.result = result
        self.progressed.emit(None)
        self.ready.emit()

    def _on_progress(self, progress: Progress) -> None:
        if self._job.busy:
            self.progressed.emit(progress)

    def forget(self) -> None:
        """Another clip is opened."""
        self._job.cancel()
        self._marking.cancel()
        self.result, self._asked = None, ""

    def close(self) -> None:
        """End the threads."""
        self._job.close()
        self._marking.close()
