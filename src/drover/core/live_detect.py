"""Detect live with a camera that stands: the detector, and a survey that goes on.

What the first survey says holds at once. Later on what is decided one way or the other (is there colour, are shadows
cast, does what moves stand out little) changes only when two surveys in a row say so; the noise is always the newest.
"""

from __future__ import annotations

from drover.core.detect.detector import DetectedFrame, Detector
from drover.core.footage_types import Frame
from drover.core.live_survey import LiveSurvey
from drover.core.recipe import DetectSettings
from drover.core.survey.resolve import resolve_detect
from drover.core.survey.survey import Survey

__all__ = ["LiveDetect"]


class LiveDetect:
    """Steps as a detector does; ``said`` is what the newest survey says in words, ``settings`` what holds by now."""

    def __init__(self, wanted: DetectSettings, size: tuple[int, int]) -> None:
        self._wanted, self._detector = wanted, Detector(wanted, size)
        usual = resolve_detect(wanted, None)
        has_a_say = wanted.background.known_start or usual != wanted
        self._survey = LiveSurvey(usual.background.warm_up) if has_a_say else None
        self._knows_scene = False
        self._decided: tuple[object, ...] | None = None
        self._said_last: tuple[object, ...] | None = None
        self.said: tuple[str, ...] = ()

    @property
    def settings(self) -> DetectSettings:
        """What holds by now, with what is on auto worked out."""
        return self._detector.settings

    def step(self, frame: Frame) -> DetectedFrame:
        """Take in the next frame and say what moves in it, by what was surveyed so far."""
        survey = self._survey
        if survey is None:
            return self._detector.step(frame)
        known = survey.due(frame.time)
        if known is not None:
            self._take(known)
        found = self._detector.step(frame)
        if found.cut:
            survey.begin_anew()
            self._knows_scene, self._decided = False, None
        survey.note(frame)
        return found

    def _take(self, known: Survey) -> None:
        self.said = known.words
        resolved = resolve_detect(self._wanted, known)
        decided = known.grey, known.shadows.cast, resolved.background.weak_share
        if self._decided not in (None, decided) and self._said_last != decided:
            resolved = self._detector.settings
        else:
            self._decided = decided
        self._said_last = decided
        empty = known.empty if self._wanted.background.known_start else None
        self._detector.take_survey(resolved, empty, scene=not self._knows_scene)
        self._knows_scene = True

    def close(self) -> None:
        """End the thread that makes surveys."""
        if self._survey is not None:
            self._survey.close()
