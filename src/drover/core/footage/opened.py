"""One way to open any footage that has an end: a video, a folder of images, a pattern of images."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import FootageError
from drover.core.footage.fingerprint import clip_fingerprint
from drover.core.footage.images import ImageReader, images_of
from drover.core.footage.reader import ClipReader
from drover.core.footage_types import ClipInfo, Frame

__all__ = ["FootageReader", "footage_fingerprint", "footage_is_there", "open_footage"]


class FootageReader(Protocol):
    """Exact access to the frames of one clip; one reader serves one thread."""

    info: ClipInfo

    @property
    def key_frames(self) -> NDArray[np.int64]:
        """Frames that decode without any other, rising."""
        ...

    def frame(self, index: int) -> Frame:
        """The frame of that number."""
        ...

    def frames(self, start: int = 0) -> Iterator[Frame]:
        """Frames in order from ``start``."""
        ...

    def close(self) -> None:
        """Let go of the footage."""
        ...

    def __enter__(self) -> FootageReader:
        """Itself, to be closed at the end of the block."""
        ...

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None, /
    ) -> None:
        """Close."""
        ...


def open_footage(path: Path | str, *, cache_bytes: int = 64 << 20) -> FootageReader:
    """A reader for a video file, a folder of images or a pattern of images, as ``shots@5``.

    Raises
    ------
    FootageError
        One line: what is wrong with it.
    """
    images = images_of(Path(path))
    return ClipReader(path, cache_bytes=cache_bytes) if images is None else ImageReader(images, cache_bytes=cache_bytes)


def footage_fingerprint(path: Path | str) -> str:
    """Short name of the content that a path names by now; empty where it is not there any more."""
    try:
        images = images_of(Path(path))
    except FootageError:
        return ""
    return clip_fingerprint(path) if images is None else images.fingerprint


def footage_is_there(path: Path) -> bool:
    """Whether a path names a file, or images."""
    try:
        return path.is_file() or images_of(path) is not None
    except FootageError:
        return False
