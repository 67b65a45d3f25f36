"""A batch on many machines: clips are given out by a Dask scheduler to whatever workers it has.

Clips and results lie in folders that every machine sees under the same name; no video goes over the scheduler.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from drover.core.batch.ledger import BatchState, Ledger
from drover.core.batch.plan import Job
from drover.core.batch.worker import tried_job
from drover.core.errors import Cancelled, DroverError
from drover.core.recipe import Recipe

__all__ = ["run_on_cluster"]

LOOK_EVERY = 0.3  # s
ANSWER_WITHIN = 5.0  # s


def run_on_cluster(
    jobs: list[Job],
    recipe: Recipe,
    scheduler: str,
    *,
    projects: bool = True,
    on_change: Callable[[BatchState], None] = lambda _: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> BatchState:
    """Work through all jobs on the workers of a scheduler, as ``run_batch`` does on this machine.

    A clip whose worker dies is given to another, as often as the scheduler allows (three times, as it comes).

    Raises
    ------
    DroverError
        When Dask is not installed, the scheduler is not there, or it has no workers. Cancelled when told to stop: what
        was finished stays.
    """
    client = _connected(scheduler)
    try:
        ledger = Ledger(jobs, recipe, projects, on_change)
        ledger.tell()
        given = {}
        for place in ledger.waiting:
            job = ledger.job(place)
            there = Job(job.clip.absolute(), job.folder.absolute())
            given[place] = client.submit(tried_job, there, recipe, projects, pure=False)
        _hear(ledger, given, cancelled)
        return ledger.state()
    finally:
        client.close()


def _hear(ledger: Ledger, given: dict[int, Any], cancelled: Callable[[], bool]) -> None:
    """Take in what ends, until all has."""
    while given:
        if cancelled():
            for future in given.values():
                future.cancel()
            raise Cancelled("stopped; the same command goes on from here")
        ended = [place for place, future in given.items() if future.done()]
        for place in ended:
            ledger.end(place, _reason_of(given.pop(place), ledger.job(place)))
        if ended:
            ledger.tell()
        else:
            time.sleep(LOOK_EVERY)


def _reason_of(future: Any, job: Job) -> str:
    if future.status == "cancelled":
        return f"{job.clip}: was given up by the scheduler; run the batch again"
    fault = future.exception()
    if fault is None:
        return str(future.result())
    if type(fault).__name__ == "KilledWorker":
        return f"{job.clip}: the workers that tried it ended; there may be too little memory"
    return f"{job.clip}: its worker failed ({type(fault).__name__}: {str(fault)[:120]}); is Drover installed there?"


def _connected(scheduler: str) -> Any:
    try:
        from distributed import Client
    except ImportError as error:
        raise DroverError("Dask is not installed; install it with pip install 'drover[cluster]'") from error
    try:
        client = Client(scheduler, timeout=ANSWER_WITHIN, set_as_default=False)
    except (OSError, ValueError) as error:
        raise DroverError(f"{scheduler}: no scheduler answers there; start one with 'dask scheduler'") from error
    if not client.scheduler_info()["workers"]:
        client.close()
        raise DroverError(f"{scheduler}: has no workers; start some with 'dask worker {scheduler} --nthreads 1'")
    return client
