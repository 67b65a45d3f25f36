"""A stream kept beside its results, as it came: packets are copied, not coded again."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import av
from av.error import FFmpegError

from drover.core.errors import DroverError

__all__ = ["Recording"]

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

    def add(self, packet: av.Packet, stream: Any) -> None:
        """Keep one packet.

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
            out = self._out or self._begin(stream, stamp)
            copy = av.Packet(bytes(packet))
            copy.pts, copy.dts = packet.pts - self._first, stamp - self._first
            copy.time_base, copy.is_keyframe, copy.stream = packet.time_base, packet.is_keyframe, self._stream
            out.mux(copy)
        except (FFmpegError, OSError, ValueError) as error:
            raise DroverError(f"{self._folder}: the recording cannot be written ({str(error)[:80]})") from error
        self._last = now

    def close(self) -> None:
        """End the file being written."""
        if self._out is not None:
            out, self._out = self._out, None
            try:
                out.close()
            except (FFmpegError, OSError) as error:
                raise DroverError(f"{self._folder}: the recording cannot be ended ({str(error)[:80]})") from error

    def _begin(self, stream: Any, first: int) -> Any:
        self._number += 1
        path = self._folder / f"recording-{self._number}.mkv"
        self._out = av.open(str(path.absolute()), "w", format="matroska")
        self._stream, self._of, self._first = self._out.add_stream_from_template(stream), stream, first
        self.files.append(path)
        return self._out
