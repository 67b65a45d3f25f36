"""Playing: moves the session's frame along real time at a chosen speed."""

from __future__ import annotations

from PySide6.QtCore import QElapsedTimer, QObject, QTimer, Signal

from drover.app.pictures import Pictures
from drover.app.session import Session

__all__ = ["SPEEDS", "Playback"]

SPEEDS = (0.25, 0.5, 1.0, 2.0, 4.0, 8.0)


class Playback(QObject):
    """Plays by the clip's own time stamps; frames are passed over rather than time stretched.

    When pictures come more slowly than asked for, the clock waits for them, so that what is shown is what is said.
    """

    playing_changed = Signal(bool)

    def __init__(self, session: Session, pictures: Pictures) -> None:
        super().__init__(session)
        self.session, self.pictures = session, pictures
        self.speed = 1.0
        self.loop: tuple[int, int] | None = None  # first and last frame that are played over and over
        self._clock = QElapsedTimer()
        self._time = 0.0
        self._timer = QTimer(self)
        self._timer.setInterval(12)
        self._timer.timeout.connect(self._tick)

    @property
    def playing(self) -> bool:
        """Whether it plays."""
        return self._timer.isActive()

    def set_speed(self, speed: float) -> None:
        """How many times as fast as it was filmed."""
        self.speed = speed

    def toggle(self) -> None:
        """Play or pause; at the end, play from the start."""
        if self.playing:
            self.pause()
            return
        clip = self.session.clip
        if clip is None:
            return
        if self.session.frame >= clip.frame_count - 1:
            self.session.set_frame(0)
        self._time = float(clip.times[self.session.frame])
        self._clock.start()
        self._timer.start()
        self.playing_changed.emit(True)

    def play_loop(self, first: int, last: int) -> None:
        """Play a stretch over and over until it is paused, or somebody goes elsewhere."""
        self.loop = (first, last)
        self.session.set_frame(first)
        if self.playing:
            self._time = float(self.session.clip.times[first]) if self.session.clip is not None else 0.0
        else:
            self.toggle()

    def pause(self) -> None:
        """Stop playing."""
        if self.playing:
            self._timer.stop()
            self.playing_changed.emit(False)

    def go(self, frame: int) -> None:
        """Go to a frame; playing goes on from there, and no longer in a loop."""
        self.loop = None
        self.session.set_frame(frame)
        if self.session.clip is not None:
            self._time = float(self.session.clip.times[self.session.frame])

    def step(self, frames: int) -> None:
        """Pause and move by frames."""
        self.pause()
        self.go(self.session.frame + frames)

    def step_seconds(self, seconds: float) -> None:
        """Pause and move by seconds."""
        self.pause()
        clip = self.session.clip
        if clip is not None:
            self.go(clip.frame_at(float(clip.times[self.session.frame]) + seconds))

    def _tick(self) -> None:
        elapsed = self._clock.restart() / 1000
        clip = self.session.clip
        if clip is None:
            self.pause()
            return
        if self.pictures.behind:
            elapsed = min(elapsed, 0.002)
        self._time += elapsed * self.speed
        frame = clip.frame_at(self._time)
        if self.loop is not None and frame > self.loop[1]:
            frame = self.loop[0]
            self._time = float(clip.times[frame])
        self.session.set_frame(frame)
        if frame >= clip.frame_count - 1:
            self.pause()
