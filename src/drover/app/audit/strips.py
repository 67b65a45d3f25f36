"""Small pictures of a crossing before, at and after."""

from __future__ import annotations

from collections.abc import Hashable

from PySide6.QtCore import QSize
from PySide6.QtGui import QImage

from drover.app.audit.entries import Entry
from drover.app.cutouts import Cut, Cutouts, inside
from drover.app.session import Session

__all__ = ["STRIP", "Strips"]

STRIP = (92, 66)  # px of one picture on screen
WIDE = 0.16  # of the frame's width that a picture shows
AROUND = 0.5  # s before and after


class Strips(Cutouts):
    """Pictures by crossing."""

    def __init__(self, session: Session) -> None:
        super().__init__(session, QSize(*STRIP))

    def of_entry(self, entry: Entry) -> tuple[QImage, ...]:
        """Pictures before, at and after; none while they are not there."""
        return self.of(self._key(entry))

    def ask_entries(self, entries: list[Entry]) -> None:
        """Fetch the pictures of these, in this order."""
        self.ask({self._key(entry): self._cuts(entry) for entry in entries})

    def _key(self, entry: Entry) -> Hashable:
        clip = self.session.clip
        return clip.fingerprint if clip else "", entry.frame, round(entry.x), round(entry.y)

    def _cuts(self, entry: Entry) -> list[Cut]:
        clip = self.session.clip
        if clip is None:
            return []
        width = max(48, round(WIDE * clip.width))
        height = max(32, round(width * STRIP[1] / STRIP[0]))
        rect = inside(entry.x - width / 2, entry.y - height * 0.65, width, height, (clip.width, clip.height))
        return [(clip.frame_at(entry.time + way * AROUND), rect) for way in (-1, 0, 1)]
