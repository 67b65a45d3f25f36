"""The places worth a look: ranked anew once the results rest, and visited one after the other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer, Signal

from drover.app.jobs import LatestJob
from drover.app.session import Session
from drover.core.doubt.bounds import CountBounds, all_bounds
from drover.core.doubt.moments import Moment, Moments, find_moments
from drover.core.doubt.review import worked_off

__all__ = ["MomentWatch"]

Ranked = tuple[Moments, NDArray[np.int8], dict[tuple[str, int], CountBounds]]


class MomentWatch(QObject):
    """``found`` are the moments of the result, the most doubtful first; ``changed`` tells of others."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self.found = Moments.none()
        self.worked: NDArray[np.int8] = np.zeros(0, np.int8)  # what was said of each
        self.bounds: dict[tuple[str, int], CountBounds] = {}  # of each line and direction
        self.place = -1  # rank of the moment visited last, from 0
        self._job = LatestJob("moments", self)
        self._job.done.connect(self._on_done)
        self._job.failed.connect(session.message_raised)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(120)  # not while a dial moves: ranking would take the time of linking
        self._later.timeout.connect(self._rank)
        session.clip_changed.connect(self._forget)
        session.crossings_changed.connect(self._later.start)
        session.audit_changed.connect(self._later.start)

    @property
    def waiting(self) -> bool:
        """Whether the moments are about to be ranked anew."""
        return self._later.isActive()

    @property
    def busy(self) -> bool:
        """Whether they are being ranked."""
        return self._job.busy

    def go_to(self, place: int) -> Moment | None:
        """Go to a moment by its rank, from 0, and choose its identity."""
        if not 0 <= place < len(self.found):
            return None
        self.place = place
        moment = self.found[place]
        self.session.set_frame(moment.frame)
        self.session.select(moment.identities[0])
        return moment

    def close(self) -> None:
        """End the thread."""
        self._later.stop()
        self._job.close()

    def _forget(self) -> None:
        """Another clip: nothing of the last one may land on it."""
        self._later.stop()
        self._job.cancel()
        self._on_done((Moments.none(), np.zeros(0, np.int8), {}))

    def _rank(self) -> None:
        session = self.session
        tracks, crossings, clip = session.tracks, session.crossings, session.clip
        if tracks is None or clip is None:
            return
        found, exits, times = session.linked_detections, session.recipe.track.life.exits, clip.times
        look = None if found is None else found.look
        edits, notes, audit = session.edits, session.edit_notes, session.audit

        def work(_: object) -> Ranked:
            moments = find_moments(tracks, times, crossings, look=look, exits=exits)
            worked = worked_off(moments, edits, notes, times)
            return moments, worked, {} if crossings is None else all_bounds(crossings, moments, worked, times, audit)

        self._job.submit(work)

    def _on_done(self, ranked: Ranked) -> None:
        self.found, self.worked, self.bounds = ranked
        self.place = -1
        self.changed.emit()
