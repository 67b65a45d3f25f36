"""Detect's intermediate pictures at any frame: replayed from the nearest checkpoint of the last pass."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.stations import make_stations
from drover.core.detect.blobs import Blobs, take_blobs
from drover.core.detect.cleaner import Cleaner
from drover.core.detect.detector import Detector, ShadowFacts
from drover.core.detect.result import DetectResult
from drover.core.detect.shadows import ShadowFinder
from drover.core.detect.size_rules import size_fits
from drover.core.detect.where import Region
from drover.core.detect_pass import replay_frames
from drover.core.footage.opened import open_footage
from drover.core.recipe import DetectSettings, as_taken
from drover.core.steady_detect import SteadyDetector
from drover.core.survey.resolve import resolve_detect

__all__ = ["DetectPictures", "FrameProbe", "clean_again"]


@dataclass(frozen=True)
class DetectPictures:
    """What Detect sees at one frame, each (height, width) uint8.

    ``background`` and ``difference`` in grey levels, ``raw``, ``shadow`` and ``clean`` masks of 0 and 1;
    ``histogram`` (256,) int64 counts all pixels by difference; ``blobs`` are those the size rules keep,
    ``all_blobs`` those before; ``ready`` is false while the background is being learnt.
    """

    frame: int
    background: NDArray[np.uint8]
    difference: NDArray[np.uint8]
    raw: NDArray[np.uint8]
    shadow: NDArray[np.uint8]
    facts: ShadowFacts
    taken: DetectSettings
    clean: NDArray[np.uint8]
    histogram: NDArray[np.int64]
    blobs: Blobs | None
    all_blobs: Blobs | None
    ready: bool


def clean_again(pictures: DetectPictures, settings: DetectSettings) -> DetectPictures:
    """The same frame under other settings of threshold, shadow, clean-up and size, without touching the footage."""
    if not pictures.ready:
        return pictures
    height, width = pictures.difference.shape
    settings = _with_taken(settings, pictures.taken)
    cleaner = Cleaner(settings, (width, height))
    cleaner.mark(pictures.difference)
    if settings.shadow.mode != "off":
        facts = pictures.facts
        finder = ShadowFinder(settings.shadow, (width, height))
        finder.set_colour(facts.colour)
        cleaner.take_shadows(finder, facts.grey, facts.background, facts.chroma)
    blobs = cleaner.blobs(pictures.difference)
    fits = size_fits(blobs, settings.size, (width, height)) & Region(settings.where, (width, height)).fits(blobs)
    kept = take_blobs(blobs, fits)
    return replace(
        pictures,
        raw=cleaner.unpacked(cleaner.raw),
        shadow=cleaner.unpacked(cleaner.shadow),
        clean=cleaner.unpacked(cleaner.clean),
        blobs=kept,
        all_blobs=blobs,
    )


def _as_taken(settings: DetectSettings, result: DetectResult) -> DetectSettings:
    """Settings on auto as the pass took them."""
    taken = result.taken
    return resolve_detect(settings, None) if taken is None else _with_taken(settings, taken)


def _with_taken(settings: DetectSettings, taken: DetectSettings) -> DetectSettings:
    """Settings with what is on auto as it was taken."""
    settings = as_taken(settings, taken)
    background, shadow = settings.background, settings.shadow
    if background.look_at == "auto":
        background = background.model_copy(update={"look_at": taken.background.look_at})
    if shadow.mode == "auto":
        shadow = taken.shadow
    return settings.model_copy(update={"background": background, "shadow": shadow})


class FrameProbe:
    """Goes to any frame of a clip with the detector in the state it had there.

    Use it from one thread. Going on by a frame costs one step; a jump replays from a checkpoint.
    """

    def __init__(self, path: str, result: DetectResult, settings: DetectSettings) -> None:
        self._reader = open_footage(path)
        self._result = result
        self._settings = _as_taken(settings, result)
        self._detector = self._fresh()
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
        nothing = np.zeros_like(difference)
        first = DetectPictures(
            frame=frame,
            background=detector.background(),
            difference=difference,
            raw=nothing,
            shadow=nothing,
            facts=detector.shadow_facts(),
            taken=self._settings,
            clean=nothing,
            histogram=np.bincount(difference.ravel(), minlength=256),
            blobs=None,
            all_blobs=None,
            ready=self._result.motion is not None
            or self._reader.info.times[frame] - self._reader.info.times[self._result.first_read]
            >= self._settings.background.warm_up - 1e-9,
        )
        return clean_again(first, self._settings)

    def close(self) -> None:
        """Let go of the clip."""
        self._reader.close()

    def _fresh(self) -> Detector | SteadyDetector:
        """A detector that has seen nothing."""
        motion = self._result.motion
        if motion is None:
            return Detector(self._settings, (self._reader.info.width, self._reader.info.height))
        return SteadyDetector(self._settings, motion, make_stations(motion), lambda station: None)

    def _go(self, frame: int) -> None:
        first, state = replay_frames(self._result, frame)
        if first <= self._at < frame:
            first = self._at + 1
        elif state is not None:
            if isinstance(self._detector, SteadyDetector):
                self._detector.restore(state, first)
            else:
                self._detector.restore(state)
        else:
            self._detector = self._fresh()
        for picture in self._reader.frames(first):
            self._detector.step(picture)
            self._at = picture.index
            if picture.index >= frame:
                break
