"""A process of its own that works through one clip after another, and says how far it is."""

from __future__ import annotations

import contextlib
import ctypes
import os
import shutil
import signal
import time
from collections.abc import Callable
from multiprocessing.connection import Connection

from drover.core.batch.plan import Job
from drover.core.document import Document, KeptRun
from drover.core.errors import DroverError, ProjectError
from drover.core.footage.opened import open_footage
from drover.core.footage_types import ClipInfo
from drover.core.graph import Subject, keys_of
from drover.core.project.file import ProjectFile
from drover.core.project.lock import ProjectLock
from drover.core.project.traces import was_worked_in
from drover.core.recipe import Recipe
from drover.core.run import ClipRun, run_clip
from drover.core.run_files import ready_folder, write_run

__all__ = ["do_job", "keep_project", "serve", "tried_job"]

TELL_EVERY = 0.5  # s
_DIE_WITH_PARENT = 1  # of prctl


def serve(pipe: Connection, recipe: Recipe, projects: bool, cores: tuple[int, ...]) -> None:
    """Take jobs from the pipe until it says None or its other end is gone, on these cores alone.

    Answers are ("share", how far) on the way, and ("ended", why it failed or nothing).
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the batch's own to hear
    with contextlib.suppress(OSError):
        os.sched_setaffinity(0, cores)
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_DIE_WITH_PARENT, signal.SIGKILL)
    with contextlib.suppress(EOFError, BrokenPipeError, ConnectionResetError):
        while (job := pipe.recv()) is not None:
            pipe.send(("ended", _reason_of(job, recipe, projects, pipe)))


def _reason_of(job: Job, recipe: Recipe, projects: bool, pipe: Connection) -> str:
    """Do a job, telling the pipe how far it is; why it failed, or nothing."""
    told = time.monotonic()

    def tell(done: int, total: int) -> None:
        nonlocal told
        if time.monotonic() - told >= TELL_EVERY:
            told = time.monotonic()
            pipe.send(("share", done / max(1, total)))

    return tried_job(job, recipe, projects, tell)


def tried_job(
    job: Job, recipe: Recipe, projects: bool, tell: Callable[[int, int], None] = lambda done, total: None
) -> str:
    """Do a job; why it failed, or nothing."""
    try:
        do_job(job, recipe, projects, tell)
    except DroverError as error:
        return str(error)
    except (BrokenPipeError, ConnectionResetError):
        raise
    except MemoryError:
        return f"{job.clip}: there is not enough memory for it; work on fewer clips at once"
    except Exception as error:  # noqa: BLE001 - one clip that ends badly does not end the batch
        return f"{job.clip}: ended by a fault of Drover's ({type(error).__name__}: {str(error)[:120]})"
    return ""


def do_job(job: Job, recipe: Recipe, projects: bool, tell: Callable[[int, int], None]) -> None:
    """Work through one clip and write its results, with ``projects`` its project too; ``tell`` hears frames done.

    Raises
    ------
    DroverError
    """
    ready_folder(job.folder)
    for draft in job.folder.glob(".draft-*"):  # left by one that was killed
        shutil.rmtree(draft, ignore_errors=True)
    with open_footage(job.clip) as reader:
        clip = reader.info
    run = run_clip(clip, recipe, on_progress=lambda p: tell(p.done, p.total))
    if projects:
        keep_project(run, clip, job)
    write_run(run, job.folder)  # its last file says that the clip is done


def keep_project(run: ClipRun, clip: ClipInfo, job: Job) -> None:
    """Write the clip's project, with the run in it; one that is open, or in which somebody has worked, stays as it is.

    Raises
    ------
    ProjectError
    """
    if job.project.exists() and was_worked_in(job.project):
        return
    keys = keys_of(Subject(clip), run.recipe)
    kept = KeptRun(
        run.recipe, keys["detect"], keys["edits"], keys["count"], run.detect, run.tracks, run.crossings, run.counted
    )
    try:
        lock = ProjectLock(job.project)
    except ProjectError:
        return
    try:
        ProjectFile(job.project).save(Document(clip, run.recipe, latest=kept))
    finally:
        lock.release()
