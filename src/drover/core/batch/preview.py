"""A look at what a recipe finds at the beginning of some clips of a batch, before all of them are worked through."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from drover.core.batch.plan import Job
from drover.core.count.tallies import tally
from drover.core.footage.opened import open_footage
from drover.core.recipe import Recipe
from drover.core.run import run_clip

__all__ = ["PREVIEW", "Preview", "preview_job", "some_of"]

PREVIEW = 10.0  # s of each clip


@dataclass(frozen=True)
class Preview:
    """What was found in the first ``seconds`` of a clip of ``whole`` s; ``counts`` are passages forward and back."""

    job: Job
    seconds: float
    whole: float
    frames: int
    identities: int
    boxes_a_frame: float
    counts: dict[str, tuple[int, int]]
    said: tuple[str, ...]


def some_of(jobs: list[Job], many: int) -> list[Job]:
    """So many of the jobs, spread over all."""
    places = np.linspace(0, len(jobs) - 1, min(many, len(jobs))).round().astype(int)
    return [jobs[k] for k in np.unique(places)]


def preview_job(
    job: Job,
    recipe: Recipe,
    *,
    on_progress: Callable[[int, int], None] = lambda done, total: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Preview:
    """Work through the beginning of a clip; nothing is written.

    Raises
    ------
    DroverError
        When the clip cannot be read; Cancelled when told to stop.
    """
    with open_footage(job.clip) as reader:
        clip = reader.info
    short = replace(clip, times=clip.times[: max(1, int(np.searchsorted(clip.times, PREVIEW)))])
    run = run_clip(short, recipe, on_progress=lambda p: on_progress(p.done, p.total), cancelled=cancelled)
    totals = [tally(run.crossings, line) for line in range(len(run.crossings.line_names))]
    return Preview(
        job, short.duration, clip.duration, short.frame_count, len(run.tracks.paths.identity),
        len(run.detect.detections) / short.frame_count, {one.line: (one.forward, one.back) for one in totals},
        (*clip.notes, *run.notes, *run.detect.said),
    )  # fmt: skip
