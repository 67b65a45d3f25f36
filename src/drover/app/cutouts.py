"""Small pictures cut from the footage on a thread of their own; what is asked for last is fetched first."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Hashable

from PySide6.QtCore import QObject, QRect, QSize, Signal
from PySide6.QtGui import QImage

from drover.app.images import rgb_image
from drover.app.jobs import LatestJob
from drover.app.session import Session
from drover.core.errors import FootageError
from drover.core.footage.opened import FootageReader, open_footage

__all__ = ["Cut", "Cutouts", "inside"]

KEPT = 600
Cut = tuple[int, QRect]  # frame, and what of it, px


class Cutouts(QObject):
    """Rows of pictures by their keys; ``ready`` tells when more have come."""

    ready = Signal()
    _one = Signal(object, object)

    def __init__(self, session: Session, size: QSize) -> None:
        super().__init__(session)
        self.session, self.size = session, size
        self._known: OrderedDict[Hashable, tuple[QImage, ...]] = OrderedDict()
        self._asked: list[Hashable] = []
        self._job = LatestJob("cutouts", self)
        self._one.connect(self._take)

    def of(self, key: Hashable) -> tuple[QImage, ...]:
        """The pictures of a row; none while they are not there."""
        return self._known.get(key, ())

    def ask(self, wanted: dict[Hashable, list[Cut]]) -> None:
        """Fetch these rows, in this order."""
        lacking = {key: cuts for key, cuts in wanted.items() if key not in self._known}
        clip = self.session.clip
        if not lacking or clip is None or self.session.clip_missing or list(lacking) == self._asked:
            return
        self._asked = list(lacking)
        path, size = clip.path, self.size

        def work(cancelled):  # type: ignore[no-untyped-def]
            with open_footage(path) as reader:
                for key, cuts in lacking.items():
                    if cancelled():
                        return
                    try:
                        images = tuple(_cut(reader, frame, rect, size) for frame, rect in cuts)
                    except FootageError:
                        images = ()
                    self._one.emit(key, images)

        self._job.submit(work)

    def _take(self, key: Hashable, images: tuple[QImage, ...]) -> None:
        self._known[key] = images
        while len(self._known) > KEPT:
            self._known.popitem(last=False)
        self.ready.emit()

    def close(self) -> None:
        """End the thread."""
        self._job.close()


def inside(left: float, top: float, width: float, height: float, size: tuple[int, int]) -> QRect:
    """A part of a picture of ``size``, moved inside where it lies over the edge."""
    wide, high = min(round(width), size[0]), min(round(height), size[1])
    return QRect(min(max(0, round(left)), size[0] - wide), min(max(0, round(top)), size[1] - high), wide, high)


def _cut(reader: FootageReader, frame: int, rect: QRect, size: QSize) -> QImage:
    return rgb_image(reader.frame(frame).rgb).copy(rect).scaled(2 * size)
