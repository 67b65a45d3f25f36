"""What the engine's threads do for it: linking and scoring one state of the document, and fitting its ground."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from drover.app.held import Held, scored
from drover.core.count.ground import Ground, ground_of
from drover.core.count.paths import TrackPaths, prepare_paths, references_of
from drover.core.detect.result import DetectResult
from drover.core.detect.sources import BoxSource, merge
from drover.core.errors import DroverError
from drover.core.graph import Call, Result, Subject, run_stage
from drover.core.recipe import GroundSettings, Recipe, TrackSettings

__all__ = ["Fitted", "Linked", "Place", "Scored", "fit_ground", "link", "merged_so_far", "score_all"]

Place = tuple[GroundSettings, tuple[int, int]]


@dataclass(frozen=True)
class Linked:
    """Tracks of one state of the document, with the detections they were linked from."""

    results: dict[str, Result]
    paths: dict[str, TrackPaths]
    detect: Result
    settings: TrackSettings


@dataclass(frozen=True)
class Scored:
    """Scores of one state of the document; ``final`` says whether all of them belong to the recipe in force then."""

    score: Result
    found: Result
    final: bool
    held: Held | None
    beside: Held | None
    held_key: str


@dataclass(frozen=True)
class Fitted:
    """The ground's measure, or why there is none."""

    place: Place
    ground: Ground | None
    fault: str


def merged_so_far(motion: DetectResult, subject: Subject, recipe: Recipe) -> DetectResult:
    """What a pass has found so far, with what other sources say of the same frames."""
    other = BoxSource(subject.imported).found(recipe.detect) if "boxes" in recipe.detect.sources else None
    return merge(motion, other, recipe.detect)


def link(
    subject: Subject,
    recipe: Recipe,
    detect: Result,
    known: dict[str, Result],
    final: bool,
    cancelled: Callable[[], bool],
) -> Linked:
    """Link what was found; what is made of a partial result gets no key, so that nobody takes it for the whole."""
    made = run_stage("edits", subject, recipe, known=known, call=Call(cancelled=cancelled))
    if not final:
        made = {name: Result(name, "", result.value, result.seconds) for name, result in made.items()}
    tracks = made["edits"].value.tracks
    paths = {reference: prepare_paths(tracks, reference, ready=True) for reference in references_of(recipe.count)}
    return Linked(made, paths, detect, recipe.track)


def score_all(
    subject: Subject, recipe: Recipe, known: dict[str, Result], final: bool, held: Held | None, held_key: str
) -> Scored:
    """Score tracks and detections, and the result held beside where there is one."""
    made = run_stage("score", subject, recipe, known=known)
    made |= run_stage("found", subject, recipe, known=known)
    beside = None if held is None else scored(held, subject)
    return Scored(made["score"], made["found"], final, held, beside, held_key)


def fit_ground(place: Place) -> Fitted:
    """Fit the ground's measure from its points."""
    try:
        return Fitted(place, ground_of(*place), "")
    except DroverError as error:
        return Fitted(place, None, str(error))
