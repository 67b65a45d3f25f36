"""Pictures of the current frame, fetched on worker threads: the footage, and what Detect makes of it."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from drover.app.images import rgb_image
from drover.app.jobs import LatestJob
from drover.app.session import Session
from drover.core.errors import FootageError
from drover.core.footage.opened import FootageReader, open_footage
from drover.core.inspect import DetectPictures, FrameProbe, clean_again

__all__ = ["FramePicture", "Pictures"]


@dataclass(frozen=True)
class FramePicture:
    """One frame as an image."""

    frame: int
    image: QImage


class Pictures(QObject):
    """Keeps the picture of the session's frame, and Detect's pictures of it while somebody wants them.

    ``frame_ready`` and ``detect_ready`` tell of each new one; the newest request wins, so scrubbing never queues.
    With ``of_other`` they are Detect's pictures of the result held beside the current one, and no footage.
    """

    frame_ready = Signal()
    detect_ready = Signal()

    def __init__(self, session: Session, *, of_other: bool = False) -> None:
        super().__init__(session)
        self.session = session
        self._of_other = of_other
        self.frame: FramePicture | None = None
        self.detect: DetectPictures | None = None
        self._wanted = False
        self._reader: tuple[str, FootageReader] | None = None
        self._probe: tuple[object, FrameProbe] | None = None
        self._plain: DetectPictures | None = None
        self._frame_job = LatestJob("picture", self)
        self._probe_job = LatestJob("probe", self)
        self._frame_job.done.connect(self._on_frame)
        session.shows_pictures = True
        self._frame_job.failed.connect(session.message_raised)
        self._probe_job.done.connect(self._on_probe)
        session.clip_changed.connect(self._on_clip)
        session.frame_changed.connect(self.refresh)
        session.detections_changed.connect(self._refresh_probe)
        session.recipe_changed.connect(self._refresh_probe)
        session.other_changed.connect(self._refresh_probe)

    def want_detect(self, wanted: bool) -> None:
        """Say whether Detect's pictures are on screen; they are not made for nobody."""
        if wanted != self._wanted:
            self._wanted = wanted
            self._refresh_probe()

    @property
    def behind(self) -> bool:
        """Whether the picture of the current frame is still being fetched."""
        return self._frame_job.busy

    def refresh(self) -> None:
        """Fetch the picture of the session's frame."""
        clip, frame = self.session.clip, self.session.frame
        if clip is None or self.session.clip_missing:
            return
        self._refresh_probe()
        if self._of_other:
            return

        def work(_: object) -> FramePicture:
            picture = self._reader_for(clip.path).frame(frame)
            return FramePicture(frame, rgb_image(picture.rgb))

        self._frame_job.submit(work)

    def close(self) -> None:
        """End the threads and let go of the clip."""
        self._frame_job.close()
        self._probe_job.close()
        if self._reader:
            self._reader[1].close()
        if self._probe:
            self._probe[1].close()

    def _on_clip(self) -> None:
        self.frame = None
        self.detect = self._plain = None
        self.refresh()

    def _reader_for(self, path: str) -> FootageReader:
        if self._reader is None or self._reader[0] != path:
            if self._reader is not None:
                self._reader[1].close()
            self._reader = None
            self._reader = (path, open_footage(path))
        return self._reader[1]

    def _on_frame(self, picture: FramePicture) -> None:
        self.frame = picture
        self.frame_ready.emit()
        self.session.picture_is_there()

    # --- Detect's pictures ----------------------------------------------------------------------------------

    def _refresh_probe(self) -> None:
        session = self.session
        shown = session.other if self._of_other else session
        clip = session.clip
        if not self._wanted or clip is None or shown is None or session.clip_missing:
            return
        result, settings = shown.detect, shown.detect_settings
        if result is None or settings is None or "motion" not in settings.sources:
            return
        frame, now = session.frame, shown.recipe.detect
        outside = result.span is not None and not result.span[0] <= frame < result.span[1]
        if outside or (not result.finished and not result.checkpoints):
            return

        def work(_: object) -> tuple[DetectPictures, DetectPictures] | None:
            plain = self._plain
            # A new threshold on the same frame needs no new background: that is what makes a dial feel instant.
            if plain is None or plain.frame != frame or self._probe is None or self._probe[0] is not result:
                if self._probe is None or self._probe[0] is not result:
                    if self._probe is not None:
                        self._probe[1].close()
                    self._probe = None
                    self._probe = (result, FrameProbe(clip.path, result, settings))
                try:
                    plain = self._probe[1].pictures(frame)
                except FootageError:
                    return None
            return plain, clean_again(plain, now)

        self._probe_job.submit(work)

    def _on_probe(self, pair: tuple[DetectPictures, DetectPictures] | None) -> None:
        if pair is None:
            return
        self._plain, self.detect = pair
        self.detect_ready.emit()
