"""What became of one clip of a batch, read from the files of its results."""

from __future__ import annotations

import csv
import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

from drover import __version__
from drover.core.batch.plan import Job
from drover.core.footage.opened import footage_fingerprint
from drover.core.recipe import Recipe

__all__ = ["Outcome", "State", "finished_outcome"]

State = Literal["waiting", "working", "done", "failed"]
MOST_FACTS = 8 << 20  # bytes of a run.json or counts.csv


@dataclass(frozen=True)
class Outcome:
    """State of one clip; figures are those of its finished run.

    ``counts`` maps each line to passages forward and back; ``duration`` is seconds of video; ``share`` is how far a
    clip that is worked on has come.
    """

    job: Job
    state: State = "waiting"
    reason: str = ""
    share: float = 0.0
    frames: int = 0
    duration: float = 0.0
    identities: int = 0
    counts: dict[str, tuple[int, int]] = field(default_factory=dict)
    kept: bool = False  # found finished, by an earlier batch


def finished_outcome(job: Job, recipe: Recipe, *, kept: bool = False) -> Outcome | None:
    """The outcome of a clip whose results are there, whole, and of this recipe, clip and version; else None."""
    facts = _facts_of(job.folder / "run.json")
    if facts is None:
        return None
    try:
        clip = facts["clip"]
        same = (
            facts["versions"]["drover"] == __version__
            and facts["recipe"] == recipe.model_dump(mode="json")
            and clip["fingerprint"] == footage_fingerprint(job.clip) != ""
        )
        if not same:
            return None
        return Outcome(
            job, "done", share=1.0, frames=int(facts["frames"]), duration=float(facts["duration"]),
            identities=int(facts["identities"]),
            counts=_counts_of(job.folder / "counts.csv", recipe), kept=kept,
        )  # fmt: skip
    except (KeyError, TypeError, ValueError, AttributeError):
        return None  # not a file of ours: the clip is done again


def _facts_of(path: Path) -> dict[str, Any] | None:
    try:
        if path.stat().st_size > MOST_FACTS:
            return None
        facts = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        return None
    return facts if isinstance(facts, dict) else None


def _counts_of(path: Path, recipe: Recipe) -> dict[str, tuple[int, int]]:
    """Passages of each line, all classes together.

    Raises
    ------
    ValueError, KeyError
        When the table is not there or not whole.
    """
    totals = {line.name: [0, 0] for line in recipe.count.line}
    try:
        with path.open(encoding="utf-8", newline="") as file:
            for row in csv.DictReader(file):
                totals[row["line"]][0] += int(row["forward"])
                totals[row["line"]][1] += int(row["back"])
    except (OSError, csv.Error) as error:
        raise ValueError("no table of counts") from error
    return {name: (forward, back) for name, (forward, back) in totals.items()}
