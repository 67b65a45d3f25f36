"""A stand-in for a camera: a clip played in real time as a network stream on this machine, with faults when asked for.

It goes on playing whether somebody looks or not, over and over, as a camera does; each who connects gets MPEG-TS over
TCP from that moment on.
"""

from __future__ import annotations

import contextlib
import random
import socket
import threading
import time
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal, cast

import av
import numpy as np
from av.error import FFmpegError

from drover.core.errors import DroverError, FootageError
from drover.core.footage.opened import FootageReader, open_footage

__all__ = ["FAULTS", "Fault", "StandIn", "fault_of"]

FaultKind = Literal["late", "dropped", "corrupt", "cut", "size", "clock"]
FAULTS: dict[str, str] = {
    "late": "pictures are held back and come all at once",
    "dropped": "every second picture is missing",
    "corrupt": "bytes on the way are changed",
    "cut": "the connection is closed, and nobody is let in",
    "size": "pictures have three quarters of the size",
    "clock": "stamps are an hour ahead from then on",
}
AHEAD = 3600.0  # s
PACKET = 188  # bytes of a transport stream's packet
CODE_FRAMES = 25  # from one key frame to the next
SPOILT = 10  # every so many-th packet on the way is changed: by chance alone a short fault might spoil none


@dataclass(frozen=True)
class Fault:
    """Something that goes wrong ``at`` s after the start, for ``lasts`` s."""

    kind: FaultKind
    at: float
    lasts: float

    def holds(self, when: float) -> bool:
        """Whether it goes wrong at that moment, s from the start."""
        return self.at <= when < self.at + self.lasts


def fault_of(text: str) -> Fault:
    """A fault as it is typed, ``cut@5+2``: what, at which second, for how many.

    Raises
    ------
    DroverError
    """
    kind, _, rest = text.partition("@")
    at, _, lasts = rest.partition("+")
    try:
        fault = Fault(cast("FaultKind", kind), float(at), float(lasts or 1.0))
    except ValueError:
        fault = None
    if fault is None or kind not in FAULTS or not (0 <= fault.at < 1e6 and 0 < fault.lasts < 1e6):
        raise DroverError(f"'{text}' is no fault; write it as cut@5+2, with one of {', '.join(FAULTS)}")
    return fault


class _Line:
    """The writing end of a connection, as the encoder's library wants it."""

    def __init__(self, line: socket.socket, seed: int) -> None:
        self._line, self._random, self.spoils, self._sent = line, random.Random(seed), False, 0

    def write(self, data: Any) -> int:
        """Send all of it; some of it changed where that is wanted."""
        raw = bytearray(data)
        if self.spoils:
            for k in range(0, len(raw) - PACKET + 1, PACKET):
                self._sent += 1
                if self._sent % SPOILT == 0:
                    raw[k + 20 : k + 60] = self._random.randbytes(40)
        self._line.sendall(raw)
        return len(raw)


class StandIn:
    """Plays a clip to whoever connects, until closed.

    Parameters
    ----------
    clip : Path
    port : int
        0 for any that is free; which one is in ``address``.
    faults : what goes wrong when.
    seconds : float
        Ends after that; 0 for never.

    Raises
    ------
    FootageError
        When the clip cannot be read or the port is taken.
    """

    def __init__(self, clip: Path, *, port: int = 0, faults: tuple[Fault, ...] = (), seconds: float = 0.0) -> None:
        with open_footage(clip) as reader:
            self.info = reader.info
        self._clip, self._faults, self._seconds = clip, faults, seconds
        self._stop = threading.Event()
        try:
            self._server = socket.create_server(("127.0.0.1", port))
        except OSError as error:
            raise FootageError(f"port {port} cannot be used ({error.strerror}); choose another with --port") from error
        self._server.settimeout(0.1)
        self._started = time.monotonic()
        self._threads = [threading.Thread(target=self._serve, name="drover-stand-in", daemon=True)]
        self._threads[0].start()

    @property
    def address(self) -> str:
        """Where it can be looked at."""
        return f"tcp://127.0.0.1:{self._server.getsockname()[1]}"

    @property
    def age(self) -> float:
        """Seconds since it started."""
        return time.monotonic() - self._started

    @property
    def ended(self) -> bool:
        """Whether it plays no more."""
        return self._stop.is_set() or (self._seconds > 0 and self.age >= self._seconds)

    def close(self) -> None:
        """Play no more."""
        self._stop.set()
        for thread in self._threads:
            thread.join(10)
        self._server.close()

    def __enter__(self) -> StandIn:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # --- one who looks --------------------------------------------------------------------------------------------

    def _fault(self, kind: str, when: float) -> bool:
        return any(fault.kind == kind and fault.holds(when) for fault in self._faults)

    def _serve(self) -> None:
        while not self.ended:
            try:
                line, _ = self._server.accept()
            except OSError:
                continue
            if self._fault("cut", self.age):
                line.close()
                continue
            thread = threading.Thread(target=self._play, args=(line,), daemon=True)
            self._threads.append(thread)
            thread.start()

    def _play(self, line: socket.socket) -> None:
        """Pictures from now on, each when its time has come."""
        line.settimeout(5.0)
        line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        with (
            contextlib.suppress(OSError, FFmpegError, DroverError),
            line,
            open_footage(self._clip, cache_bytes=0) as reader,
        ):
            _Playing(self, _Line(line, int(self.age * 1000)), reader).play()


