"""A stream kept beside its results, as it came: packets are copied, not coded again."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import av
from av.error import FFmpegError

from drover.core.errors import Cancelled, DroverError, FootageError
from drover.core.footage.stream import Source, StreamClock, StreamReader

__all__ = ["Recording", "record_for"]

MOST_STEP = 5.0  # s from one packet to the next, beyond which the rest goes to another file


class Recording:
    """``recording-1.mkv`` and so on, another file for each connection, beginning with a picture that stands alone.

    A file that is cut off by a kill or a full disk opens all the same, as far as it goes.
    """

    def __init__(self, folder: Path) -> None:
        self._folder, self._number = folder, 0
        self._out: Any = None
        self._stream: Any = None
        self._of: Any = None
        self._last, self._first = 0.0, 0
        self.files: list[Path] = []
        self.begins: dict[str, int] = {}  # number of the live run's picture that each file begins with

    def add(self, packet: av.Packet, stream: Any, number: int = 0) -> None:
        """Keep one packet; ``number`` is that of the picture that comes next in the live run.

        Raises
        ------
        DroverError
            When it cannot be written: of another kind than what a source does wrong, which is lived with.
        """
        stamp = packet.dts if packet.dts is not None else packet.pts
        if stamp is None or packet.pts is None or packet.time_base is None:
            return
        now = float(stamp * packet.time_base)
        if self._out is not None and (stream is not self._of or not 0 <= now - self._last <= MOST_STEP):
            self.close()
        try:
            if self._out is None and not packet.is_keyframe:
                return
            out = self._out or self._begin(stream, stamp, number)
            copy = av.Packet(bytes(packet))
            copy.pts, copy.dts = packet.pts - self._first, stamp - self._first
            copy.time_base, copy.is_keyframe, copy.stream = packet.time_base, packet.is_keyframe, self._stream
            out.mux(copy)
        except (FFmpegError, OSError, ValueError) as error:
            raise DroverError(f"{self._folder}: the recording cannot be written ({str(error)[:80]})") from error
        self._last = now

    def close(self) -> None:
        """End the file being written, and let go of the connection that it was of."""
        self._of = self._stream = None
        if self._out is not None:
            out, self._out = self._out, None
            try:
                out.close()
            except (FFmpegError, OSError) as error:
                raise DroverError(f"{self._folder}: the recording cannot be ended ({str(error)[:80]})") from error

    def _begin(self, stream: Any, first: int, number: int) -> Any:
        self._number += 1
        path = self._folder / f"recording-{self._number}.mkv"
        self._out = av.open(str(path.absolute()), "w", format="matroska")
        self._stream, self._of, self._first = self._out.add_stream_from_template(stream), stream, first
        self.files.append(path)
        self.begins[path.name] = number
        return self._out


def record_for(
    source: Source,
    folder: Path,
    seconds: float,
    *,
    wanted: tuple[int, int, float] | None = None,
    on_share: Callable[[float], None] = lambda _: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Path:
    """Record the next seconds of a source, from its next picture that stands alone; the file it is in.

    Raises
    ------
    DroverError
        When the source is not there or breaks off before anything came, or the folder cannot be written; Cancelled when
        told to stop.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise DroverError(f"{folder}: cannot be made ({error.strerror}); choose another folder") from error
    kept = Recording(folder)
    reader = StreamReader(source, StreamClock(), wanted=wanted, record=kept.add)
    begun: float | None = None
    try:
        for arrival in reader.arrivals():
            if cancelled():
                raise Cancelled("recording was stopped")
            if kept.files:
                begun = arrival.at if begun is None else begun
                on_share(min(1.0, (arrival.at - begun) / seconds))
                if arrival.at - begun >= seconds:
                    break
    finally:
        reader.close()
        kept.close()
    if not kept.files:
        raise FootageError(f"{source.name}: nothing of it could be recorded; it may be coded in a way that cannot be")
    return kept.files[-1]
