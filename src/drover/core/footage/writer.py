"""Writing video: H.264 in MP4 with the index in front, so that a file cut short still opens; or VP9 in WebM."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import Any

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from drover.core.errors import FootageError
from drover.core.footage.colours import fill_planes

__all__ = ["KINDS", "ClipWriter"]

KINDS = (".mp4", ".webm")


class ClipWriter:
    """Encode frames to an MP4 file, or to WebM where the name ends so; use it in a ``with`` block.

    Parameters
    ----------
    path : Path
    width, height : int, px, even
    rate : float, frames/s
    quality : int
        Constant rate factor: lower is better and larger.
    preset : str
        Encoder effort, of MP4.
    hasty : bool
        Search for motion less, of MP4: a fifth faster, a little larger, and leaves the other cores alone.
    kind : str
        ".mp4" or ".webm"; that of the name where it is not given.
    called : Path
        What the file will be called in the end, for messages.

    Raises
    ------
    FootageError
        When the file cannot be written, or this machine cannot encode such files.
    """

    def __init__(
        self,
        path: Path,
        *,
        width: int,
        height: int,
        rate: float,
        quality: int = 24,
        preset: str = "medium",
        hasty: bool = False,
        kind: str = "",
        called: Path | None = None,
    ) -> None:
        webm = (kind or path.suffix.lower()) == ".webm"
        where = {} if webm else {"movflags": "+faststart"}
        try:
            self._container = av.open(str(path.absolute()), "w", format="webm" if webm else "mp4", options=where)
            stream = self._container.add_stream(
                "libvpx-vp9" if webm else "libx264", rate=Fraction(rate).limit_denominator(1001)
            )
        except (OSError, FFmpegError, ValueError) as error:
            raise FootageError(
                f"{called or path}: cannot be written ({_reason(error)}); choose another folder"
            ) from error
        stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
        effort = {"deadline": "realtime", "cpu-used": "8", "row-mt": "1", "b:v": "0"} if webm else {"preset": preset}
        if hasty and not webm:
            # Other threads have the rest to do. Looking farther ahead costs time and, in noise, makes larger files.
            effort |= {"subq": "1", "me_method": "dia", "rc-lookahead": "5", "threads": "1"}
        stream.options = {"crf": str(quality), "g": str(max(1, round(rate * 2))), "threads": "2", **effort}
        self._stream, self._path = stream, called or path
        self._index = 0

    def add(self, picture: NDArray[np.uint8]) -> None:
        """Append one picture, (height, width, 3) uint8.

        Raises
        ------
        FootageError
            When it cannot be written, as on a full disk.
        """
        self.add_ready(av.VideoFrame.from_ndarray(np.ascontiguousarray(picture), format="rgb24"))

    def made_ready(self, picture: NDArray[np.uint32]) -> av.VideoFrame:
        """A picture of 32-bit pixels, (≥ height, ≥ width) of 0xAARRGGBB, in the planes that are encoded.

        Encoding takes longest, so this may be done by another thread than the one that encodes.
        """
        frame = av.VideoFrame(self._stream.width, self._stream.height, "yuv420p")
        fill_planes(picture, frame.width, *(_rows(plane) for plane in frame.planes))
        return frame

    def add_ready(self, frame: av.VideoFrame) -> None:
        """Append what :meth:`made_ready` gave.

        Raises
        ------
        FootageError
            When it cannot be written, as on a full disk.
        """
        frame.pts = self._index
        self._index += 1
        self._mux(frame)

    def _mux(self, frame: av.VideoFrame | None) -> None:
        try:
            self._container.mux(self._stream.encode(frame))
        except (OSError, FFmpegError) as error:
            raise FootageError(f"{self._path}: cannot be written ({_reason(error)}); choose another place") from error

    def __enter__(self) -> ClipWriter:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            if kind is None:
                self._mux(None)
        finally:
            self._container.close()


def _rows(plane: Any) -> NDArray[np.uint8]:
    """The bytes of one plane, (height, width or some more) uint8, to be written to."""
    return np.frombuffer(plane, np.uint8).reshape(plane.height, plane.line_size)


def _reason(error: Exception) -> str:
    """Why, without the name of a draft that nobody knows."""
    return (getattr(error, "strerror", None) or str(error))[:120]
