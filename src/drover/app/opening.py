"""Opening, off the interface thread: a clip or a project becomes a document, with what is shown of it at once."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from drover.app.view_state import numbers_of
from drover.core.count.paths import TrackPaths, prepare_paths, references_of
from drover.core.detect.result import DetectResult
from drover.core.document import Document, KeptRun
from drover.core.errors import DroverError
from drover.core.footage.opened import footage_is_there, open_footage
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.graph import Call, Result, keys_of, run_stage
from drover.core.kept_detections import load_detections
from drover.core.live_session.kept import kept_run
from drover.core.project.file import ProjectFile, read_project
from drover.core.project.lock import ProjectLock
from drover.core.recipe import parse_recipe, read_recipe
from drover.core.result_store import ResultStore

__all__ = ["Opened", "open_clip", "open_project"]


@dataclass(frozen=True)
class Opened:
    """A document, and what the window needs besides.

    ``file`` and ``lock`` are those of the project it came from, None for a clip; ``frame`` is where the user was,
    ``hidden`` and ``only`` the identities that were not shown, or alone were;
    ``missing`` says that the clip is not there; ``notes`` are lines to be shown; ``detect`` and ``paths`` belong to the
    kept run that can be shown at once.
    """

    document: Document
    file: ProjectFile | None = None
    lock: ProjectLock | None = None
    frame: int = 0
    missing: bool = False
    notes: tuple[str, ...] = ()
    detect: DetectResult | None = None
    paths: dict[str, TrackPaths] | None = None
    hidden: frozenset[int] = frozenset()
    only: frozenset[int] = frozenset()


def open_clip(
    path: Path,
    recipe_text: str,
    *,
    recipe: Path | None = None,
    truth: Path | None = None,
    crossings: Path | None = None,
) -> Opened:
    """A document on a clip; the recipe goes on unless another is given.

    Raises
    ------
    DroverError
        When the clip, the recipe or the truth cannot be read.
    """
    with open_footage(path.absolute()) as reader:
        clip = reader.info
    text, settings = recipe_text, parse_recipe(recipe_text)
    if recipe is not None:
        settings, text = read_recipe(recipe), recipe.read_text(encoding="utf-8-sig")
    true = read_truth(truth, frame_count=clip.frame_count) if truth else None
    document = Document(clip, settings, text, true, read_crossings(crossings) if crossings else None)
    try:
        live = kept_run(clip)
    except DroverError as error:  # as after a kill: the recording itself is sound
        return Opened(_digested(document), notes=(*clip.notes, f"what was counted live cannot be shown: {error}"))
    if live is None:
        return Opened(_digested(document), notes=clip.notes)
    # Its lines come with it where the window has none yet: what was counted live is then seen at once.
    if recipe is None and not settings.count.line:
        document = replace(document, recipe=live.recipe, recipe_text="")
    note = "a recording of a live run; what was counted live is kept beside it, to compare with"
    return Opened(_digested(document.with_run(live, held=True)), notes=(*clip.notes, note))


def open_project(path: Path, store: ResultStore, *, lock: ProjectLock | None = None) -> Opened:
    """A document from a project file, locked for this window (or by the ``lock`` it holds); the file is only read.

    Raises
    ------
    ProjectError
        When it is open elsewhere, damaged or not a project.
    """
    mine = ProjectLock(path) if lock is None else lock
    try:
        document, view = read_project(path)
        hidden, only = (numbers_of(view.get(key, "")) for key in ("hidden", "only"))
        return replace(_with_clip(document, view, path, store, mine), hidden=hidden, only=only)
    except BaseException:
        if lock is None:
            mine.release()
        raise


def _with_clip(document: Document, view: dict[str, str], path: Path, store: ResultStore, lock: ProjectLock) -> Opened:
    file = ProjectFile(path, document)
    frame = int(view["frame"]) - 1 if view.get("frame", "").isdigit() and len(view["frame"]) < 10 else 0
    place = find_clip(Path(document.clip.path), path)
    if place is None:
        note = f"the clip {document.clip.path} is not there; results are shown without pictures"
        detect, paths = _shown(document, store)
        return Opened(_digested(document), file, lock, frame, True, (note,), detect, paths)
    with open_footage(place) as reader:
        clip = reader.info
    if clip.fingerprint != document.clip.fingerprint or clip.frame_count != document.clip.frame_count:
        note = "the clip has changed since the project was saved; it is worked through again"
        span = document.span if document.span is None or document.span[1] <= clip.frame_count else None
        changed = replace(document, clip=clip, span=span)
        return Opened(_digested(changed), file, lock, frame, False, (*clip.notes, note))
    document = replace(document, clip=clip)
    detect, paths = _shown(document, store)
    notes = clip.notes
    if document.latest is not None and not _up_to_date(document, document.latest):
        notes = (*notes, "the kept result belongs to other settings or an earlier version; it is made anew")
    return Opened(_digested(document), file, lock, frame, False, notes, detect, paths)


def _digested(document: Document) -> Document:
    """Fingerprints of the tables are worked out here, not on the interface thread."""
    for table in (document.truth, document.true_crossings, document.imported):
        if table is not None:
            _ = table.digest
    return document


def _up_to_date(document: Document, run: KeptRun) -> bool:
    keys = keys_of(document.subject, document.recipe)
    return (run.detect_key, run.track_key) == (keys["detect"], keys["edits"])


def _shown(document: Document, store: ResultStore) -> tuple[DetectResult | None, dict[str, TrackPaths] | None]:
    """The kept run's detections, from the store where they are there in full, and its paths for counting."""
    run = document.latest
    if run is None or run.tracks.frame_count != document.clip.frame_count:
        return None, None
    kept = run.recipe
    detect = run.detect
    if kept.detect.sources == ("motion",):
        keys = keys_of(replace(document.subject, span=None), kept)
        stored = load_detections(store, keys["motion"]) if keys["detect"] == run.detect_key else None
        if stored is not None:
            known = {keys["motion"]: Result("motion", keys["motion"], stored)}
            subject, call = replace(document.subject, span=None), Call(store)
            detect = run_stage("detect", subject, kept, known=known, call=call)["detect"].value
    references = references_of(document.recipe.count)
    return detect, {name: prepare_paths(run.tracks, name, ready=True) for name in references}


def find_clip(path: Path, project: Path) -> Path | None:
    """The clip where it was, or beside the project file."""
    for place in (path, project.parent / path.name):
        if footage_is_there(place):
            return place
    return None
