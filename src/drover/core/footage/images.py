"""Folders and patterns of images, read as the frames of a clip.

A source of images is written as a path: a folder, or a pattern such as ``shots/left*.png``, and after an ``@`` how many
images make a second (``shots@5``); 25 where nothing is said.
"""

from __future__ import annotations

import hashlib
import re
from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.error import FFmpegError
from av.video.frame import VideoFrame
from numpy.typing import NDArray

from drover.core.errors import FootageError
from drover.core.footage.opening import MOST_PIXELS
from drover.core.footage.planes import frame_of
from drover.core.footage_types import ClipInfo, Frame
from drover.core.names import natural_order

__all__ = ["IMAGE_ENDINGS", "ImageReader", "ImageSet", "footage_name", "images_of", "read_grey", "with_rate"]

IMAGE_ENDINGS = frozenset({".png", ".jpg", ".jpeg", ".bmp", ".tif", ".tiff", ".webp", ".pgm", ".ppm"})
USUAL_RATE = 25.0
RATES = (0.01, 1000.0)
MOST_IMAGES = 2_000_000
MOST_TOLD = 3  # images named in a note
_WITH_RATE = re.compile(r"(.+)@(\d{1,4}(?:\.\d{1,6})?)")
_WITH_COLOUR = ("yuv420p", "yuvj420p", "gray")


