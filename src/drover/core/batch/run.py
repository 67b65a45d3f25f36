"""A batch at work: some processes, a clip each, until all are done; what was finished before is not done again."""

from __future__ import annotations

import contextlib
import multiprocessing as mp
import os
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection, wait
from multiprocessing.context import ForkServerProcess

from drover.core.batch.ledger import BatchState, Ledger
from drover.core.batch.plan import Job
from drover.core.batch.worker import serve, tried_job
from drover.core.errors import Cancelled
from drover.core.footage.opened import footage_is_there
from drover.core.recipe import Recipe

__all__ = ["run_batch", "usual_workers"]

LOOK_EVERY = 0.3  # s between two looks at whether to stop
TRIES = 2  # of a clip during which its process died, as where memory runs short
READY = "drover.core.batch.ready"


@dataclass
class _Worker:
    """One process, the pipe to it, the cores that are its own, and the place of the clip it works on."""

    process: ForkServerProcess
    pipe: Connection
    cores: tuple[int, ...]
    place: int = -1


def _shares(workers: int, *, one_each: bool) -> list[tuple[int, ...]]:
    """The cores of each worker: one each where so many workers were asked for, else all cores shared out.

    Threads of one clip that wait for each other are slower than two clips side by side; a worker that is alone may use
    what there is, unless just one was asked for, as by somebody who wants the rest for other work.
    """
    cores = sorted(os.sched_getaffinity(0))
    each = 1 if one_each else max(1, len(cores) // max(1, workers))
    return [tuple(cores[(k * each + j) % len(cores)] for j in range(each)) for k in range(max(1, workers))]


def usual_workers() -> int:
    """One for every core this program may use."""
    return max(1, len(os.sched_getaffinity(0)))


def run_batch(
    jobs: list[Job],
    recipe: Recipe,
    *,
    workers: int = 0,
    projects: bool = True,
    on_change: Callable[[BatchState], None] = lambda _: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> BatchState:
    """Work through all jobs; a clip that fails says why and does not stop the rest.

    ``workers`` processes are used, each on a core of its own; as many as there are cores where it is 0. With
    ``projects`` each clip gets a project file.
    What is finished, of this recipe and version and of this very clip, is kept as it is.

    Raises
    ------
    Cancelled
        When told to stop: what was finished by then stays, and the same call goes on from there.
    """
    ledger = Ledger(jobs, recipe, projects, on_change)
    batch = _Batch(ledger, recipe, projects)
    try:
        batch.work(workers, cancelled)
    finally:
        batch.close()
    return ledger.state()


class _Batch:
    def __init__(self, ledger: Ledger, recipe: Recipe, projects: bool) -> None:
        self._ledger, self._recipe, self._projects = ledger, recipe, projects
        self._waiting = ledger.waiting
        self._deaths = dict.fromkeys(self._waiting, 0)
        self._workers: list[_Worker] = []
        self._shares: list[tuple[int, ...]] = []
        # A fork of this one would take over threads half way through their work; the one they are forked from has none.
        self._context = mp.get_context("forkserver")
        self._context.set_forkserver_preload([READY])

    def work(self, count: int, cancelled: Callable[[], bool]) -> None:
        self._end_what_is_not_there()
        self._ledger.tell()
        many = min(count or usual_workers(), len(self._waiting))
        self._shares = _shares(many, one_each=count > 0)
        for _ in range(many):
            self._workers.append(self._hire())
        while self._workers:
            for worker in list(self._workers):
                if worker.place < 0:
                    self._give(worker)
            if cancelled():
                raise Cancelled("stopped; the same command goes on from here")
            ready = wait([worker.pipe for worker in self._workers], LOOK_EVERY) if self._workers else []
            for worker in [one for one in self._workers if one.pipe in ready]:
                self._hear(worker)
            if ready:
                self._ledger.tell()

    def close(self) -> None:
        """End all processes; what they had begun is begun again next time."""
        for worker in self._workers:
            worker.process.kill()
        for worker in self._workers:
            worker.process.join(5)
            worker.pipe.close()
        self._workers = []

    def _end_what_is_not_there(self) -> None:
        """A clip that is gone needs no process to say so."""
        for place in list(self._waiting):
            job = self._ledger.job(place)
            if not footage_is_there(job.clip):
                self._waiting.remove(place)
                self._ledger.end(place, tried_job(job, self._recipe, self._projects))

    # --- one process --------------------------------------------------------------------------------------------

    def _hire(self) -> _Worker:
        here, there = self._context.Pipe()
        busy = [worker.cores for worker in self._workers]
        cores = next((share for share in self._shares if share not in busy), self._shares[0])
        process = self._context.Process(
            target=serve, args=(there, self._recipe, self._projects, cores), daemon=True, name="drover-batch"
        )
        process.start()
        there.close()
        return _Worker(process, here, cores)

    def _give(self, worker: _Worker) -> None:
        """Give a free process the next clip, or let it go."""
        if not self._waiting:
            with contextlib.suppress(OSError):
                worker.pipe.send(None)
            self._dismiss(worker)
            return
        worker.place = self._waiting.pop(0)
        self._ledger.set(worker.place, state="working", share=0.0)
        with contextlib.suppress(OSError):  # if it is gone, that is heard next
            worker.pipe.send(self._ledger.job(worker.place))

    def _hear(self, worker: _Worker) -> None:
        try:
            kind, said = worker.pipe.recv()
        except (EOFError, OSError):
            self._died(worker)
            return
        if kind == "share":
            self._ledger.set(worker.place, share=float(said))
            return
        self._ledger.end(worker.place, said)
        worker.place = -1

    def _died(self, worker: _Worker) -> None:
        """A process is gone: its clip is tried once more, by another."""
        place = worker.place
        self._dismiss(worker)
        if place >= 0:
            self._deaths[place] += 1
            if self._deaths[place] < TRIES:
                self._waiting.append(place)
                self._ledger.set(place, state="waiting", share=0.0)
            else:
                clip = self._ledger.job(place).clip
                self._ledger.end(
                    place, f"{clip}: the process working on it ended twice; there may be too little memory"
                )
        if self._waiting:
            self._workers.append(self._hire())

    def _dismiss(self, worker: _Worker) -> None:
        self._workers.remove(worker)
        worker.process.join(5)
        worker.pipe.close()
