"""The document: one frozen value with all that a person can undo and save.

Every change makes another document; undoing takes the one before. What is worked out from it again (detections,
tracks, counts, scores) is not part of it, except the runs that were kept.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from drover.core.count.audit import Audit
from drover.core.count.whole_clip import Counted
from drover.core.detect.result import DetectResult
from drover.core.edits.edit import Edit
from drover.core.footage_types import ClipInfo
from drover.core.graph import Subject
from drover.core.recipe import Recipe, dump_recipe
from drover.core.types import Crossings, Detections, Tracks, Truth

__all__ = ["Document", "KeptRun", "now"]


def now() -> str:
    """The time, ISO 8601, UTC."""
    return datetime.now(UTC).isoformat(timespec="seconds")


@dataclass(frozen=True, eq=False)
class KeptRun:
    """A finished result with the recipe it was made by and the keys of its stages.

    The keys tell whether it is still up to date. ``name`` is "latest" for the one that Drover keeps by itself, else
    what its keeper called it; ``when`` is ISO 8601.
    """

    recipe: Recipe
    detect_key: str
    track_key: str
    count_key: str
    detect: DetectResult
    tracks: Tracks
    crossings: Crossings
    counted: Counted | None = None
    name: str = "latest"
    note: str = ""
    when: str = field(default_factory=now)

    @property
    def detections(self) -> Detections:
        """What it found."""
        return self.detect.detections

    @property
    def histogram(self) -> NDArray[np.int64]:
        """Sampled pixels by their difference from the background."""
        return self.detect.histogram

    @cached_property
    def recipe_text(self) -> str:
        """The recipe as TOML."""
        return dump_recipe(self.recipe)

    @property
    def keys(self) -> tuple[str, str, str, Recipe]:
        """Everything that tells it from another run."""
        return self.detect_key, self.track_key, self.count_key, self.recipe


@dataclass(frozen=True, eq=False)
class Document:
    """A clip with everything that was said of it.

    ``latest`` is the newest finished result, replaced only by another finished one; ``runs`` are those kept on
    purpose, ``held`` the name of the one that is compared with, empty for none.
    """

    clip: ClipInfo
    recipe: Recipe = field(default_factory=Recipe)
    recipe_text: str = ""  # as it was read, with its comments; an earlier recipe once there were edits
    truth: Truth | None = None
    true_crossings: Crossings | None = None
    imported: Detections | None = None
    audit: Audit = field(default_factory=Audit)
    edits: tuple[Edit, ...] = ()
    span: tuple[int, int] | None = None
    runs: tuple[KeptRun, ...] = ()
    held: str = ""
    latest: KeptRun | None = None

    @property
    def subject(self) -> Subject:
        """What the graph works on."""
        return Subject(self.clip, self.imported, self.truth, self.true_crossings, self.span, self.edits)

    @property
    def held_run(self) -> KeptRun | None:
        """The run compared with."""
        return next((run for run in self.runs if run.name == self.held), None)

    @cached_property
    def text(self) -> str:
        """The recipe as TOML, with the comments it came with; worked out when first asked for, which takes a while."""
        return dump_recipe(self.recipe, self.recipe_text)

    def with_recipe(self, recipe: Recipe) -> Document:
        """Another recipe; comments stay."""
        return replace(self, recipe=recipe)

    def with_run(self, run: KeptRun, *, held: bool = False) -> Document:
        """One kept run more, under a name that no other has."""
        names, number, name = {other.name for other in self.runs}, 1, run.name
        while name in names:
            number += 1
            name = f"{run.name} {number}"
        return replace(self, runs=(*self.runs, replace(run, name=name)), held=name if held else self.held)

    def without_run(self, name: str) -> Document:
        """One kept run less."""
        left = tuple(run for run in self.runs if run.name != name)
        return replace(self, runs=left, held="" if self.held == name else self.held)
