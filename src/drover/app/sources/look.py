"""A look at a source before work starts: its properties, and its pictures as they come."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from drover.app.images import rgb_image
from drover.core.errors import DroverError
from drover.core.footage.images import images_of
from drover.core.footage.opened import open_footage
from drover.core.footage.stream import StreamClock, StreamReader, source_of
from drover.core.footage_types import Frame

__all__ = ["Look", "Wish"]

SHOW_EVERY = 0.08  # s
MEASURE = 2.0  # s of pictures after which a stream's true rate is told again


@dataclass(frozen=True)
class Wish:
    """What to look at: a path or an address; ``wanted`` is asked of a device."""

    text: str
    live: bool
    wanted: tuple[int, int, float] | None = None


class Look(QObject):
    """Looks at one source after another; what was asked for last wins, and all end with ``close``."""

    pictured = Signal(int, object)
    described = Signal(int, object)
    failed = Signal(int, str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.ticket = 0
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    def look(self, wish: Wish) -> None:
        """Look at this from now on."""
        self.leave()
        self.ticket += 1
        self._thread = threading.Thread(
            target=self._work, args=(wish, self.ticket, self._stop), name="drover-look", daemon=True
        )
        self._thread.start()

    def leave(self) -> None:
        """Look at nothing."""
        self._stop.set()
        self._stop = threading.Event()
        self.ticket += 1

    def close(self) -> None:
        """Look at nothing, and let go of the source; a network that does not answer is not waited for."""
        self.leave()
        if self._thread is not None:
            self._thread.join(1.0)

    def _work(self, wish: Wish, ticket: int, stop: threading.Event) -> None:
        try:
            if wish.live:
                self._watch(wish, ticket, stop)
            else:
                self._play(Path(wish.text), ticket, stop)
        except DroverError as error:
            self._tell(stop, self.failed, ticket, str(error))
        except Exception as error:  # noqa: BLE001 - the dialog says it and lives on
            self._tell(stop, self.failed, ticket, f"{wish.text[:80]}: cannot be looked at ({type(error).__name__})")

    @staticmethod
    def _tell(stop: threading.Event, signal: object, *said: object) -> None:
        if not stop.is_set():
            signal.emit(*said)  # type: ignore[attr-defined]

    def _play(self, path: Path, ticket: int, stop: threading.Event) -> None:
        """Show a clip at its own speed, from its beginning."""
        with open_footage(path.absolute()) as reader:
            info, images = reader.info, images_of(path.absolute())
            minutes, seconds = divmod(info.duration, 60)
            facts = [
                ("size", f"{info.width} × {info.height} px"), ("rate", f"{info.rate:g} frames/s"),
                ("frames", str(info.frame_count)), ("length", f"{int(minutes)} min {seconds:.1f} s"),
                ("kind", "images" if images else getattr(reader, "coding", "video")),
                *(("note", note) for note in info.notes),
            ]  # fmt: skip
            self._tell(stop, self.described, ticket, facts)
            begun = time.monotonic()
            for frame in _at_most_every(reader.frames(), SHOW_EVERY):
                if stop.wait(max(0.0, frame.time - (time.monotonic() - begun))):
                    return
                self._tell(stop, self.pictured, ticket, rgb_image(frame.rgb))

    def _watch(self, wish: Wish, ticket: int, stop: threading.Event) -> None:
        """Show a camera's pictures as they come, and what it really gives."""
        reader, measured = StreamReader(source_of(wish.text), StreamClock(), wanted=wish.wanted), None
        try:
            begun, shown = time.monotonic(), 0.0
            for came, arrival in enumerate(reader.arrivals()):
                if stop.is_set():
                    return
                now = time.monotonic()
                if came == 0:
                    begun = now
                    self._tell(stop, self.described, ticket, _facts_of(reader, None))
                elif measured is None and now - begun > MEASURE:
                    measured = came / (now - begun)
                    self._tell(stop, self.described, ticket, _facts_of(reader, measured))
                if now - shown >= SHOW_EVERY:
                    shown = now
                    self._tell(stop, self.pictured, ticket, rgb_image(arrival.frame.rgb))
            self._tell(stop, self.failed, ticket, f"{reader.source.name}: ended")
        finally:
            reader.close()


def _facts_of(reader: StreamReader, measured: float | None) -> list[tuple[str, str]]:
    """What a camera really gives; ``measured`` frames/s once that is known."""
    width, height = reader.size or (0, 0)
    rate = "measuring" if measured is None else f"{measured:.1f} measured"
    return [
        ("size", f"{width} × {height} px"), ("rate", f"{reader.rate:g} frames/s said, {rate}"), ("kind", reader.coding)
    ]  # fmt: skip


def _at_most_every(frames: Iterator[Frame], seconds: float) -> Iterator[Frame]:
    """Of frames in order those that lie at least so far apart."""
    last = -seconds
    for frame in frames:
        if frame.time - last >= seconds:
            last = frame.time
            yield frame
