"""A pass over a clip: every frame through the detector, from end to end or over a span, and kept in the store."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.motion import CameraMotion
from drover.core.camera.stations import Station, make_stations
from drover.core.detect.detection_rows import DetectionRows
from drover.core.detect.detector import Detector, DetectorState
from drover.core.detect.result import DetectResult
from drover.core.errors import FootageError
from drover.core.footage.opened import footage_fingerprint
from drover.core.footage.prefetch import prefetched_frames
from drover.core.footage_types import ClipInfo
from drover.core.kept_detections import load_detections, save_detections
from drover.core.progress import IsCancelled, OnProgress, Progress, never, quiet
from drover.core.recipe import DetectSettings
from drover.core.result_store import ResultStore
from drover.core.steady_detect import SteadyDetector
from drover.core.steady_survey import StationGround, survey_station
from drover.core.survey.empty_scene import EmptyScene
from drover.core.survey.resolve import resolve_detect
from drover.core.survey.survey import Survey
from drover.core.survey_pass import AHEAD, survey_clip

__all__ = ["OnPartial", "detect_clip", "replay_frames"]

CHECKPOINTS = 32
PUBLISH_EVERY = 0.4  # s between partial results while a clip is worked through


OnPartial = Callable[[DetectResult], None]


def detect_clip(
    clip: ClipInfo,
    settings: DetectSettings,
    *,
    key: str = "",
    store: ResultStore | None = None,
    on_progress: OnProgress = quiet,
    on_partial: OnPartial | None = None,
    cancelled: IsCancelled = never,
    span: tuple[int, int] | None = None,
    motion: CameraMotion | None = None,
) -> DetectResult:
    """Detections of a whole clip, from the store where they are known there under ``key``.

    When cancelled, what was found so far is returned with ``finished`` false. With ``span`` (first frame, one past
    the last) only that part is looked at, with the warm-up before it, and all other frames stay empty.
    ``motion`` is the camera's, where it moves.

    Raises
    ------
    FootageError
        When the clip cannot be read any more, or is another than when it was opened.
    """
    known = load_detections(store, key) if store and key else None
    if known is not None:
        return known
    pass_ = _DetectPass(clip, settings, span, motion)
    finished = pass_.run(on_progress, on_partial, cancelled)
    result = pass_.result(finished)
    if finished and footage_fingerprint(clip.path) != clip.fingerprint:
        raise FootageError(f"{clip.path}: was replaced or changed while it was worked through; open it again")
    if store and key and finished and span is None:
        save_detections(store, key, result)
    return result


class _DetectPass:
    """One reading of a clip, or of a span of it, from end to end."""

    def __init__(
        self,
        clip: ClipInfo,
        settings: DetectSettings,
        span: tuple[int, int] | None,
        motion: CameraMotion | None,
    ) -> None:
        self.clip, self.span, self.motion = clip, span, motion
        self.first, self.past = span or (0, clip.frame_count)
        stations = make_stations(motion) if motion is not None else None
        self._ground = self._ground_of(settings, stations[0]) if stations else None
        survey = self._survey(settings)
        empty = None if survey is None else survey.empty
        self.taken = resolve_detect(settings, survey, steadied=motion is not None)
        self.said = () if survey is None else survey.words
        if motion is not None:
            self.said = (*motion.words, *self.said)
        self.view = None if survey is None else survey.view
        self.detector: Detector | SteadyDetector
        if motion is not None and stations:
            self.detector = SteadyDetector(self.taken, motion, stations, self._scene_of)
            self._ground_for = stations[0].first
        else:
            self.detector = Detector(self.taken, (clip.width, clip.height), empty)
            if settings.background.known_start:
                self.detector.renew = self._scene_from
        self.rows = DetectionRows(self.detector.size)
        self.checkpoints: list[tuple[int, DetectorState]] = []
        warm_up = float(clip.times[self.first]) - self.taken.background.warm_up - 0.5
        self.start = int(np.searchsorted(clip.times, warm_up)) if span else 0
        if empty is not None and motion is None:
            self.checkpoints.append((self.start - 1, self.detector.state()))
        self.spacing = max(1, -(-(self.past - self.start) // CHECKPOINTS))
        self.read = 0
        self.anew: list[int] = []
        self.started = time.perf_counter()

    def run(
        self,
        on_progress: OnProgress,
        on_partial: OnPartial | None,
        cancelled: IsCancelled,
    ) -> bool:
        published, pause = self.started, PUBLISH_EVERY
        frames = prefetched_frames(self.clip.path, start=self.start, colour=self.detector.wants_colour)
        try:
            for frame in frames:
                if cancelled():
                    return False
                if frame.index >= self.past:
                    break
                if isinstance(self.detector, SteadyDetector) and self._begins(frame.index):
                    self.detector.go_to(frame.index)
                    self.checkpoints.append((frame.index - 1, self.detector.state()))
                found = self.detector.step(frame)
                if frame.index >= self.first:
                    self.rows.add(found)
                self.read += 1
                if found.anew:
                    self.anew.append(frame.index)
                # Where another shot or another ground begins nothing from before it helps to see what Detect saw.
                if frame.index % self.spacing == self.spacing - 1 or found.cut or found.anew:
                    self.checkpoints.append((frame.index, self.detector.state()))
                now = time.perf_counter()
                if now - published >= pause:
                    on_progress(self._progress(frame.index + 1 - self.start, now))
                    if on_partial is not None:
                        on_partial(self.result(False))
                    # Partial results are linked again by whoever shows them: ask for that ever less often.
                    published, pause = now, pause * 1.15
        finally:
            frames.close()
        if self.read == 0:
            raise FootageError(f"{self.clip.path}: no frame of it can be decoded any more; was the file changed?")
        self.rows.fill_to(self.clip.frame_count)
        on_progress(self._progress(self.past - self.start, time.perf_counter()))
        return True

    def _survey(self, settings: DetectSettings) -> Survey | None:
        """What the ground is like at the start, as far as anything may be known before."""
        if not settings.background.known_start:
            return None
        if self.motion is not None:
            return None if self._ground is None else self._ground.survey
        # A span near the beginning is looked at with the eyes of the whole clip: it finds the same.
        begin = 0 if self.clip.times[self.first] - self.clip.times[0] <= AHEAD else self.first
        return survey_clip(self.clip, begin)

    def _ground_of(self, settings: DetectSettings, station: Station) -> StationGround | None:
        """The ground of a station of a moving camera."""
        if self.motion is None or not settings.background.known_start:
            return None
        return survey_station(self.clip, self.motion, station)

    def _scene_of(self, station: Station) -> tuple[EmptyScene, NDArray[np.bool_]] | None:
        """The empty scene of a station, and where on its canvas it is known."""
        if self._ground_for != station.first:
            self._ground, self._ground_for = self._ground_of(self.taken, station), station.first
        return None if self._ground is None else (self._ground.survey.empty, self._ground.known)

    def _begins(self, frame: int) -> bool:
        """Whether another station of a moving camera begins with a frame."""
        return isinstance(self.detector, SteadyDetector) and self.detector.station_of(frame).first == frame

    def _scene_from(self, frame: int) -> EmptyScene | None:
        """The empty scene of the shot that begins with a frame."""
        survey = survey_clip(self.clip, frame)
        return None if survey is None else survey.empty

    def _words(self) -> tuple[str, ...]:
        """What the survey said, and what was seen only on the way."""
        said, cuts = list(self.said), self.rows.cuts if self.motion is None else ()
        for frames, what, then in (
            (cuts, "The film is cut", "each shot has a ground of its own"),
            (self.anew, "The whole picture becomes another", "its ground was looked at anew"),
        ):
            if frames:
                times = "once" if len(frames) == 1 else f"{len(frames)} times, first"
                said.append(f"{what} {times} at {float(self.clip.times[frames[0]]):.1f} s: {then}.")
        return tuple(said)

    def result(self, finished: bool) -> DetectResult:
        missing = self.past - self.start - self.read if finished else 0
        notes = (
            (f"{missing} of {self.past - self.start} frames could not be decoded and were left out",) if missing else ()
        )
        return DetectResult(
            detections=self.rows.snapshot(),
            histogram=self.rows.histogram.copy(),
            checkpoints=tuple(self.checkpoints),
            seconds=time.perf_counter() - self.started,
            frames_read=self.read,
            finished=finished,
            notes=notes,
            jumps=tuple(self.rows.jumps),
            rejected=self.rows.rejected,
            span=self.span,
            first_read=self.start,
            taken=self.taken,
            said=self._words(),
            cuts=tuple(self.rows.cuts),
            view=self.view,
            motion=self.motion,
        )

    def _progress(self, done: int, now: float) -> Progress:
        total = self.past - self.start
        left = (now - self.started) / max(1, done) * (total - done)
        return Progress("detect", done, total, left)


def replay_frames(result: DetectResult, frame: int) -> tuple[int, DetectorState | None]:
    """Where to start replaying the detector to see its pictures at ``frame``: first frame to step, state before it."""
    best: tuple[int, DetectorState | None] = (result.first_read, None)
    for at, state in result.checkpoints:
        if at < frame:
            best = (at + 1, state)
    return best
