"""One run of a clip from end to end: the whole graph, with everything it made."""

from __future__ import annotations

from dataclasses import dataclass, field

from drover.core.count.whole_clip import Counted
from drover.core.detect.result import DetectResult
from drover.core.edits.apply import Edited
from drover.core.edits.edit import Edit
from drover.core.follow.table import FollowedThing
from drover.core.footage_types import ClipInfo
from drover.core.graph import Call, Subject, run_stage
from drover.core.progress import IsCancelled, OnProgress, never, quiet
from drover.core.recipe import Recipe, TrackSettings
from drover.core.result_store import ResultStore
from drover.core.score.scorer import Score
from drover.core.track.flood import flood_note
from drover.core.types import Crossings, Detections, Tracks, Truth

__all__ = ["ClipRun", "detections_of", "run_clip"]


@dataclass(frozen=True)
class ClipRun:
    """Everything one run of a clip produced."""

    clip: ClipInfo
    recipe: Recipe
    detect: DetectResult
    tracks: Tracks
    crossings: Crossings
    score: Score | None
    seconds: dict[str, float] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    counted: Counted | None = None
    track_taken: TrackSettings | None = None
    things: tuple[FollowedThing, ...] = ()
    edits: tuple[Edit, ...] = ()
    names: dict[int, str] = field(default_factory=dict)
    colours: dict[int, str] = field(default_factory=dict)


def detections_of(clip: ClipInfo, recipe: Recipe) -> Detections:
    """What a clip's detections are by the time they are tracked; nothing is kept of it.

    Raises
    ------
    FootageError
    """
    return run_stage("detect", Subject(clip), recipe)["detect"].value.detections


def run_clip(
    clip: ClipInfo,
    recipe: Recipe,
    *,
    detections: Detections | None = None,
    truth: Truth | None = None,
    true_crossings: Crossings | None = None,
    edits: tuple[Edit, ...] = (),
    store: ResultStore | None = None,
    on_progress: OnProgress = quiet,
    cancelled: IsCancelled = never,
) -> ClipRun:
    """Run all stages over a clip; boxes of another detector are used instead of what moves, or beside it.

    ``edits`` are corrections by hand; a note tells of each that fits no more.

    Raises
    ------
    FootageError, Cancelled
    """
    if detections is not None and "boxes" not in recipe.detect.sources:
        recipe = recipe.model_copy(update={"detect": recipe.detect.model_copy(update={"sources": ("boxes",)})})
    subject = Subject(clip, detections, truth, true_crossings, edits=edits)
    call = Call(store=store, on_progress=on_progress, cancelled=cancelled)
    made = run_stage("score" if truth is not None else "count", subject, recipe, call=call)
    parts = {
        "camera": ("camera",),
        "follow": ("follow",),
        "detect": ("motion", "bodies", "boxes", "detect"),
        "track": ("lying", "pace", "track", "after", "edits"),
        "count": ("count",),
    }
    parts |= {"score": ("score",)} if truth is not None else {}
    seconds = {
        name: round(sum(made[part].seconds for part in of if part in made), 4)
        for name, of in parts.items()
        if any(part in made for part in of)
    }
    detect, counted = made["detect"].value, made["count"].value
    flood = flood_note(made["after"].value, clip.times)
    notes = (*detect.notes, *made["track"].value.notes, *([flood] if flood else []))
    notes += _misfits(edits, made["edits"].value)
    return ClipRun(
        clip, recipe, detect, made["edits"].value.tracks, counted.crossings,
        made["score"].value if truth is not None else None, seconds, notes,
        counted, made["track"].value.taken, made["follow"].value if "follow" in made else (), edits,
        made["edits"].value.names, made["edits"].value.colours,
    )  # fmt: skip


def _misfits(edits: tuple[Edit, ...], edited: Edited) -> tuple[str, ...]:
    told = zip(edits, edited.notes or (), strict=False)
    return tuple(
        f"correction {number} ({edit.kind} at {edit.at:.2f} s) fits no more: {note.words}"
        for number, (edit, note) in enumerate(told, 1)
        if not note.fits
    )
