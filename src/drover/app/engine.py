"""The engine of one window: asks the graph on worker threads, latest wins, and says what is fresh, working or stale.

It holds what is shown of each stage with the key it belongs to. A result is fresh where its key is the one that the
recipe in force asks for; nothing else decides that.
"""

from __future__ import annotations

import time

from PySide6.QtCore import QObject, Signal

from drover.app.counting_now import CountingNow
from drover.app.engine_work import Fitted, Linked, Scored, fit_ground, link, merged_so_far
from drover.app.following import Following
from drover.app.held import Held
from drover.app.jobs import LatestJob
from drover.app.known_results import KnownResults
from drover.app.scoring import Asked, Scoring
from drover.app.stage_state import StageState, state_of
from drover.core.count.paths import TrackPaths
from drover.core.count.whole_clip import Counted
from drover.core.detect.result import DetectResult
from drover.core.document import KeptRun
from drover.core.edits.apply import Edited
from drover.core.graph import Call, Result, Subject, keys_of, run_stage
from drover.core.graph import Linked as AsLinked
from drover.core.progress import Progress
from drover.core.recipe import DetectSettings, Recipe, TrackSettings
from drover.core.result_store import ResultStore
from drover.core.types import Crossings, Detections, Tracks

__all__ = ["Engine"]


