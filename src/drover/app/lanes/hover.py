"""A small picture of the object under the mouse, with what its lane tells."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPoint, QSize, Qt
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QWidget

from drover.app.cutouts import Cutouts, inside
from drover.app.lanes.rows import Lane
from drover.app.session import Session
from drover.app.theme import PAPER, RULE
from drover.core.count.alarms import Alarm
from drover.core.doubt.moments import Moment

__all__ = ["LaneCard", "words_of"]

PICTURE = QSize(112, 84)
ROOM = 1.8  # times its box that a picture shows


class LaneCard(QFrame):
    """Stands beside the mouse for as long as it rests on a lane."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.ToolTip)
        self.session = session
        self.cutouts = Cutouts(session, PICTURE)
        self.cutouts.ready.connect(self._show_picture)
        self.setStyleSheet(f"LaneCard {{ background: {PAPER}; border: 1px solid {RULE}; }}")
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 8, 10, 8)
        row.setSpacing(10)
        self.picture, self.words = QLabel(), QLabel("")
        self.picture.setFixedSize(PICTURE)
        row.addWidget(self.picture)
        row.addWidget(self.words)
        self._key: tuple[object, ...] = ()

    def show_at(self, place: QPoint, identity: int, frame: int, words: str) -> None:
        """Show an identity at the row of its nearest to a frame."""
        tracks, clip = self.session.tracks, self.session.clip
        if tracks is None or clip is None:
            return
        path = tracks.path_of(identity)
        if not len(path):
            return
        row = int(path[np.argmin(np.abs(tracks.frame[path] - frame))])
        box = tracks.box[row].astype(np.float64)
        middle, height = (box[:2] + box[2:]) / 2, ROOM * max(box[3] - box[1], 0.75 * (box[2] - box[0]), 16.0)
        width = height * PICTURE.width() / PICTURE.height()
        rect = inside(middle[0] - width / 2, middle[1] - height / 2, width, height, (clip.width, clip.height))
        at = int(tracks.frame[row])
        self._key = clip.fingerprint, identity, at, *rect.getRect()
        self.words.setText(words)
        self.cutouts.ask({self._key: [(at, rect)]})
        self._show_picture()
        self.adjustSize()
        self.move(place + QPoint(14, 16))
        self.show()

    def _show_picture(self) -> None:
        images = self.cutouts.of(self._key)
        self.picture.setPixmap(QPixmap.fromImage(images[0]).scaled(PICTURE) if images else QPixmap())


def words_of(lane: Lane, session: Session, moments: Sequence[Moment], alarms: Sequence[Alarm]) -> str:
    """What a lane tells, with the moments and alarms of its identity, a line each."""
    clip = session.clip
    assert clip is not None
    name = session.names.get(lane.identity)
    parts = [
        f"identity {lane.identity}" + (f", {name}" if name else "") + (f", {lane.kind}" if lane.kind else ""),
        f"{clip.times[lane.first]:.2f} s to {clip.times[lane.last]:.2f} s",
        f"coasted {lane.coasted_frames / clip.rate:.2f} s in {len(lane.coasted)} gaps",
        *(f"crossed {'forward' if way > 0 else 'back'} at {time:.2f} s" for time, way in lane.crossings),
        *(f"worth a look at {clip.times[m.frame]:.2f} s: {m.words}" for m in moments),
        *(f"alarm at {a.time:.2f} s: {a.words}" for a in alarms),
    ]
    return "\n".join(parts)
