"""Detect's intermediate pictures at any frame: replayed from the nearest checkpoint of the last pass."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.background import mark_moving
from drover.core.detect.bitmask import close_mask, open_mask, unpack, words_for
from drover.core.detect.blobs import Blobs, find_blobs
from drover.core.detect.detector import Detector
from drover.core.footage.reader import ClipReader
from drover.core.pipeline import DetectResult, replay_frames
from drover.core.recipe import DetectSettings

__all__ = ["DetectPictures", "FrameProbe", "clean_again"]


@dataclass(frozen=True)
class DetectPictures:
    """What Detect sees at one frame, each (height, width) uint8.

    ``background`` and ``difference`` in grey levels, ``raw`` and ``clean`` masks of 0 and 1; ``histogram``
    (256,) int64 counts all pixels by difference; ``ready`` is false while the background is being learnt.
    """

    frame: int
    background: NDArray[np.uint8]
    difference: NDArray[np.uint8]
    raw: NDArray[np.uint8]
    clean: NDArray[np.uint8]
    histogram: NDArray[np.int64]
    blobs: Blobs | None
    ready: bool


def clean_again(pictures: DetectPictures, settings: DetectSettings) -> DetectPictures:
    """The same frame under other settings of threshold, clean-up and size, without touching the footage."""
    if not pictures.ready:
        return pictures
    height, width = pictures.difference.shape
    raw = words_for(height, width)
    mark_moving(pictures.difference, int(settings.background.threshold), raw)
    clean = close_mask(open_mask(raw, settings.cleanup.opening, width), settings.cleanup.closing, width)
    blobs = find_blobs(clean, pictures.difference, settings.size)
    return replace(pictures, raw=unpack(raw, width), clean=unpack(clean, width), blobs=blobs)


class FrameProbe:
    """Goes to any frame of a clip with the detector in the state it had there.

    Use it from one thread. Going on by a frame costs one step; a jump replays from a checkpoint.
    """

    def __init__(self, path: str, result: DetectResult, settings: DetectSettings) -> None:
        self._reader = ClipReader(path)
        self._result = result
        self._settings = settings
        self._detector = Detector(settings, (self._reader.info.width, self._reader.info.height))
        self._at = -1

    def pictures(self, frame: int) -> DetectPictures:
        """Pictures at a frame.

        Raises
        ------
        FootageError
            When the frame cannot be decoded.
        """
        if frame != self._at:
            self._go(frame)
        detector = self._detector
        difference = detector.difference()
        first = DetectPictures(
            frame=frame,
            background=detector.background(),
            difference=difference,
            raw=detector.raw_mask(),
            clean=detector.clean_mask(),
            histogram=np.bincount(difference.ravel(), minlength=256),
            blobs=None,
            ready=self._reader.info.times[frame] - self._reader.info.times[0]
            >= self._settings.background.warm_up - 1e-9,
        )
        return clean_again(first, self._settings)

    def close(self) -> None:
        """Let go of the clip."""
        self._reader.close()

    def _go(self, frame: int) -> None:
        first, state = replay_frames(self._result, frame)
        if first <= self._at < frame:
            first = self._at + 1
        elif state is not None:
            self._detector.restore(state)
        else:
            self._detector = Detector(self._settings, self._detector.size)
        for picture in self._reader.frames(first):
            self._detector.step(picture)
            self._at = picture.index
            if picture.index >= frame:
                break
