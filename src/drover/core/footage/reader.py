"""Clips opened by an index of their time stamps, so that frame n is always the same picture.

At open every packet is read (not decoded): its presentation time and whether it is a key frame. Sorted by
time this gives frame numbers that are right with B-frames and variable rates. To reach a frame the reader
goes to the key frame before it and decodes until the time stamp matches.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import replace
from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np
from av.error import FFmpegError
from av.video.frame import VideoFrame
from numpy.typing import NDArray

from drover.core.errors import FootageError
from drover.core.footage.fingerprint import clip_fingerprint
from drover.core.footage.opening import _LOOSE, MOST_PIXELS, Index, open_container, read_index, stream_of
from drover.core.footage.planes import frame_of
from drover.core.footage_types import ClipInfo, Frame

__all__ = ["ClipReader"]


class ClipReader:
    """Exact access to the frames of one clip. One reader serves one thread.

    Parameters
    ----------
    path : Path
        A file FFmpeg can decode.
    cache_bytes : int
        Upper bound of the decoded-frame cache.

    Raises
    ------
    FootageError
        One line: the file is missing, empty, not a video, or has no frame that decodes.
    """

    def __init__(self, path: Path | str, *, cache_bytes: int = 64 << 20) -> None:
        self.path = Path(path)
        self._container = open_container(self.path)
        self._stream = stream_of(self._container, self.path)
        self._cache: OrderedDict[int, Frame] = OrderedDict()
        self._cache_bytes = cache_bytes
        self._decoded: Iterator[VideoFrame] | None = None
        self._reached = -1
        try:
            index = read_index(self._container, self.path)
            self._set_index(index)
            self._turns = 0
            self.info = self._describe(index)
        except (FFmpegError, OSError, ValueError, MemoryError) as error:
            self._container.close()
            raise FootageError(f"{self.path}: cannot be decoded ({str(error)[:120]}); try another copy") from error
        except BaseException:
            self._container.close()
            raise

    # --- public -------------------------------------------------------------------------------------------

    @property
    def key_frames(self) -> NDArray[np.int64]:
        """Frames that decode without any other, rising."""
        place = np.searchsorted(self._pts, self._keys)
        return np.unique(place[place < len(self._pts)]).astype(np.int64)

    @property
    def coding(self) -> str:
        """How its pictures are coded and in what container, in the words of the trade."""
        context: Any = self._stream.codec_context
        return f"{context.name} in {self._container.format.name.split(',')[0]}, {context.pix_fmt}"

    def frame(self, index: int) -> Frame:
        """The frame of that number.

        Raises
        ------
        FootageError
            When there is no such frame or it cannot be decoded.
        """
        if not 0 <= index < self.info.frame_count:
            raise FootageError(f"{self.path}: there is no frame {index + 1}; the clip has {self.info.frame_count}")
        if index in self._cache:
            self._cache.move_to_end(index)
            return self._cache[index]
        found = self._find(index)
        if found is None:
            raise FootageError(f"{self.path}: frame {index + 1} is damaged and cannot be decoded")
        return self._remember(self._as_frame(found, index))

    def frames(self, start: int = 0) -> Iterator[Frame]:
        """Frames in order from ``start``; damaged ones are left out, their numbers stay free."""
        if start >= self.info.frame_count:
            return
        for picture in self._from(start):
            index = self._number_of(picture)
            if index is not None and index >= start:
                yield self._as_frame(picture, index)
                if index == self.info.frame_count - 1:
                    break
        self._decoded = None

    def close(self) -> None:
        """Let go of the file."""
        self._cache.clear()
        self._decoded = None
        self._container.close()

    def __enter__(self) -> ClipReader:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # --- opening ------------------------------------------------------------------------------------------

    def _set_index(self, index: Index) -> None:
        self._pts, self._keys = index.pts, index.keys
        self._place = {int(pts): place for place, pts in enumerate(index.pts)}

    def _describe(self, index: Index) -> ClipInfo:
        self._width, self._height = self._stream.codec_context.width, self._stream.codec_context.height
        first = self._find(0)
        if first is None:
            first = next(self._restarted(), None)
        if first is None:
            raise FootageError(f"{self.path}: no frame of it can be decoded; it may be damaged or not a video")
        self._width, self._height = first.width, first.height
        if self._width * self._height > MOST_PIXELS:
            raise FootageError(f"{self.path}: {self._width} x {self._height} px is larger than can be worked with")
        self._turns = round((first.rotation or 0) / 90) % 4
        notes: tuple[str, ...] = ()
        if index.doubtful:
            notes = self._trim(index)
        base = float(self._stream.time_base or 0) or 1 / 25
        times = (self._pts - self._pts[0]) * base
        upright = self._turns % 2 == 0
        return ClipInfo(
            path=str(self.path),
            width=self._width if upright else self._height,
            height=self._height if upright else self._width,
            rate=self._rate(times),
            times=times.astype(np.float64),
            fingerprint=clip_fingerprint(self.path),
            notes=notes,
        )

    def _trim(self, index: Index) -> tuple[str, ...]:
        """Drop frames at the end that do not decode; says how many are left."""
        start = max(0, int(np.searchsorted(self._pts, self._keys[-1])) - 1) if len(self._keys) else 0
        good = -1
        self._seek(start)
        for picture in self._pictures():
            if picture.is_corrupt:
                continue
            place = self._number_of(picture)
            good = max(good, -1 if place is None else place)
        self._decoded = None
        count = good + 1 if good >= 0 else max(1, start)
        promised = max(index.promised, len(self._pts))
        kept = self._pts[:count]
        self._set_index(replace(index, pts=kept, keys=self._keys[self._keys <= kept[-1]]))
        if count >= promised:
            return ()
        return (f"the file is cut off: {count} of {promised} frames can be used",)

    def _rate(self, times: NDArray[np.float64]) -> float:
        if len(times) > 1 and times[-1] > 0:
            return round(float((len(times) - 1) / times[-1]), 6)
        rate = self._stream.average_rate or self._stream.guessed_rate
        return float(rate) if rate else 25.0

    # --- seeking and decoding -------------------------------------------------------------------------------

    def _find(self, index: int) -> VideoFrame | None:
        """Decode up to the frame; steps back one key frame at a time where a seek lands too late."""
        target = int(self._pts[index])
        if self._decoded is None or not self._ahead(index):
            self._seek(index)
        back = 0
        while True:
            first = None
            for picture in self._decoded or ():
                pts = picture.pts if picture.pts is not None else picture.dts
                if pts is None:
                    continue
                first = pts if first is None else first
                self._reached = self._place.get(int(pts), self._reached)
                if pts == target:
                    return picture
                if pts > target:
                    break
            else:
                self._decoded = None
            if first is not None and first <= target:
                self._decoded = None
                return self._found_from_start(target) if self._container.format.name in _LOOSE else None
            back += 1
            if back > len(self._keys) + 1:
                return None
            self._seek(index, back)

    def _found_from_start(self, target: int) -> VideoFrame | None:
        """A picture looked for from the very start: after a seek, streams without an index may stamp it otherwise."""
        self._reached = -1
        self._decoded = None
        for picture in self._restarted():
            if (picture.pts if picture.pts is not None else picture.dts) == target:
                return picture
        return None

    def _ahead(self, index: int) -> bool:
        """Whether decoding on from here reaches the frame without passing a key frame on the way."""
        if index <= self._reached:
            return False
        keys = np.searchsorted(self._keys, [self._pts[max(self._reached, 0)], self._pts[index]], side="right")
        return bool(keys[0] == keys[1]) or index - self._reached <= 12

    def _seek(self, index: int, back: int = 0) -> None:
        place = int(np.searchsorted(self._keys, self._pts[index], side="right")) - 1 - back
        at = int(self._keys[place]) if place >= 0 else int(self._pts[0]) - 1
        self._reached = -1
        if place < 0 or back > 3:
            self._decoded = self._restarted()
            return
        try:
            self._container.seek(at, stream=self._stream, backward=True)
            self._decoded = self._pictures()
        except (OSError, FFmpegError):
            self._decoded = self._restarted()

    def _from(self, start: int) -> Iterator[VideoFrame]:
        """Pictures from one at or before ``start`` on; steps back where a seek lands too late, as streams do."""
        if start == 0:
            self._reached = -1
            yield from self._restarted()
            return
        for back in range(len(self._keys) + 2):
            self._seek(start, back)
            pictures = self._decoded or iter(())
            first = next(pictures, None)
            number = None if first is None else self._number_of(first)
            if number is not None and number <= start:
                yield from chain([first], pictures)  # type: ignore[list-item]
                return
        yield from self._restarted()

    def _restarted(self) -> Iterator[VideoFrame]:
        """Pictures from the very start, on a fresh container: the way that always works."""
        self._container.close()
        self._container = open_container(self.path)
        self._stream = stream_of(self._container, self.path)
        return self._pictures()

    def _pictures(self) -> Iterator[VideoFrame]:
        """Decoded pictures from here on; packets that do not decode are passed over."""
        packets = self._container.demux(self._stream)
        while True:
            try:
                packet = next(packets, None)
            except (OSError, FFmpegError):
                packet = None
            if packet is None:
                return
            try:
                yield from packet.decode()  # type: ignore[misc]
            except (EOFError, FFmpegError):
                continue

    def _number_of(self, picture: VideoFrame) -> int | None:
        pts = picture.pts if picture.pts is not None else picture.dts
        return None if pts is None else self._place.get(int(pts))

    # --- pictures -------------------------------------------------------------------------------------------

    def _as_frame(self, picture: VideoFrame, index: int) -> Frame:
        own = (picture.width, picture.height)
        if own != (self._width, self._height):
            picture = picture.reformat(width=self._width, height=self._height)
        return frame_of(picture, index, float(self.info.times[index]), self._turns, own_size=own)

    def _remember(self, frame: Frame) -> Frame:
        self._cache[frame.index] = frame
        most = max(2, self._cache_bytes // (self._width * self._height * 6))
        while len(self._cache) > most:
            self._cache.popitem(last=False)
        return frame
