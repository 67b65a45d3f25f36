"""Writing video: H.264 in MP4 with the index in front, so that a file cut short still opens."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from types import TracebackType

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from drover.core.errors import FootageError

__all__ = ["ClipWriter"]


class ClipWriter:
    """Encode frames to an MP4 file; use it in a ``with`` block.

    Parameters
    ----------
    path : Path
    width, height : int, px, even
    rate : float, frames/s
    quality : int
        Constant rate factor: lower is better and larger.
    preset : str
        Encoder effort.
    """

    def __init__(
        self, path: Path, *, width: int, height: int, rate: float, quality: int = 24, preset: str = "medium"
    ) -> None:
        try:
            self._container = av.open(str(path), "w", format="mp4", options={"movflags": "+faststart"})
        except (OSError, FFmpegError) as error:
            raise FootageError(f"{path}: cannot be written ({error}); choose another folder") from error
        stream = self._container.add_stream("libx264", rate=Fraction(rate).limit_denominator(1001))
        stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
        stream.options = {"crf": str(quality), "preset": preset, "g": str(round(rate * 2)), "threads": "2"}
        self._stream = stream
        self._index = 0

    def add(self, rgb: NDArray[np.uint8]) -> None:
        """Append one (height, width, 3) uint8 picture."""
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(rgb), format="rgb24")
        frame.pts = self._index
        self._index += 1
        self._container.mux(self._stream.encode(frame))

    def __enter__(self) -> ClipWriter:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is None:
            self._container.mux(self._stream.encode(None))
        self._container.close()
