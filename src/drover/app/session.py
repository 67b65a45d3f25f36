"""The state of one window: clip, recipe, results; and which of them is up to date.

The session asks the core for results on worker threads and tells the widgets by signals. Widgets never call
each other; they change the session or listen to it.
"""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QUndoStack

from drover.app.edits import Step
from drover.app.held import Held
from drover.app.jobs import LatestJob
from drover.app.results import Detected, Linked, Opened, Scored, find_clip, scored_again
from drover.core.count.audit import Audit
from drover.core.count.paths import TrackPaths, prepare_paths, references_of
from drover.core.detect.result import DetectResult
from drover.core.errors import DroverError
from drover.core.footage.reader import ClipReader
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.pipeline import (
    Counted,
    Progress,
    boxes_key,
    count_all,
    count_key,
    detect_clip,
    link_detections,
    score_boxes,
    score_result,
    track_key,
    with_boxes,
)
from drover.core.project.contents import KeptRun, ProjectContents
from drover.core.recipe import (
    DetectSettings,
    GroundSettings,
    Recipe,
    TrackSettings,
    dump_recipe,
    parse_recipe,
    read_recipe,
)
from drover.core.result_store import ResultStore
from drover.core.score.detection import DetectionScore
from drover.core.score.scorer import Score
from drover.core.track.input_notes import input_notes
from drover.core.types import ClipInfo, Crossings, Detections, Tracks, Truth

__all__ = ["STAGES", "Session", "StageState"]

STAGES = ("footage", "detect", "track", "count", "score")


class StageState:
    """States of a stage's result."""

    EMPTY = "empty"
    FRESH = "up to date"
    WORKING = "working"
    STALE = "stale"