class _Playing:
    """One connection: where the clip is by now, the encoder, and what goes wrong."""

    def __init__(self, owner: StandIn, line: _Line, reader: FootageReader) -> None:
        self._owner, self._line, self._reader = owner, line, reader
        self._info = owner.info
        self._out: Any = None
        self._size = (0, 0)

    def play(self) -> None:
        owner, length = self._owner, self._info.duration
        rounds, where = divmod(owner.age, length)
        start = self._info.frame_at(where)
        try:
            while not owner.ended:
                for frame in self._reader.frames(start):
                    when = rounds * length + frame.time
                    if owner.ended or not self._wait_for(when):
                        return
                    if not (owner._fault("dropped", when) and frame.index % 2):
                        self._send(frame.rgb, when)
                rounds, start = rounds + 1, 0
        finally:
            with contextlib.suppress(OSError, FFmpegError):
                if self._out is not None:
                    self._out.close()

    def _wait_for(self, when: float) -> bool:
        """Sleep until a picture is due; False where the connection is to be closed."""
        owner = self._owner
        late = [f for f in owner._faults if f.kind == "late" and f.holds(when)]
        due = max([when, *(f.at + f.lasts for f in late)])
        while (left := due - owner.age) > 0:
            if owner._stop.wait(min(left, 0.1)) or owner.ended:
                return False
        return not owner._fault("cut", owner.age)

    def _send(self, rgb: Any, when: float) -> None:
        height, width = rgb.shape[:2]
        small = self._owner._fault("size", when)
        size = (width * 3 // 8 * 2, height * 3 // 8 * 2) if small else (width // 2 * 2, height // 2 * 2)
        if size != self._size:
            self._begin(size)
        picture = av.VideoFrame.from_ndarray(np.ascontiguousarray(rgb), format="rgb24")
        picture = picture.reformat(width=size[0], height=size[1], format="yuv420p")
        ahead = AHEAD if any(f.kind == "clock" and when >= f.at for f in self._owner._faults) else 0.0
        picture.pts, picture.time_base = round((when + ahead) * 90_000), Fraction(1, 90_000)
        self._line.spoils = self._owner._fault("corrupt", when)
        self._out.mux(self._stream.encode(picture))

    def _begin(self, size: tuple[int, int]) -> None:
        """A new encoder on the same line, as of a camera that was set anew."""
        if self._out is not None:
            self._out.close()
        self._size = size
        self._out = av.open(cast("Any", self._line), "w", format="mpegts", options={"flush_packets": "1"})
        stream: Any = self._out.add_stream("libx264", rate=Fraction(self._info.rate).limit_denominator(1001))
        stream.width, stream.height, stream.pix_fmt = *size, "yuv420p"
        stream.codec_context.time_base = Fraction(1, 90_000)
        stream.options = {
            "preset": "ultrafast", "tune": "zerolatency", "crf": "20", "g": str(CODE_FRAMES), "threads": "1",
        }  # fmt: skip
        self._stream = stream
