"""Opening a file as footage, and the index of its pictures: what is there, when, and where decoding can begin."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, cast

import av
import numpy as np
from av.container import InputContainer
from av.error import FFmpegError
from av.video.stream import VideoStream
from numpy.typing import NDArray

from drover.core.errors import FootageError

__all__ = ["MOST_PIXELS", "Index", "open_container", "read_index", "stream_of"]

MOST_PIXELS = 8192 * 8192
_LOOSE = {"mpeg", "mpegts", "mpegvideo", "h264"}  # streams whose stamps are worked out on the way
# Containers of text that the decoder library draws as pictures, or that name other files to be opened.
_NOT_FOOTAGE = {"tty", "bin", "xbin", "adf", "idf", "concat", "hls", "dash", "lavfi"}


@dataclass(frozen=True)
class Index:
    """Presentation times in stream units, sorted; key frame times; whether the end looks cut off."""

    pts: NDArray[np.int64]
    keys: NDArray[np.int64]
    doubtful: bool
    promised: int


def open_container(path: Path) -> InputContainer:
    """The container of a file, opened for reading; FootageError with one plain line where it is none."""
    if not path.exists():
        raise FootageError(f"{path}: there is no such file; check the name")
    if path.is_dir():
        raise FootageError(f"{path}: is a folder; give a video file")
    if path.stat().st_size == 0:
        raise FootageError(f"{path}: the file is empty; copy it again from where it came")
    try:
        # Absolute, so that a name with a colon is no protocol; stamps that a stream leaves out are worked out.
        container = av.open(str(path.absolute()), metadata_errors="ignore", options={"fflags": "+genpts"})
    except (OSError, ValueError, FFmpegError) as error:
        raise FootageError(
            f"{path}: is not a video that can be opened, or its index is missing; try another copy"
        ) from error
    if container.format.name in _NOT_FOOTAGE:
        container.close()
        raise FootageError(f"{path}: is not a video but a text or a list of files; choose another file")
    if not container.streams.video:
        container.close()
        raise FootageError(f"{path}: has no video in it; choose another file")
    return container


def stream_of(container: InputContainer, path: Path) -> VideoStream:
    """The video stream, ready to decode; refused where it cannot be, or is larger than can be worked with."""
    stream = container.streams.video[0]
    context = cast("Any", stream.codec_context)
    if context is None:
        container.close()
        raise FootageError(f"{path}: is coded in a way that cannot be decoded here; convert it first")
    if context.width * context.height > MOST_PIXELS:
        width, height = context.width, context.height
        container.close()
        raise FootageError(f"{path}: {width} x {height} px is larger than can be worked with")
    stream.thread_type = "AUTO"
    context.thread_count = 2
    return stream


def read_index(container: InputContainer, path: Path) -> Index:
    """Stamps of all pictures, in order, and of those that decoding can begin at, from the packets alone."""
    stream = container.streams.video[0]
    pts: list[int] = []
    keys: list[int] = []
    doubtful = False
    packets = container.demux(stream)
    while True:
        try:
            packet = next(packets, None)
        except (OSError, FFmpegError):
            doubtful = True
            break
        if packet is None:
            break
        stamp = packet.pts if packet.pts is not None else packet.dts
        if stamp is None or packet.is_discard or packet.size == 0:
            continue
        doubtful = doubtful or packet.is_corrupt
        pts.append(int(stamp))
        if packet.is_keyframe:
            keys.append(int(stamp))
    if not pts:
        raise FootageError(f"{path}: holds no frames; it may be cut off or not a video")
    unique = np.unique(np.asarray(pts, np.int64))
    promised = int(stream.frames)
    doubtful = doubtful or promised > len(unique)
    container.seek(int(unique[0]), stream=stream, backward=True)
    return Index(unique, np.unique(np.asarray(keys, np.int64)), doubtful, promised)
