"""Planes of a decoded picture as plain arrays: brightness, and colour at half size."""

from __future__ import annotations

from typing import Any, cast

import numpy as np
from av.video.frame import VideoFrame
from numba import njit
from numpy.typing import NDArray

from drover.core.footage_types import Frame

__all__ = ["chroma_of", "expand_luma", "frame_of", "grey_of"]

_LUMA_FIRST = {"yuv420p", "yuv422p", "yuv444p", "yuvj420p", "yuvj422p", "yuvj444p", "nv12", "nv21", "gray"}
_FULL_RANGE = {"yuvj420p", "yuvj422p", "yuvj444p", "gray"}
_JPEG_RANGE = 2


@njit(cache=True, nogil=True)
def expand_luma(luma: NDArray[np.uint8], out: NDArray[np.uint8], full: bool) -> None:  # pragma: no cover
    """Luma to grey: studio range 16..235 is stretched to 0..255 (ITU-R BT.601, section 2.5.3)."""
    height, width = out.shape
    for y in range(height):
        if full:
            for x in range(width):
                out[y, x] = luma[y, x]
        else:
            for x in range(width):
                value = ((np.int32(luma[y, x]) - 16) * 298 + 128) >> 8
                out[y, x] = np.uint8(min(255, max(0, value)))


def chroma_of(picture: VideoFrame) -> NDArray[np.uint8] | None:
    """Both colour planes at half size, where the footage stores them so."""
    if picture.format.name not in ("yuv420p", "yuvj420p"):
        return None
    planes = []
    for plane in picture.planes[1:3]:
        rows = np.frombuffer(cast("Any", plane), np.uint8).reshape(plane.height, plane.line_size)
        planes.append(rows[:, : plane.width])
    return np.stack(planes)


def grey_of(picture: VideoFrame) -> NDArray[np.uint8]:
    """Brightness of a picture, (height, width) uint8, 0 to 255 whatever range it was stored in."""
    name = picture.format.name
    if name not in _LUMA_FIRST:
        # Its rows may lie apart: as a plain array it is of the kind that the kernels were compiled for.
        return np.ascontiguousarray(picture.reformat(format="gray").to_ndarray(), np.uint8)
    plane = picture.planes[0]
    luma = np.frombuffer(cast("Any", plane), np.uint8).reshape(plane.height, plane.line_size)
    out = np.empty((picture.height, picture.width), np.uint8)
    expand_luma(luma, out, name in _FULL_RANGE or picture.color_range == _JPEG_RANGE)
    return out


def frame_of(
    picture: VideoFrame,
    index: int,
    time: float,
    turns: int = 0,
    *,
    colours: VideoFrame | None = None,
    own_size: tuple[int, int] | None = None,
) -> Frame:
    """A frame of a decoded picture, turned by so many quarters against the clock.

    ``colours`` is another form of the same picture, to take red, green and blue from; ``own_size`` what it had before
    it was brought to the size of the others.
    """

    def upright(plane: NDArray[np.uint8], axes: tuple[int, int] = (0, 1)) -> NDArray[np.uint8]:
        return np.ascontiguousarray(np.rot90(plane, turns, axes=axes)) if turns else plane

    def make_chroma() -> NDArray[np.uint8] | None:
        planes = chroma_of(picture)
        return None if planes is None else upright(planes, (1, 2))

    return Frame(
        index,
        time,
        lambda: upright(grey_of(picture)),
        lambda: upright(np.asarray((colours or picture).to_ndarray(format="rgb24"), np.uint8)),
        make_chroma,
        own_size,
    )
