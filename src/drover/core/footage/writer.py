"""Writing video: H.264 in MP4 with the index in front, so that a file cut short still opens; or VP9 in WebM."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from types import TracebackType

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from drover.core.errors import FootageError

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
        stream.options = {"crf": str(quality), "g": str(max(1, round(rate * 2))), "threads": "2", **effort}
        self._stream, self._path = stream, called or path
        self._index = 0

    def add(self, picture: NDArray[np.uint8], layout: str = "rgb24") -> None:
        """Append one picture, (height, width, 3) uint8, or of four channels where ``layout`` is "bgra".

        Raises
        ------
        FootageError
            When it cannot be written, as on a full disk.
        """
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(picture), format=layout)
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


def _reason(error: Exception) -> str:
    """Why, without the name of a draft that nobody knows."""
    return (getattr(error, "strerror", None) or str(error))[:120]
