"""One window's work: its document, its engine and its view, and what the widgets see of them.

Widgets never call each other; they change the document through the session, or listen to it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QTimer, Signal

from drover.app.document_store import DocumentStore
from drover.app.engine import Engine, StageState
from drover.app.held import Held, held_of
from drover.app.jobs import LatestJob
from drover.app.opening import Opened, open_clip, open_project
from drover.app.shown import Shown
from drover.app.view_state import ViewState
from drover.core.count.audit import Audit
from drover.core.document import Document, KeptRun
from drover.core.edits.edit import Edit
from drover.core.errors import DroverError
from drover.core.footage_types import ClipInfo
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.project.lock import ProjectLock
from drover.core.recipe import Recipe
from drover.core.result_store import ResultStore
from drover.core.types import Crossings, Detections, Truth

__all__ = ["STAGES", "Session", "StageState"]

PATIENCE = 500  # ms that work waits for the first picture
STAGES = ("footage", "detect", "track", "count", "score")


class Session(Shown):
    """Document, engine and view of one window."""

    opened = Signal(object)
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
    edits_changed = Signal()

    def __init__(self, store: ResultStore | None = None) -> None:
        super().__init__()
        self.store = store or ResultStore()
        self.documents = DocumentStore(self)
        self.engine = Engine(self.store, self)
        self.view = ViewState(self)
        self.undo = self.documents.undo
        self.clip_missing = False
        self.recipe = Recipe()  # what is shown: the document's, or one being tried while a handle is dragged
        self.other: Held | None = None
        self.shows_pictures = False  # somebody fetches them, and says when the first is there
        self._first = QTimer(self)
        self._first.setSingleShot(True)
        self._first.setInterval(PATIENCE)
        self._first.timeout.connect(self.engine.bring_up_to_date)
        self._open_job, self._truth_job = LatestJob("open", self), LatestJob("truth", self)
        for job, done in ((self._open_job, self._on_opened), (self._truth_job, self._on_truth)):
            job.failed.connect(self.message_raised)
            job.done.connect(done)
        engine = self.engine
        for here, there in (
            (engine.detections_changed, self.detections_changed), (engine.tracks_changed, self.tracks_changed),
            (engine.crossings_changed, self.crossings_changed), (engine.score_changed, self.score_changed),
            (engine.states_changed, self.states_changed), (engine.progressed, self.progressed),
            (engine.message_raised, self.message_raised), (self.view.frame_changed, self.frame_changed),
        ):  # fmt: skip
            here.connect(there)
        engine.completed.connect(self.documents.keep_latest)
        engine.scoring.held_scored.connect(self._on_held_scored)
        self.documents.replaced.connect(self._on_replaced)

    # --- opening ----------------------------------------------------------------------------------------------

    def open_clip(
        self,
        path: Path,
        *,
        recipe: Path | None = None,
        truth: Path | None = None,
        true_crossings: Path | None = None,
    ) -> None:
        """Open a clip as work without a name; the recipe goes on unless another is given."""
        before = self.document

        def work(_: object) -> Opened:
            text = before.text if before is not None else ""
            return open_clip(path, text, recipe=recipe, truth=truth, crossings=true_crossings)

        self._open_job.submit(work)

    def open_project(
        self, path: Path, *, lock: ProjectLock | None = None, first: Callable[[], object] = lambda: None
    ) -> None:
        """Take over what a project file holds; nothing is computed again that is still up to date.

        ``lock`` is given where this window holds it already; ``first`` is waited for before anything is read.
        """
        store = self.store

        def work(_: object) -> Opened:
            first()
            return open_project(path, store, lock=lock)

        self._open_job.submit(work)

    def _on_opened(self, opened: Opened) -> None:
        document = opened.document
        self.opened.emit(opened)  # whoever saves finishes with the document before, and goes on with this one's file
        self.clip_missing = opened.missing
        self.recipe, self.other = document.recipe, None
        self.view.reset(document.clip.frame_count)
        self.engine.open(document.subject, document.recipe, missing=opened.missing)
        self.documents.open(document)
        self.clip_changed.emit()
        for signal in (
            self.imported_changed, self.span_changed, self.audit_changed, self.edits_changed, self.truth_changed,
            self.recipe_changed,
        ):  # fmt: skip
            signal.emit()
        if document.latest is not None and opened.detect is not None and opened.paths is not None:
            self.engine.restore(document.latest, opened.detect, opened.paths)
            self.view.restore(opened.hidden, opened.only)
            self.set_frame(opened.frame)
        self._show_held(None, document)
        for note in opened.notes:
            self.message_raised.emit(note)
        if self.shows_pictures and not opened.missing:
            self._first.start()
        else:
            self.engine.bring_up_to_date()

    def picture_is_there(self) -> None:
        """The first picture is on screen: work may begin, which would have held it up."""
        if self._first.isActive():
            self._first.stop()
            self.engine.bring_up_to_date()

    def load_truth(self, path: Path) -> None:
        """Load truth for the open clip; a crossings.csv beside it is taken as the true crossings, or those there stay.

        Raises
        ------
        DroverError
            When no clip is open.
        """
        frames = self._clip_for("truth").frame_count

        def work(_: object) -> tuple[str, Truth | None, Crossings | None]:
            beside = path.with_name("crossings.csv")
            truth = read_truth(path, frame_count=frames)
            _ = truth.digest
            return "load truth", truth, read_crossings(beside) if beside.exists() else None

        self._truth_job.submit(work)

    def load_true_crossings(self, path: Path) -> None:
        """Load true crossings alone, where nobody has true boxes.

        Raises
        ------
        DroverError
            When no clip is open.
        """
        self._clip_for("true crossings")
        self._truth_job.submit(lambda _: ("load true crossings", None, read_crossings(path)))

    def _clip_for(self, what: str) -> ClipInfo:
        if self.clip is None:
            raise DroverError(f"open a clip first; {what} belongs to a clip")
        return self.clip

    def _on_truth(self, loaded: tuple[str, Truth | None, Crossings | None]) -> None:
        what, truth, crossings = loaded
        document = self.document
        if document is not None:
            truth = document.truth if truth is None else truth
            crossings = document.true_crossings if crossings is None else crossings
            self.documents.change(replace(document, truth=truth, true_crossings=crossings), what)

    # --- changing the document --------------------------------------------------------------------------------

    def preview(self, recipe: Recipe) -> None:
        """Show what a recipe would do while a handle is being dragged; not yet an edit."""
        self._show_recipe(recipe, settled=False)

    def edit(self, recipe: Recipe, what: str) -> None:
        """Make a recipe the current one, as one step that can be undone."""
        document = self.document
        if document is None:
            self.recipe = recipe
            self.recipe_changed.emit()
        elif recipe == document.recipe:
            self._show_recipe(recipe, settled=True)
        else:
            self.documents.change(document.with_recipe(recipe), what)

    def change(self, document: Document, what: str) -> None:
        """Put another document in force, as one step that can be undone."""
        self.documents.change(document, what)

    def say(self, audit: Audit, what: str) -> None:
        """Take over an audit that says one thing more or less."""
        if self.document is not None and audit != self.audit:
            self.documents.change(replace(self.document, audit=audit), what)

    def correct(self, edits: tuple[Edit, ...], what: str) -> None:
        """Have other corrections in force, as one step that can be undone."""
        if self.document is not None and edits != self.document.edits:
            self.documents.change(replace(self.document, edits=edits), what)

    def bring_in(self, boxes: Detections, recipe: Recipe) -> None:
        """Take boxes of another detector, with the recipe that says how they are used, as one step."""
        if self.document is not None:
            self.documents.change(replace(self.document.with_recipe(recipe), imported=boxes), "bring in boxes")

    def set_span(self, span: tuple[int, int] | None) -> None:
        """Work on a span of the clip only (first frame, one past the last), or on the whole clip again."""
        document = self.document
        if document is None or span == self.span:
            return
        if span is not None:
            first, past = sorted(span)
            span = max(0, first), min(document.clip.frame_count, max(past, first + 2))
        what = "work on the whole clip" if span is None else "work on a span"
        self.documents.change(replace(document, span=span), what)

    def hold(self) -> None:
        """Keep the current result as a run, and compare those to come with it."""
        document, run = self.document, self.run_shown()
        if document is not None and run is not None:
            self.documents.change(document.with_run(run, held=True), "hold this result")

    def let_go(self) -> None:
        """Compare no more; the run that was held goes too."""
        if self.document is not None and self.document.held:
            self.documents.change(self.document.without_run(self.document.held), "let go")

    def swap(self) -> None:
        """Go on with the recipe held, and hold the result in use."""
        document, run, other = self.document, self.run_shown(), self.other
        if document is not None and run is not None and other is not None:
            without = document.without_run(document.held).with_run(run, held=True)
            self.documents.change(without.with_recipe(other.recipe), "go on with the recipe held")

    def run_shown(self) -> KeptRun | None:
        """What is shown now, as a run that can be kept."""
        engine, document = self.engine, self.document
        if document is None or engine.detect is None or engine.tracks is None or engine.counted is None:
            return None
        keys = engine.keys
        return KeptRun(
            document.recipe, keys["detect"], keys["edits"], keys["count"], engine.detect, engine.tracks,
            engine.counted.crossings, engine.counted, "held",
        )  # fmt: skip

    def _show_recipe(self, recipe: Recipe, *, settled: bool) -> None:
        before, self.recipe = self.recipe, recipe
        if recipe != before:
            self.recipe_changed.emit()
        if self.document is not None:
            self.engine.ask(self.document.subject, recipe, settled=settled)

    def _on_replaced(self, before: Document | None, after: Document) -> None:
        """Tell of what differs, and have the engine bring it up to date."""
        if before is None or before.clip is not after.clip:
            return
        for name, signal in (
            ("imported", self.imported_changed), ("span", self.span_changed), ("audit", self.audit_changed),
            ("edits", self.edits_changed),
            ("truth", self.truth_changed), ("true_crossings", self.truth_changed),
        ):  # fmt: skip
            if getattr(before, name) is not getattr(after, name):
                signal.emit()
        self._show_held(before, after)
        asked = ("recipe", "imported", "span", "truth", "true_crossings", "edits")
        if any(getattr(before, name) is not getattr(after, name) for name in asked):
            self._show_recipe(after.recipe, settled=True)

    def _show_held(self, before: Document | None, after: Document) -> None:
        run = after.held_run
        if before is not None and before.held_run is run:
            return
        self.other = None if run is None else held_of(run)
        self.engine.hold(self.other)
        self.other_changed.emit()

    def _on_held_scored(self, held: Held) -> None:
        self.other = held
        self.other_changed.emit()

    # --- where the user is ------------------------------------------------------------------------------------

    def set_frame(self, frame: int) -> None:
        """Go to a frame, held inside the clip."""
        self.view.set_frame(frame)

    def select(self, identity: int | None, beside: int | None = None) -> None:
        """Choose an identity, or none, and a second one beside it."""
        self.view.select(identity, beside)

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

    def cancel_work(self) -> None:
        """Stop working through the clip; what was found so far stays."""
        self.engine.stop()

    def resume_work(self) -> None:
        """Work through the clip again after a stop."""
        self.engine.cancelled = False
        self.engine.bring_up_to_date()

    def close(self) -> None:
        """End all threads."""
        self._first.stop()
        self._open_job.close()
        self._truth_job.close()
        self.engine.close()