@dataclass(frozen=True)
class ImageSet:
    """Images in the order a person would count them, and how many make a second."""

    path: Path
    files: tuple[Path, ...]
    rate: float

    @property
    def fingerprint(self) -> str:
        """Short name of what is in the images: their names and sizes, and three of them in full."""
        digest = hashlib.sha256(f"{self.rate:g}".encode())
        try:
            for file in self.files:
                digest.update(f"{file.name}:{file.stat().st_size}\n".encode(errors="surrogateescape"))
            for place in sorted({0, len(self.files) // 2, len(self.files) - 1}):
                digest.update(self.files[place].read_bytes())
        except OSError:
            return ""
        return digest.hexdigest()[:20]


def with_rate(path: Path, rate: float) -> Path:
    """The path that names a folder or pattern at a rate."""
    return path.with_name(f"{path.name}@{rate:g}") if path.name else path


def footage_name(path: Path) -> str:
    """What footage is called, without folder, ending and rate; images are called by their folder."""
    base, _ = _parted(path)
    if base.is_dir():
        return base.name or "images"
    if _is_pattern(base):
        return base.parent.name or "images"
    return path.stem or "clip"


def images_of(path: Path) -> ImageSet | None:
    """The images that a path names; None where it names no folder and no pattern.

    Raises
    ------
    FootageError
        When there are none, or the rate makes no sense.
    """
    try:
        found, rate = _found(path)
    except (OSError, ValueError) as error:
        raise FootageError(f"{path}: cannot be looked through ({str(error)[:80]}); check the name") from error
    if found is None:
        return None
    if not RATES[0] <= rate <= RATES[1]:
        raise FootageError(f"{path}: {rate:g} images a second make no clip; give {RATES[0]:g} to {RATES[1]:g}")
    files = sorted(found, key=lambda file: natural_order(file.name))
    if not files:
        raise FootageError(f"{path}: holds no images; give a folder of PNG or JPEG files, or a video")
    if len(files) > MOST_IMAGES:
        raise FootageError(f"{path}: {len(files)} images are more than can be worked with")
    return ImageSet(path, tuple(files), rate)


def _found(path: Path) -> tuple[list[Path] | None, float]:
    """Images in a folder or of a pattern, in any order, None where it is neither; and how many make a second."""
    base, rate = _parted(path)
    if path.is_file() or not (base.is_dir() or _is_pattern(base)):
        return None, rate
    listed = base.iterdir() if base.is_dir() else base.parent.glob(base.name)
    images = (file for file in listed if file.suffix.lower() in IMAGE_ENDINGS and not file.name.startswith("."))
    return [file for file in images if file.is_file()], rate


def _is_pattern(path: Path) -> bool:
    return any(sign in path.name for sign in "*?[") and path.parent.is_dir()


def _parted(path: Path) -> tuple[Path, float]:
    """A path without its rate, and the rate; a name that is there as it is has none."""
    match = None if path.exists() else _WITH_RATE.fullmatch(path.name)
    return (path, USUAL_RATE) if match is None else (path.with_name(match[1]), float(match[2]))


class ImageReader:
    """Images as the frames of a clip, with what a ``ClipReader`` offers; one reader serves one thread.

    Images of another size than the first are brought to that one's; one that cannot be read is left out.

    Raises
    ------
    FootageError
        When none of the images can be read.
    """

    def __init__(self, images: ImageSet, *, cache_bytes: int = 64 << 20) -> None:
        self.path, self._images, self._cache_bytes = images.path, images, cache_bytes
        self._cache: OrderedDict[int, Frame] = OrderedDict()
        first = next((found for k in range(len(images.files)) if (found := self._picture(k)) is not None), None)
        if first is None:
            raise FootageError(f"{self.path}: none of its {len(images.files)} images can be read; are they whole?")
        self._turns = round((first.rotation or 0) / 90) % 4
        self._size = first.width, first.height
        upright = self._size if self._turns % 2 == 0 else self._size[::-1]
        times = np.arange(len(images.files)) / images.rate
        self.info = ClipInfo(
            str(self.path), upright[0], upright[1], images.rate, times, images.fingerprint, self._notes()
        )  # fmt: skip

    @property
    def key_frames(self) -> NDArray[np.int64]:
        """Frames that decode without any other: all."""
        return np.arange(self.info.frame_count, dtype=np.int64)

    def frame(self, index: int) -> Frame:
        """The frame of that number.

        Raises
        ------
        FootageError
            When there is none, or its image cannot be read.
        """
        if not 0 <= index < self.info.frame_count:
            raise FootageError(f"{self.path}: there is no frame {index + 1}; there are {self.info.frame_count} images")
        if index not in self._cache:
            made = self._frame(index)
            if made is None:
                raise FootageError(f"{self._images.files[index]}: cannot be read as an image; it may be damaged")
            self._cache[index] = made
            while len(self._cache) > max(2, self._cache_bytes // (self._size[0] * self._size[1] * 6)):
                self._cache.popitem(last=False)
        return self._cache[index]

    def frames(self, start: int = 0) -> Iterator[Frame]:
        """Frames in order from ``start``; damaged images are left out, their numbers stay free."""
        for index in range(start, self.info.frame_count):
            made = self._frame(index)
            if made is not None:
                yield made

    def close(self) -> None:
        """Let go of what is kept."""
        self._cache.clear()

    def __enter__(self) -> ImageReader:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _notes(self) -> tuple[str, ...]:
        empty = [file.name for file in self._images.files if file.stat().st_size == 0]
        if not empty:
            return ()
        more = f" and {len(empty) - MOST_TOLD} more" if len(empty) > MOST_TOLD else ""
        return (f"empty images are left out: {', '.join(empty[:MOST_TOLD])}{more}",)

    def _frame(self, index: int) -> Frame | None:
        picture = self._picture(index)
        if picture is None:
            return None
        own = (picture.width, picture.height)
        if own != self._size:
            picture = picture.reformat(width=self._size[0], height=self._size[1])
        planes = picture if picture.format.name in _WITH_COLOUR else picture.reformat(format="yuv420p")
        return frame_of(planes, index, index / self._images.rate, self._turns, colours=picture, own_size=own)

    def _picture(self, index: int) -> VideoFrame | None:
        file = self._images.files[index]
        try:
            with av.open(str(file.absolute()), metadata_errors="ignore") as container:
                stream: Any = container.streams.video[0]
                context = stream.codec_context
                if context is None or context.width * context.height > MOST_PIXELS:
                    return None
                return next(iter(container.decode(stream)), None)
        except (FFmpegError, OSError, ValueError, IndexError, StopIteration):
            return None


def read_grey(path: Path) -> NDArray[np.uint8]:
    """One image, (height, width) uint8 grey.

    Raises
    ------
    FootageError
        When there is none, or it cannot be read.
    """
    if not path.is_file():
        raise FootageError(f"{path}: is not there; choose a picture of the thing")
    with ImageReader(ImageSet(path, (path,), USUAL_RATE)) as reader:
        return reader.frame(0).grey
