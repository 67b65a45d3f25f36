"""Why the links of the frame on screen were made, asked of the core while somebody wants to know."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from drover.app.jobs import LatestJob
from drover.app.session import Session
from drover.core.camera.in_scene import boxes_in_view, detections_in_scene, tracks_in_scene
from drover.core.camera.motion import CameraMotion
from drover.core.detect.cuts import shot_times
from drover.core.errors import Cancelled
from drover.core.track.explain import LinkNote, explain_frame

__all__ = ["LinkNotes"]


class LinkNotes(QObject):
    """Keeps the notes of one frame; ``ready`` tells of new ones. Nothing is asked while nobody wants them."""

    ready = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self.notes: tuple[LinkNote, ...] = ()
        self.frame = -1
        self._wanted: set[str] = set()
        self._job = LatestJob("links", self)
        self._job.done.connect(self._on_done)
        # A little later: while a dial moves or the clip plays the answer would be old before it came.
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(150)
        self._later.timeout.connect(self.refresh)
        session.frame_changed.connect(lambda _: self._later.start())
        session.tracks_changed.connect(self._later.start)
        session.clip_changed.connect(self._forget)

    def want(self, who: str, wanted: bool) -> None:
        """Say whether somebody looks at them."""
        (self._wanted.add if wanted else self._wanted.discard)(who)
        self.refresh()

    def of(self, identity: int | None) -> LinkNote | None:
        """The note of an identity at the session's frame."""
        if identity is None or self.frame != self.session.frame:
            return None
        return next((note for note in self.notes if note.identity == identity), None)

    def refresh(self) -> None:
        """Ask for the session's frame."""
        session = self.session
        clip, detect, tracks, settings = session.clip, session.detect, session.tracks, session.track_settings
        if not self._wanted or clip is None or detect is None or tracks is None or settings is None:
            return
        frame, times = session.frame, shot_times(clip.times, detect.cuts)
        motion, lying = detect.motion, session.lying_detections

        def work(cancelled):  # type: ignore[no-untyped-def]
            def on_way() -> None:
                if cancelled():
                    raise Cancelled("explaining was stopped")

            if motion is None:
                found, paths = detect.detections, tracks
            else:  # linked on the ground, which stands still
                found = detections_in_scene(detect.detections, motion) if lying is None else lying
                paths = tracks_in_scene(tracks, motion)
            notes = explain_frame(found, paths, times, clip.rate, settings, frame, on_way=on_way)
            return frame, notes if motion is None else tuple(_in_view(note, frame, motion) for note in notes)

        self._job.submit(work)

    def _forget(self) -> None:
        """Notes of the clip before say nothing of this one."""
        self._job.cancel()
        self.notes, self.frame = (), -1

    def close(self) -> None:
        """End the thread."""
        self._job.close()

    def _on_done(self, told: tuple[int, tuple[LinkNote, ...]]) -> None:
        self.frame, self.notes = told
        self.ready.emit()


def _in_view(note: LinkNote, frame: int, motion: CameraMotion) -> LinkNote:
    """The same where it lies in the picture of its frame."""
    box = np.array([note.box])
    seen = boxes_in_view(box, frame, motion)
    zoom = float((seen[0, 2] - seen[0, 0]) / max(box[0, 2] - box[0, 0], 1e-9))
    x1, y1, x2, y2 = seen[0].tolist()
    return replace(note, box=(x1, y1, x2, y2), gate=(note.gate[0] * zoom, note.gate[1] * zoom))