class Engine(QObject):
    """Results of one window's clip, brought up to date with its recipe."""

    detections_changed = Signal()
    tracks_changed = Signal()
    crossings_changed = Signal()
    score_changed = Signal()
    states_changed = Signal()
    progressed = Signal(object)
    message_raised = Signal(str)
    completed = Signal(object)
    _partial = Signal(int, object)
    _progress = Signal(int, object)

    def __init__(self, store: ResultStore, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.store = store
        self.subject: Subject | None = None
        self.recipe = Recipe()
        self.settled = True
        self.footage_missing = False
        self._detect_job, self._link_job, self._ground_job = (
            LatestJob(name, self) for name in ("detect", "link", "ground")
        )
        self._jobs = self._detect_job, self._link_job, self._ground_job
        takers = self._on_detected, self._on_linked, self._on_ground
        for job, done in zip(self._jobs, takers, strict=True):
            job.failed.connect(self._on_failed)
            job.done.connect(done)
        self._partial.connect(self._on_partial)
        self._progress.connect(self._on_progress)
        self.following = Following(store, self)
        self.following.ready.connect(self._request_link)
        self.following.failed.connect(self._on_failed)
        self.following.progressed.connect(self.progressed)
        self.scoring = Scoring(self)
        self.scoring.made.connect(self._on_scored)
        self.scoring.failed.connect(self._on_failed)
        self._ticket = 0
        self._clear()

    def _clear(self) -> None:
        self.detect: DetectResult | None = None
        self.detect_settings: DetectSettings | None = None
        self.edited: Edited | None = None
        self.linked: AsLinked | None = None  # with the filters' boxes, before anything was done to them
        self.track_settings: TrackSettings | None = None
        self.linked_detections: Detections | None = None
        self.counted: Counted | None = None
        self.link_seconds = self.count_seconds = 0.0
        self.cancelled = False
        self.keys: dict[str, str] = {}
        self._shown: dict[str, str] = {}  # the key of what is shown, by stage; empty for what is partial
        self._known = KnownResults()
        self._paths: dict[str, TrackPaths] = {}
        self._counting = CountingNow()
        self._detecting = ""

    # --- what is asked ----------------------------------------------------------------------------------------

    def open(self, subject: Subject, recipe: Recipe, *, missing: bool = False) -> None:
        """Begin with another clip; nothing of the one before stays."""
        for job in self._jobs:
            job.cancel()
        self.following.forget()
        self.scoring.forget()
        self._ticket += 1
        self._clear()
        self.subject, self.recipe, self.settled, self.footage_missing = subject, recipe, True, missing
        self.keys = keys_of(subject, recipe)

    def restore(self, run: KeptRun, detect: DetectResult, paths: dict[str, TrackPaths]) -> None:
        """Show a kept run; whether it is up to date its keys tell."""
        kept = run.recipe
        self._take_detect(Result("detect", run.detect_key, detect), kept.detect)
        self.edited = Edited(run.tracks, () if self.subject is None or not self.subject.edits else None)
        self._paths, self.track_settings = paths, kept.track
        self.linked = None  # a kept run holds the finished tracks alone
        self.linked_detections = detect.detections
        self._shown["edits"] = run.track_key
        if self.edited.notes is not None:  # what came of corrections is not kept; linking again tells
            self._known.remember(Result("edits", run.track_key, self.edited))
        self.tracks_changed.emit()
        self.recount()

    def ask(self, subject: Subject, recipe: Recipe, *, settled: bool) -> None:
        """Take over a recipe, and bring up to date what depends on it; while unsettled only what answers at once."""
        before = self.recipe
        self.subject, self.recipe, self.settled = subject, recipe, settled
        self.keys = keys_of(subject, recipe)
        if recipe.count != before.count and self.tracks is not None:
            self.recount()
        if settled:
            self.bring_up_to_date()
        elif recipe.detect.boxes != before.detect.boxes and not self.needs_footage:
            self._request_detect()
        elif recipe.track != before.track:
            self._request_link()
        self.states_changed.emit()

    def bring_up_to_date(self) -> None:
        """Start whatever is needed for all results to belong to the recipe in force."""
        if self.subject is None:
            return
        if self.fresh("detect") and self._detect_job.busy:
            self._detect_job.cancel()  # what was asked for meanwhile is wanted no more
            self._ticket += 1
            self.progressed.emit(None)
        if not self.fresh("detect"):
            if not (self.footage_missing and self.needs_footage):
                self._request_detect()
        elif not self.fresh("edits") or (self.edited is not None and self.edited.notes is None):
            self._request_link()
        else:
            self._link_job.cancel()  # of a step that was undone meanwhile: its tracks would stay on screen
            if not self.fresh("count"):
                self.recount()
            self._request_score()
            self._complete()
        self.states_changed.emit()

    def fresh(self, stage: str) -> bool:
        """Whether what is shown of a stage is what the recipe asks for."""
        return bool(self.keys) and self._shown.get(stage) == self.keys[stage]

    def state_of(self, stage: str) -> str:
        """State of a stage's result, one of :class:`StageState`."""
        if self.subject is None:
            return StageState.EMPTY
        if stage == "footage":
            return StageState.STALE if self.footage_missing else StageState.FRESH
        jobs = {"detect": self._detect_job, "link": self._link_job, "score": self.scoring}
        made = {"detect": self.detect, "track": self.tracks, "count": self.tracks, "score": self.scoring.score}[stage]
        busy = {name for name, job in jobs.items() if job.busy}
        return state_of(stage, self.fresh, busy, there=made is not None, truth=self.subject.truth is not None)

    @property
    def needs_footage(self) -> bool:
        """Whether a pass over the clip is needed that has not been made."""
        return "motion" in self.recipe.detect.sources and self.keys.get("motion") not in self._known

    # --- Detect -----------------------------------------------------------------------------------------------

    def _request_detect(self) -> None:
        subject, recipe, known = self.subject, self.recipe, dict(self._known)
        if subject is None or (self._detect_job.busy and self._detecting == self.keys["detect"]):
            return
        self._detecting, self.cancelled = self.keys["detect"], False
        ticket = self._ticket = self._ticket + 1

        def publish(motion: DetectResult) -> None:
            self._partial.emit(ticket, (merged_so_far(motion, subject, recipe), recipe.detect))

        def work(cancelled):  # type: ignore[no-untyped-def]
            call = Call(self.store, lambda p: self._progress.emit(ticket, p), publish, cancelled)
            return run_stage("detect", subject, recipe, known=known, call=call), recipe.detect

        self._detect_job.submit(work)

    def stop(self) -> None:
        """Stop working through the clip; what was found so far stays."""
        self._detect_job.cancel()
        self._ticket += 1
        self.cancelled = True
        self.progressed.emit(None)
        self.states_changed.emit()

    def _on_progress(self, ticket: int, progress: Progress) -> None:
        if ticket == self._ticket and self._detect_job.busy:
            self.progressed.emit(progress)

    def _on_partial(self, ticket: int, found: tuple[DetectResult, DetectSettings]) -> None:
        if ticket == self._ticket and self._detect_job.busy:
            self._take_detect(Result("detect", "", found[0]), found[1])
            self._request_link()

    def _on_detected(self, found: tuple[dict[str, Result], DetectSettings]) -> None:
        results, settings = found
        self.progressed.emit(None)
        self._known.remember(*(result for name, result in results.items() if name != "camera"))
        if results["detect"].key != self.keys["detect"]:
            self.bring_up_to_date()
            return
        self._take_detect(results["detect"], settings)
        for note in results["detect"].value.notes:
            self.message_raised.emit(note)
        self._request_link()

    def _take_detect(self, result: Result, settings: DetectSettings) -> None:
        self.detect, self.detect_settings = result.value, settings
        self._shown["detect"] = result.key
        self.detections_changed.emit()
        self.states_changed.emit()

    # --- Track ------------------------------------------------------------------------------------------------

    def _request_link(self) -> None:
        subject, detect, recipe = self.subject, self.detect, self.recipe
        if subject is None or detect is None or not self.following.known(subject, recipe, self.keys["follow"]):
            return  # with things to follow it goes on when they are followed
        here = Result("detect", self._shown["detect"], detect)
        known = {result.key: result for result in self._known.values() if result.stage != "detect"}
        if not here.key:  # partial: what is made of it must not be taken for the whole
            known = {}
        known[self.keys["detect"]] = here
        if self.following.result is not None:
            known[self.following.result.key] = self.following.result
        final = here.key == self.keys["detect"]
        self._link_job.submit(lambda cancelled: link(subject, recipe, here, known, final, cancelled))
        self.states_changed.emit()

    def _on_linked(self, linked: Linked) -> None:
        made = linked.results
        self.edited, self._paths, self.track_settings = made["edits"].value, linked.paths, linked.settings
        self._shown["edits"], self.linked_detections = made["edits"].key, linked.detect.value.detections
        if made["edits"].key == self.keys["edits"]:  # finished tracks that were known need no link of their own
            made = {name: self._known[key] for name, key in self.keys.items() if key in self._known} | made
        track = made.get("track")
        self.linked = None if track is None else track.value
        if self.linked is not None:
            self.track_settings = self.linked.taken
        if "track" in linked.results:
            self.link_seconds = sum(made[name].seconds for name in ("track", "after", "edits") if name in made)
        if made["edits"].key:
            order = "edits", "after", "track", "pace", "lying"  # what was made of another is let go before it
            self._known.remember(*(made[name] for name in order if name in made))
        self.tracks_changed.emit()
        self.recount()
        self.states_changed.emit()
        self._complete()

    def known(self, stage: str) -> object:
        """What a stage made for what is shown; None where that was let go."""
        made = self._known.get(self.keys.get(stage, ""))
        return None if made is None else made.value

    @property
    def tracks(self) -> Tracks | None:
        """The tracks, with what was corrected by hand."""
        return None if self.edited is None else self.edited.tracks

    # --- Count ------------------------------------------------------------------------------------------------

    @property
    def crossings(self) -> Crossings | None:
        """Every crossing that counts."""
        return None if self.counted is None else self.counted.crossings

    def recount(self) -> None:
        """Count on the interface thread: a few milliseconds even for a million rows."""
        subject, tracks = self.subject, self.tracks
        if subject is None or tracks is None:
            return
        start, settings = time.perf_counter(), self.recipe.count
        self.counted = self._counting.count(subject, tracks, self._shown.get("edits", ""), settings, self._paths)
        self._shown["count"] = self.keys["count"] if self.fresh("edits") else ""
        self.count_seconds = time.perf_counter() - start
        place = self._counting.wanting(subject, settings)
        if place is not None:
            self._ground_job.submit(lambda _: fit_ground(place))
        self.crossings_changed.emit()
        self._request_score()

    def _on_ground(self, fitted: Fitted) -> None:
        self._counting.take_ground(fitted)
        if fitted.fault:
            self.message_raised.emit(f"{fitted.fault}; lengths and speeds are left out until then")
        self.recount()

    # --- Score ------------------------------------------------------------------------------------------------

    def hold(self, held: Held | None) -> None:
        """Compare with another result, or with none; it is scored like the one shown."""
        self.scoring.hold(held)
        self._request_score()

    def _request_score(self) -> None:
        subject, shown = self.subject, {"edits": self.edited, "count": self.counted, "detect": self.detect}
        if subject is None or subject.truth is None or any(one is None for one in shown.values()):
            return
        final = self.fresh("edits") and self.fresh("detect")
        fresh = self.fresh("score") and self._shown.get("found") == self.keys["found"]
        if self.scoring.ask(Asked(subject, self.recipe, self.keys, shown, final), dict(self._known), fresh=fresh):
            self.states_changed.emit()

    def _on_scored(self, made: Scored) -> None:
        score, found = made.score, made.found
        self._shown["score"], self._shown["found"] = (score.key, found.key) if made.final else ("", "")
        if made.final:
            self._known.remember(score, found)
        self.score_changed.emit()
        self.states_changed.emit()

    def _complete(self) -> None:
        """Hand over the finished result of the whole clip, once everything belongs to the settled recipe."""
        subject, detect, tracks, counted = self.subject, self.detect, self.tracks, self.counted
        whole = subject is not None and subject.span is None and self.settled
        fresh = all(self.fresh(stage) for stage in ("detect", "edits", "count"))
        if not (whole and fresh) or detect is None or tracks is None or counted is None:
            return
        keys = (self.keys[stage] for stage in ("detect", "edits", "count"))
        self.completed.emit(KeptRun(self.recipe, *keys, detect, tracks, counted.crossings, counted))

    def _on_failed(self, line: str) -> None:
        self.progressed.emit(None)
        self.message_raised.emit(line)
        self.states_changed.emit()

    def close(self) -> None:
        """End all threads."""
        self.following.close()
        self.scoring.close()
        for job in self._jobs:
            job.close()
