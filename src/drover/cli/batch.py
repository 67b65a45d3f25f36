"""The batch command: a table of clips that grows as they end, and a preview of what a recipe finds in some."""

from __future__ import annotations

import sys
from pathlib import Path

from drover.cli.progress import shown_progress
from drover.cli.stopping import asked_to_stop
from drover.core.batch.ledger import BatchState
from drover.core.batch.outcome import Outcome
from drover.core.batch.plan import plan_jobs
from drover.core.batch.preview import preview_job, some_of
from drover.core.batch.run import run_batch
from drover.core.batch.summary import write_summary
from drover.core.errors import Cancelled, DroverError
from drover.core.recipe import Recipe
from drover.core.run_files import ready_folder

__all__ = ["do_batch", "preview_batch"]


def do_batch(clips: list[Path], recipe: Recipe, out: Path, workers: int, projects: bool, scheduler: str = "") -> bool:
    """Work through the clips, saying what became of each; whether all are done.

    Raises
    ------
    DroverError
    """
    ready_folder(out)
    jobs = plan_jobs(clips, out)
    seen, last = set[Path](), BatchState(())

    def told(state: BatchState) -> None:
        nonlocal last
        last = state
        for outcome in state.outcomes:
            if outcome.state in ("done", "failed") and outcome.job.folder not in seen:
                seen.add(outcome.job.folder)
                _say(outcome, len(seen), len(jobs))
        show.update(sum(round(1000 * _share(one)) for one in state.outcomes), 1000 * len(jobs))

    with shown_progress(f"{len(jobs)} clips", counted=False) as show:
        try:
            if scheduler:
                from drover.core.batch.cluster import run_on_cluster

                run_on_cluster(jobs, recipe, scheduler, projects=projects, on_change=told, cancelled=asked_to_stop)
            else:
                run_batch(jobs, recipe, workers=workers, projects=projects, on_change=told, cancelled=asked_to_stop)
        except (Cancelled, KeyboardInterrupt) as stop:
            write_summary(last.outcomes, out)
            raise DroverError(f"stopped with {last.count('done')} of {len(jobs)} clips done; "
                              "the same command goes on from there") from stop  # fmt: skip
    table, page = write_summary(last.outcomes, out)
    print(f"{last.count('done')} clips done, {last.count('failed')} failed; summary in {table} and {page}")
    return last.count("failed") == 0


def _share(outcome: Outcome) -> float:
    return 1.0 if outcome.state in ("done", "failed") else outcome.share


def _say(outcome: Outcome, number: int, of: int) -> None:
    if outcome.state == "failed":
        print(f"drover: {outcome.reason}", file=sys.stderr)
        return
    counts = "".join(f", {name} {forward} forward {back} back" for name, (forward, back) in outcome.counts.items())
    before = " (done before)" if outcome.kept else ""
    print(f"{number}/{of} {outcome.job.clip}: {outcome.frames} frames, {outcome.identities} identities{counts}{before}")


def preview_batch(clips: list[Path], recipe: Recipe, out: Path, many: int) -> None:
    """Work through the first seconds of some clips, spread over all, and say what was found; nothing is written.

    Raises
    ------
    DroverError
    """
    for job in some_of(plan_jobs(clips, out), many):
        try:
            with shown_progress(job.clip.name) as show:
                found = preview_job(job, recipe, on_progress=show.update, cancelled=asked_to_stop)
        except Cancelled:
            raise
        except DroverError as error:
            print(f"drover: {error}", file=sys.stderr)
            continue
        counts = "".join(f", {name} {forward} forward {back} back" for name, (forward, back) in found.counts.items())
        print(
            f"{job.clip}, the first {found.seconds:.0f} s of {found.whole:.0f}: {found.identities} identities, "
            f"{found.boxes_a_frame:.1f} boxes a frame{counts}"
        )
        for line in found.said:
            print(f"  {line}")
