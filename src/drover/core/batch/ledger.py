"""The state of a batch: what became of every clip by now, whoever works on them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from drover.core.batch.outcome import Outcome, finished_outcome
from drover.core.batch.plan import Job
from drover.core.recipe import Recipe

__all__ = ["BatchState", "Ledger"]


@dataclass(frozen=True)
class BatchState:
    """How far a batch is: the outcome of every clip, in the order of the jobs."""

    outcomes: tuple[Outcome, ...]

    def count(self, state: str) -> int:
        """How many clips are in a state."""
        return sum(outcome.state == state for outcome in self.outcomes)


class Ledger:
    """Outcomes by the place of their jobs; what an earlier batch finished, of this recipe and clip, is done already."""

    def __init__(
        self, jobs: list[Job], recipe: Recipe, projects: bool, on_change: Callable[[BatchState], None]
    ) -> None:
        self._recipe, self._on_change = recipe, on_change
        self._outcomes = [self._before(job, projects) or Outcome(job) for job in jobs]
        self.waiting = [place for place, outcome in enumerate(self._outcomes) if outcome.state == "waiting"]

    def _before(self, job: Job, projects: bool) -> Outcome | None:
        """What an earlier batch made of a clip, if that is all that is wanted."""
        whole = not projects or job.project.exists()
        return finished_outcome(job, self._recipe, kept=True) if whole else None

    def state(self) -> BatchState:
        """How far it is."""
        return BatchState(tuple(self._outcomes))

    def tell(self) -> None:
        """Say how far it is."""
        self._on_change(self.state())

    def job(self, place: int) -> Job:
        """The job at a place."""
        return self._outcomes[place].job

    def set(self, place: int, **changes: Any) -> None:
        """Note something of a clip that is worked on."""
        self._outcomes[place] = replace(self._outcomes[place], **changes)

    def end(self, place: int, reason: str) -> None:
        """A clip is done, or failed for a reason."""
        job = self._outcomes[place].job
        done = None if reason else finished_outcome(job, self._recipe)
        if done is None:
            why = reason or f"{job.clip}: its results are not there any more; was the clip or its folder changed?"
            done = Outcome(job, "failed", why)
        self._outcomes[place] = done
