"""What the widgets see of a window's work: the document's parts, the engine's results, the view's place."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject

from drover.app.document_store import DocumentStore
from drover.app.engine import Engine
from drover.app.view_state import ViewState
from drover.core.count.audit import Audit
from drover.core.count.whole_clip import Counted
from drover.core.detect.result import DetectResult
from drover.core.document import Document
from drover.core.edits.apply import EditNote
from drover.core.edits.edit import Edit
from drover.core.footage_types import ClipInfo
from drover.core.recipe import DetectSettings, TrackSettings
from drover.core.score.detection import DetectionScore
from drover.core.score.scorer import Score
from drover.core.track.flood import flood_note
from drover.core.types import Crossings, Detections, Tracks, Truth

__all__ = ["Shown"]


class Shown(QObject):
    """Reading only; who makes it sets ``documents``, ``engine`` and ``view``."""

    documents: DocumentStore
    engine: Engine
    view: ViewState

    @property
    def document(self) -> Document | None:
        """The document in force; None before anything is opened."""
        return self.documents.document

    @property
    def clip(self) -> ClipInfo | None:
        """The clip."""
        return self.document.clip if self.document is not None else None

    @property
    def truth(self) -> Truth | None:
        """What was really there."""
        return self.document.truth if self.document is not None else None

    @property
    def true_crossings(self) -> Crossings | None:
        """The crossings that really were."""
        return self.document.true_crossings if self.document is not None else None

    @property
    def imported(self) -> Detections | None:
        """Boxes of another detector."""
        return self.document.imported if self.document is not None else None

    @property
    def audit(self) -> Audit:
        """What a person said of the crossings."""
        return self.document.audit if self.document is not None else Audit()

    @property
    def edits(self) -> tuple[Edit, ...]:
        """What was corrected by hand, in order."""
        return self.document.edits if self.document is not None else ()

    @property
    def edit_notes(self) -> tuple[EditNote, ...]:
        """What came of each correction; fewer than there are while that is being worked out."""
        edited = self.engine.edited
        return () if edited is None or edited.notes is None else edited.notes

    @property
    def names(self) -> dict[int, str]:
        """What identities are called, by number."""
        return {} if self.engine.edited is None else self.engine.edited.names

    @property
    def span(self) -> tuple[int, int] | None:
        """The span worked on, first frame and one past the last; None for the whole clip."""
        return self.document.span if self.document is not None else None

    @property
    def recipe_text(self) -> str:
        """The document's recipe as TOML, with the comments it came with."""
        return self.document.text if self.document is not None else ""

    @property
    def detect(self) -> DetectResult | None:
        """What Detect shows."""
        return self.engine.detect

    @property
    def detect_settings(self) -> DetectSettings | None:
        """The settings that it was made with."""
        return self.engine.detect_settings

    @property
    def tracks(self) -> Tracks | None:
        """What Track shows."""
        return self.engine.tracks

    @property
    def track_settings(self) -> TrackSettings | None:
        """The settings that they were made with; what was on auto as it was taken, where they were linked here."""
        return self.engine.track_settings

    @property
    def as_linked(self) -> Tracks | None:
        """The tracks as they were linked, where they were linked in this window."""
        linked = self.engine.linked
        return None if linked is None else linked.tracks

    @property
    def track_taken(self) -> TrackSettings | None:
        """What the tracks were linked with, what is on auto as it was taken, where they were linked in this window."""
        linked = self.engine.linked
        return None if linked is None else linked.taken

    @property
    def track_notes(self) -> tuple[str, ...]:
        """What was odd about the detections, and about the tracks made of them."""
        linked, clip, tracks = self.engine.linked, self.clip, self.tracks
        if linked is None or clip is None or tracks is None:
            return ()
        flood = flood_note(tracks, clip.times)
        return (*linked.notes, flood) if flood else linked.notes

    @property
    def linked_detections(self) -> Detections | None:
        """The detections that the tracks were linked from."""
        return self.engine.linked_detections

    @property
    def lying_detections(self) -> Detections | None:
        """The detections where they lie on the ground; None where the camera stands, or that is not known any more."""
        found = self.engine.known("lying")
        return found if isinstance(found, Detections) else None

    @property
    def counted(self) -> Counted | None:
        """What Count shows."""
        return self.engine.counted

    @property
    def crossings(self) -> Crossings | None:
        """Every crossing that counts."""
        return self.engine.crossings

    @property
    def score(self) -> Score | None:
        """The result held against the truth."""
        return self.engine.scoring.score

    @property
    def detection_score(self) -> DetectionScore | None:
        """The detections held against the truth."""
        return self.engine.scoring.found

    @property
    def cancelled(self) -> bool:
        """Whether the user stopped the work."""
        return self.engine.cancelled

    @property
    def frame(self) -> int:
        """The frame on screen."""
        return self.view.frame

    @property
    def selected(self) -> int | None:
        """The identity chosen."""
        return self.view.selected

    @property
    def to_scene(self) -> NDArray[np.float64] | None:
        """From the px of the picture shown to those of the scene, (3, 3); None where the camera stands."""
        motion = None if self.detect is None else self.detect.motion
        return None if motion is None else motion.to_scene[min(self.frame, len(motion) - 1)]

    def state_of(self, stage: str) -> str:
        """State of a stage's result, one of :class:`StageState`."""
        return self.engine.state_of(stage)