class Session(QObject):
    """Clip, recipe and results of one window."""

    clip_changed = Signal()
    recipe_changed = Signal()
    detections_changed = Signal()
    tracks_changed = Signal()
    crossings_changed = Signal()
    score_changed = Signal()
    truth_changed = Signal()
    states_changed = Signal()
    progressed = Signal(object)
    frame_changed = Signal(int)
    message_raised = Signal(str)
    span_changed = Signal()
    imported_changed = Signal()
    other_changed = Signal()
    audit_changed = Signal()
    changed = Signal()
    _partial = Signal(int, object)
    _progress = Signal(int, object)

    def __init__(self, store: ResultStore | None = None) -> None:
        super().__init__()
        self.store = store or ResultStore()
        self.clip: ClipInfo | None = None
        self.clip_missing = False
        self.recipe = Recipe()
        self.recipe_text = ""
        self.truth: Truth | None = None
        self.true_crossings: Crossings | None = None
        self.imported: Detections | None = None
        self.audit = Audit()
        self.other: Held | None = None
        self.span: tuple[int, int] | None = None
        self.frame = 0
        self.selected: int | None = None
        self.undo = QUndoStack(self)
        self._settled = self.recipe
        self._detect_ticket = 0
        self._clear_results()
        self._open_job = LatestJob("open", self)
        self._detect_job = LatestJob("detect", self)
        self._link_job = LatestJob("link", self)
        self._score_job = LatestJob("score", self)
        for job in self._jobs:
            job.failed.connect(self._on_failed)
        self._open_job.done.connect(self._on_opened)
        self._detect_job.done.connect(self._on_detected)
        self._link_job.done.connect(self._on_linked)
        self._score_job.done.connect(self._on_scored)
        self._partial.connect(self._on_partial)
        self._progress.connect(self._on_progress)

    @property
    def _jobs(self) -> tuple[LatestJob, ...]:
        return self._open_job, self._detect_job, self._link_job, self._score_job

    def _clear_results(self) -> None:
        self._motion: tuple[DetectSettings, DetectResult] | None = None
        self.detect: DetectResult | None = None
        self._boxes_from: Detections | None = None
        self.detect_settings: DetectSettings | None = None
        self.tracks: Tracks | None = None
        self.track_notes: tuple[str, ...] = ()
        self.track_settings: TrackSettings | None = None
        self.crossings: Crossings | None = None
        self.counted: Counted | None = None
        self._visits_of: tuple[Tracks | None, object] = None, ()
        self.score: Score | None = None
        self.detection_score: DetectionScore | None = None
        self.link_seconds = self.count_seconds = self.score_seconds = 0.0
        self._paths: dict[str, TrackPaths] = {}
        self._linked_from: DetectResult | None = None
        self._scored: object = None
        self._other_span: tuple[int, int] | None = None
        self.cancelled = False

    # --- opening --------------------------------------------------------------------------------------------

    def open_clip(
        self,
        path: Path,
        *,
        recipe: Path | None = None,
        truth: Path | None = None,
        true_crossings: Path | None = None,
    ) -> None:
        """Open a clip and start working through it; the recipe stays unless another is given."""
        kept = self.recipe_text

        def work(_: object) -> Opened:
            with ClipReader(path.absolute()) as reader:
                clip = reader.info
            text = kept
            if recipe is not None:
                read_recipe(recipe)
                text = recipe.read_text(encoding="utf-8")
            true = read_truth(truth, frame_count=clip.frame_count) if truth else None
            return Opened(clip, text, true, read_crossings(true_crossings) if true_crossings else None)

        self._open_job.submit(work)

    def open_contents(self, contents: ProjectContents, project: Path) -> None:
        """Take over what a project file held; nothing is computed again that is still up to date."""

        def work(_: object) -> Opened:
            place = find_clip(Path(contents.clip.path), project)
            if place is None:
                missing = f"the clip {contents.clip.path} is not there; results are shown without pictures"
                return Opened(
                    contents.clip,
                    contents.recipe_text,
                    contents.truth,
                    contents.true_crossings,
                    contents,
                    missing,
                )
            with ClipReader(place) as reader:
                clip = reader.info
            return Opened(clip, contents.recipe_text, contents.truth, contents.true_crossings, contents)

        self._open_job.submit(work)

    def load_truth(self, path: Path) -> None:
        """Load truth for the open clip; a crossings.csv beside it is taken as the true crossings.

        Raises
        ------
        DroverError
            When the file does not fit.
        """
        if self.clip is None:
            raise DroverError("open a clip first; truth belongs to a clip")
        truth = read_truth(path, frame_count=self.clip.frame_count)
        beside = path.with_name("crossings.csv")
        crossings = read_crossings(beside) if beside.exists() else None
        self.truth, self.true_crossings = truth, crossings
        self.truth_changed.emit()
        self._request_score()
        self.changed.emit()

    def load_true_crossings(self, path: Path) -> None:
        """Load true crossings alone, where nobody has true boxes.

        Raises
        ------
        DroverError
            When the file does not fit.
        """
        if self.clip is None:
            raise DroverError("open a clip first; true crossings belong to a clip")
        self.true_crossings = read_crossings(path)
        self.truth_changed.emit()
        self._scored = None
        self._request_score()
        self.changed.emit()

    def _on_opened(self, opened: Opened) -> None:
        self._detect_job.cancel()
        self._link_job.cancel()
        self._score_job.cancel()
        self._clear_results()
        self.clip, self.truth, self.true_crossings = opened.clip, opened.truth, opened.true_crossings
        self.clip_missing = bool(opened.missing)
        self.recipe_text = opened.recipe_text
        self.recipe = self._settled = parse_recipe(opened.recipe_text)
        self.undo.clear()
        self.frame, self.selected = 0, None
        self.span, self.other, self.imported = None, None, None
        self.audit = opened.contents.audit if opened.contents is not None else Audit()
        if opened.contents is not None:
            self.imported = opened.contents.imported
            self._restore(opened.contents)
        self.clip_changed.emit()
        for signal in (self.imported_changed, self.span_changed, self.other_changed, self.audit_changed):
            signal.emit()
        self.truth_changed.emit()
        self.recipe_changed.emit()
        if opened.contents is not None and self.detect is not None:
            for signal in (self.detections_changed, self.tracks_changed):
                signal.emit()
            self._recount()
            self.set_frame(int(opened.contents.view.get("frame", "1")) - 1)
        for note in (*opened.clip.notes, opened.missing):
            if note:
                self.message_raised.emit(note)
        self._bring_up_to_date()
        self.changed.emit()

    def _restore(self, contents: ProjectContents) -> None:
        run = contents.run
        clip = self.clip
        if run is None or clip is None:
            return
        same_clip = self.clip_missing or clip.fingerprint == contents.clip.fingerprint
        kept = parse_recipe(run.recipe_text)
        if not same_clip or run.detect_key != boxes_key(clip, kept.detect, self.imported):
            if not same_clip:
                self.message_raised.emit("the clip has changed since the project was saved; it is worked through again")
            return
        known = detect_clip(clip, kept.detect, store=self.store, cancelled=lambda: True) if self._stored(run) else None
        self.detect = known or DetectResult(run.detections, run.histogram, (), run.seconds, clip.frame_count)
        self.detect_settings, self._boxes_from = kept.detect, self.imported
        if known is not None:
            self._motion = kept.detect.motion_only, known
        if run.track_key == track_key(run.detect_key, kept.track):
            self.tracks, self.track_settings, self._linked_from = run.tracks, kept.track, self.detect
            self.track_notes = input_notes(self.detect.detections, clip.times)

    def _stored(self, run: KeptRun) -> bool:
        return (self.store.folder / run.detect_key / "facts.json").exists()

    # --- settings -------------------------------------------------------------------------------------------

    def preview(self, recipe: Recipe) -> None:
        """Show what a recipe would do while a handle is being dragged; not yet an edit."""
        self._apply(recipe, settle=False)

    def edit(self, recipe: Recipe, what: str) -> None:
        """Make a recipe the current one, as one step that can be undone."""
        if recipe == self._settled:
            self._apply(recipe, settle=True)
            return
        self.undo.push(Step(self.settle, self._settled, recipe, what))

    def say(self, audit: Audit, what: str) -> None:
        """Take over an audit that says one thing more or less, as one step that can be undone."""
        if audit != self.audit:
            self.undo.push(Step(self.take_audit, self.audit, audit, what))

    def take_audit(self, audit: Audit) -> None:
        """Take over an audit as it is after a step, or after one was undone."""
        self.audit = audit
        self.audit_changed.emit()
        self.changed.emit()

    def settle(self, recipe: Recipe) -> None:
        """Take over a recipe as it is after an edit, or after one was undone."""
        self._settled = recipe
        self.recipe_text = dump_recipe(recipe, self.recipe_text)
        self._apply(recipe, settle=True)
        self.changed.emit()

    def _apply(self, recipe: Recipe, *, settle: bool) -> None:
        before, self.recipe = self.recipe, recipe
        if recipe != before:
            self.recipe_changed.emit()
        if recipe.count != before.count:
            self._recount()
        if settle:
            self._bring_up_to_date()
        elif recipe.detect.boxes != before.detect.boxes and not self._needs_footage:
            self._request_detect()
        elif recipe.track != before.track:
            self._request_link()
        self.states_changed.emit()

    # --- stages ---------------------------------------------------------------------------------------------

    def state_of(self, stage: str) -> str:
        """State of a stage's result, one of :class:`StageState`."""
        if self.clip is None:
            return StageState.EMPTY
        if stage == "footage":
            return StageState.STALE if self.clip_missing else StageState.FRESH
        detect_fresh = self._detect_fresh
        if stage == "detect":
            return self._state(detect_fresh, self._detect_job.busy, self.detect is not None)
        track_fresh = detect_fresh and self._linked_from is self.detect and self.track_settings == self.recipe.track
        if stage in ("track", "count"):
            return self._state(track_fresh, self._detect_job.busy or self._link_job.busy, self.tracks is not None)
        if self.truth is None:
            return StageState.EMPTY
        busy = self._detect_job.busy or self._link_job.busy or self._score_job.busy
        return self._state(track_fresh and self._scored == self._score_stamp(), busy, self.score is not None)

    @property
    def _detect_fresh(self) -> bool:
        """Whether the detections are those of the recipe, the imported boxes and the chosen span."""
        detect = self.detect
        return (
            detect is not None
            and detect.finished
            and self.detect_settings == self.recipe.detect
            and self._boxes_from is self.imported
            and detect.span in (None, self.span)
        )

    @staticmethod
    def _state(fresh: bool, busy: bool, any_result: bool) -> str:
        if fresh:
            return StageState.FRESH
        if busy:
            return StageState.WORKING
        return StageState.STALE if any_result else StageState.EMPTY

    def _bring_up_to_date(self) -> None:
        """Start whatever is needed for all results to belong to the current recipe."""
        if self.clip is None:
            return
        if not self._detect_fresh and not (self.clip_missing and self._needs_footage):
            self._request_detect()
        elif self._linked_from is not self.detect or self.track_settings != self.recipe.track:
            self._request_link()
        else:
            if self.crossings is None:
                self._recount()
            self._request_score()
        self.states_changed.emit()

    @property
    def uses_boxes(self) -> bool:
        """Whether imported boxes have a part in the detections."""
        return self.imported is not None and self.recipe.detect.boxes.use != "motion"

    @property
    def _needs_footage(self) -> bool:
        """Whether a pass over the clip is needed that has not been made."""
        if self.uses_boxes and self.recipe.detect.boxes.use == "imported":
            return False
        return self._known_motion() is None

    def _known_motion(self) -> DetectResult | None:
        """The pass made last, where it is still right."""
        if self._motion is None or self._motion[0] != self.recipe.detect.motion_only:
            return None
        result = self._motion[1]
        return result if result.finished and result.span in (None, self.span) else None

    def _request_detect(self) -> None:
        clip, settings, store, span = self.clip, self.recipe.detect, self.store, self.span
        boxes = self.imported
        wanted = (settings, id(boxes), span)
        if clip is None or (self._detect_job.busy and wanted == self._wanted):
            return
        self._wanted, self._detecting, self._detecting_from = wanted, settings, boxes
        self.cancelled = False
        ticket = self._detect_ticket = self._detect_ticket + 1
        known, needs = self._known_motion(), self._needs_footage

        def publish(result: DetectResult) -> None:
            self._partial.emit(ticket, Detected(result, with_boxes(result, boxes, settings)))

        def work(cancelled):  # type: ignore[no-untyped-def]
            motion = known
            if needs:
                motion = detect_clip(
                    clip,
                    settings,
                    store=store,
                    cancelled=cancelled,
                    on_progress=lambda progress: self._progress.emit(ticket, progress),
                    on_partial=publish,
                    span=span,
                )
            return Detected(motion, with_boxes(motion, boxes, settings))

        self._detect_job.submit(work)

    _wanted: object = None
    _detecting_from: Detections | None = None
    _detecting: DetectSettings | None = None

    def cancel_work(self) -> None:
        """Stop working through the clip; what was found so far stays."""
        self._detect_job.cancel()
        self._detect_ticket += 1
        self.cancelled = True
        self.progressed.emit(None)
        self.states_changed.emit()

    def resume_work(self) -> None:
        """Work through the clip again after a stop."""
        self._bring_up_to_date()

    def _on_progress(self, ticket: int, progress: Progress) -> None:
        if ticket == self._detect_ticket and self._detect_job.busy:
            self.progressed.emit(progress)

    def _on_partial(self, ticket: int, found: Detected) -> None:
        if ticket == self._detect_ticket and self._detect_job.busy:
            self._take_detections(found)

    def _on_detected(self, found: Detected) -> None:
        self.progressed.emit(None)
        self._take_detections(found)
        for note in found.result.notes:
            self.message_raised.emit(note)
        self.changed.emit()

    def _take_detections(self, found: Detected) -> None:
        self.detect, self.detect_settings = found.result, self._detecting
        self._boxes_from = self._detecting_from
        if found.motion is not None and self._detecting is not None:
            self._motion = self._detecting.motion_only, found.motion
        self.detections_changed.emit()
        self._request_link()
        self.states_changed.emit()

    def _request_link(self) -> None:
        clip, detect, settings = self.clip, self.detect, self.recipe.track
        if clip is None or detect is None:
            return
        references = references_of(self.recipe.count)
        told = self.track_notes if self._linked_from is detect else None  # what is odd lies in the detections alone

        def work(cancelled):  # type: ignore[no-untyped-def]
            start = time.perf_counter()
            tracks = link_detections(detect.detections, clip.times, clip.rate, settings, cancelled=cancelled)
            seconds = time.perf_counter() - start
            paths = {reference: prepare_paths(tracks, reference, ready=True) for reference in references}
            notes = told
            if notes is None:
                notes = input_notes(detect.detections, clip.times) if detect.finished else ()
            return Linked(tracks, paths, seconds, settings, detect, notes)

        self._link_job.submit(work)
        self.states_changed.emit()

    def _on_linked(self, linked: Linked) -> None:
        self.tracks, self._paths, self.link_seconds = linked.tracks, linked.paths, linked.seconds
        self.track_settings, self._linked_from = linked.settings, linked.detect
        self.track_notes = linked.notes
        self.tracks_changed.emit()
        self._recount()
        self.states_changed.emit()
        self.changed.emit()

    def _recount(self) -> None:
        """Count on the interface thread: a few milliseconds even for a million rows."""
        if self.clip is None or self.tracks is None:
            return
        start, settings = time.perf_counter(), self.recipe.count
        tracks, zones = self._visits_of
        same = tracks is self.tracks and zones == settings.zone
        known = self.counted.visits if self.counted is not None and same else None
        try:
            self.counted = count_all(self.tracks, self.clip.times, settings, paths=self._paths, visits=known)
        except DroverError as error:
            self.message_raised.emit(f"{error}; lengths and speeds are left out until then")
            plain = settings.model_copy(update={"ground": GroundSettings()})
            self.counted = count_all(self.tracks, self.clip.times, plain, paths=self._paths, visits=known)
        self._visits_of = self.tracks, settings.zone
        self.crossings = self.counted.crossings
        self.count_seconds = time.perf_counter() - start
        self.crossings_changed.emit()
        self._request_score()

    @property
    def linked_detections(self) -> Detections | None:
        """The detections that the tracks were linked from."""
        return self._linked_from.detections if self._linked_from is not None else None

    def _score_stamp(self) -> object:
        return id(self.tracks), id(self.crossings), id(self.truth), self.recipe.score

    def _request_score(self) -> None:
        tracks, truth, settings = self.tracks, self.truth, self.recipe.score
        crossings, true_crossings, stamp = self.crossings, self.true_crossings, self._score_stamp()
        if tracks is None or truth is None or self._scored == stamp:
            return

        found = self.detect.detections if self.detect is not None else None
        span = self.detect.span if self.detect is not None else None

        other = self.other if self._other_span != span else None

        def work(_: object) -> Scored:
            start = time.perf_counter()
            score = score_result(tracks, truth, settings, crossings=crossings, true_crossings=true_crossings, span=span)
            seconds = time.perf_counter() - start
            boxes = None if found is None else score_boxes(found, truth, settings, span=span)
            beside = None if other is None else scored_again(other, truth, true_crossings, span)
            return Scored(stamp, score, seconds, boxes, other, beside, span)

        self._score_job.submit(work)
        self.states_changed.emit()

    def _on_scored(self, scored: Scored) -> None:
        self._scored, self.score, self.score_seconds = scored.stamp, scored.score, scored.seconds
        self.detection_score = scored.boxes
        if scored.beside is not None and self.other is scored.other:
            self.other, self._other_span = scored.beside, scored.span
            self.other_changed.emit()
        self.score_changed.emit()
        self.states_changed.emit()

    def _on_failed(self, line: str) -> None:
        self.progressed.emit(None)
        self.message_raised.emit(line)
        self.states_changed.emit()

    # --- boxes from elsewhere, a span, a second result -----------------------------------------------------------

    def bring_in(self, boxes: Detections, recipe: Recipe) -> None:
        """Take boxes of another detector, with the recipe that says how they are used."""
        self.imported = boxes
        self.imported_changed.emit()
        self.edit(recipe, "bring in boxes")
        self._bring_up_to_date()
        self.changed.emit()

    def set_span(self, span: tuple[int, int] | None) -> None:
        """Work on a span of the clip only (first frame, one past the last), or on the whole clip again."""
        if self.clip is None or span == self.span:
            return
        if span is not None:
            first, past = sorted(span)
            span = max(0, first), min(self.clip.frame_count, max(past, first + 2))
        self.span = span
        self.span_changed.emit()
        self._bring_up_to_date()

    def hold(self) -> None:
        """Keep the current result beside those to come, for comparing."""
        if self.detect is None or self.detect_settings is None:
            return
        self.other = Held(
            self._settled, self.detect, self.detect_settings, self.tracks, self.crossings, self.score,
            self.detection_score,
        )  # fmt: skip
        self._other_span = self.detect.span
        self.other_changed.emit()

    def let_go(self) -> None:
        """Compare no more."""
        self.other = None
        self.other_changed.emit()

    def swap(self) -> None:
        """Go on with the recipe held, and hold the one in use."""
        other = self.other
        if other is not None:
            self.hold()
            self.edit(other.recipe, "go on with the recipe held")

    # --- where the user is ----------------------------------------------------------------------------------

    def set_frame(self, frame: int) -> None:
        """Go to a frame, held inside the clip."""
        if self.clip is None:
            return
        held = min(max(frame, 0), self.clip.frame_count - 1)
        if held != self.frame:
            self.frame = held
            self.frame_changed.emit(held)

    def select(self, identity: int | None) -> None:
        """Choose an identity, or none."""
        if identity != self.selected:
            self.selected = identity
            self.frame_changed.emit(self.frame)

    def next_error(self, way: int) -> None:
        """Go to the next (1) or previous (-1) frame in which a detection is missing or wrong."""
        score = self.detection_score
        if score is None:
            return
        frames = np.unique(np.concatenate([score.misses[:, 0], score.false_alarms[:, 0]])).astype(int)
        place = int(np.searchsorted(frames, self.frame, side="right" if way > 0 else "left"))
        place = place if way > 0 else place - 1
        if 0 <= place < len(frames):
            self.set_frame(int(frames[place]))

    # --- saving ---------------------------------------------------------------------------------------------

    def contents(self) -> ProjectContents | None:
        """What a project file should hold now; results only once the whole clip is worked through."""
        if self.clip is None:
            return None
        view = {"frame": str(self.frame + 1)}
        return ProjectContents(
            self.clip,
            dump_recipe(self._settled, self.recipe_text),
            self._kept_run(),
            self.truth,
            self.true_crossings,
            view,
            self.imported,
            self.audit,
        )

    def _kept_run(self) -> KeptRun | None:
        clip, detect, tracks, crossings = self.clip, self.detect, self.tracks, self.crossings
        settled = self._settled
        complete = (
            clip is not None
            and detect is not None
            and tracks is not None
            and crossings is not None
            and detect.finished
            and detect.span is None
            and self._boxes_from is self.imported
            and self._linked_from is detect
            and (self.detect_settings, self.track_settings) == (settled.detect, settled.track)
            and self.recipe == settled
        )
        if not complete:
            return None
        assert clip is not None and detect is not None and tracks is not None and crossings is not None
        found = boxes_key(clip, settled.detect, self.imported)
        linked = track_key(found, settled.track)
        return KeptRun(
            recipe_text=dump_recipe(settled),
            detect_key=found,
            track_key=linked,
            count_key=count_key(linked, settled.count),
            detections=detect.detections,
            tracks=tracks,
            crossings=crossings,
            histogram=detect.histogram,
            seconds=detect.seconds,
            counted=self.counted,
        )

    def close(self) -> None:
        """End all threads."""
        for job in self._jobs:
            job.close()
