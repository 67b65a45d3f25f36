"""What a stage of the graph is: its version, inputs, settings and how it runs; what it works on, and what it gives."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel

from drover.core.detect_pass import OnPartial
from drover.core.edits.edit import Edit
from drover.core.footage_types import ClipInfo
from drover.core.progress import IsCancelled, OnProgress, never, quiet
from drover.core.recipe import Recipe, TrackSettings
from drover.core.result_store import ResultStore
from drover.core.types import Crossings, Detections, Tracks, Truth

__all__ = ["Call", "Inputs", "Linked", "Result", "Run", "Stage", "Subject"]


@dataclass(frozen=True, eq=False)
class Subject:
    """What the graph works on: a clip, boxes brought in for it, its truth, the span looked at (all if None), and the
    corrections by hand.
    """

    clip: ClipInfo
    imported: Detections | None = None
    truth: Truth | None = None
    true_crossings: Crossings | None = None
    span: tuple[int, int] | None = None
    edits: tuple[Edit, ...] = ()


@dataclass(frozen=True)
class Call:
    """How a stage is to be run: where results are kept, who hears of progress, who may stop it."""

    store: ResultStore | None = None
    on_progress: OnProgress = quiet
    on_partial: OnPartial | None = None
    cancelled: IsCancelled = never


@dataclass(frozen=True)
class Result:
    """What a stage made, the key it belongs to, and the seconds it took."""

    stage: str
    key: str
    value: Any
    seconds: float = 0.0


@dataclass(frozen=True)
class Linked:
    """Tracks as they were linked, lines on what was odd about the detections, and the settings as they were taken."""

    tracks: Tracks
    notes: tuple[str, ...]
    taken: TrackSettings


Inputs = Mapping[str, Any]
Run = Callable[[Subject, Recipe, Inputs, Call], Any]


@dataclass(frozen=True)
class Stage:
    """One stage: what its result depends on, and how it is made over a clip.

    ``inputs`` are the stages it builds on with this recipe, ``settings`` its slice of the recipe, ``facts`` what it
    reads of the subject. ``live`` says whether it also runs frame by frame; what needs the whole clip does not.
    """

    name: str
    version: int
    inputs: Callable[[Recipe], tuple[str, ...]]
    settings: Callable[[Recipe], tuple[BaseModel, ...]]
    facts: Callable[[Subject], tuple[str, ...]]
    run: Run
    live: bool = field(default=False)
