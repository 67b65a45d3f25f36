"""Small pictures of a crossing before, at and after, cut from the footage on a thread of their own."""

from __future__ import annotations

from collections import OrderedDict

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from drover.app.audit.entries import Entry
from drover.app.images import rgb_image
from drover.app.jobs import LatestJob
from drover.app.session import Session
from drover.core.errors import FootageError
from drover.core.footage.opened import FootageReader, open_footage

__all__ = ["STRIP", "Strips"]

STRIP = (92, 66)  # px of one picture on screen
WIDE = 0.16  # of the frame's width that a picture shows
AROUND = 0.5  # s before and after
KEPT = 600

Key = tuple[str, int, int, int]


class Strips(QObject):
    """Pictures by crossing; ``ready`` tells when more have come. What is asked for last is fetched first."""

    ready = Signal()
    _one = Signal(object, object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self._known: OrderedDict[Key, tuple[QImage, ...]] = OrderedDict()
        self._asked: list[Entry] = []
        self._job = LatestJob("strips", self)
        self._one.connect(self._take)

    def key_of(self, entry: Entry) -> Key:
        """What a crossing's pictures are known by."""
        clip = self.session.clip
        return clip.fingerprint if clip else "", entry.frame, round(entry.x), round(entry.y)

    def of(self, entry: Entry) -> tuple[QImage, ...]:
        """Pictures before, at and after; none while they are not there."""
        return self._known.get(self.key_of(entry), ())

    def ask(self, entries: list[Entry]) -> None:
        """Fetch the pictures of these, in this order."""
        lacking = [entry for entry in entries if self.key_of(entry) not in self._known]
        clip = self.session.clip
        if not lacking or clip is None or self.session.clip_missing or lacking == self._asked:
            return
        self._asked = lacking
        path, size, keys = clip.path, (clip.width, clip.height), self.key_of

        def work(cancelled):  # type: ignore[no-untyped-def]
            with open_footage(path) as reader:
                for entry in lacking:
                    if cancelled():
                        return
                    frames = [clip.frame_at(entry.time + way * AROUND) for way in (-1, 0, 1)]
                    try:
                        images = tuple(_cut(reader, frame, entry, size) for frame in frames)
                    except FootageError:
                        images = ()
                    self._one.emit(keys(entry), images)

        self._job.submit(work)

    def _take(self, key: Key, images: tuple[QImage, ...]) -> None:
        self._known[key] = images
        while len(self._known) > KEPT:
            self._known.popitem(last=False)
        self.ready.emit()

    def close(self) -> None:
        """End the thread."""
        self._job.close()


def _cut(reader: FootageReader, frame: int, entry: Entry, size: tuple[int, int]) -> QImage:
    """The part of a frame around a crossing, small."""
    width = max(48, round(WIDE * size[0]))
    height = max(32, round(width * STRIP[1] / STRIP[0]))
    left = min(max(0, round(entry.x - width / 2)), max(0, size[0] - width))
    top = min(max(0, round(entry.y - height * 0.65)), max(0, size[1] - height))
    image = rgb_image(reader.frame(frame).rgb)
    return image.copy(left, top, min(width, size[0]), min(height, size[1])).scaled(2 * STRIP[0], 2 * STRIP[1])
