"""The stage graph: pure functions over frozen results, each known by the fingerprint of what it depends on.

Footage -> Detect -> Track -> Count -> Score. A stage's fingerprint is made of its input's fingerprint, its own
settings and its version; so a tracking setting never re-detects and a moved line never re-tracks.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.count import lines
from drover.core.count.alarms import Alarm, find_alarms
from drover.core.count.ground import Ground, ground_of
from drover.core.count.lines import count_crossings
from drover.core.count.paths import KnownPaths
from drover.core.count.zones import ZoneVisits, find_visits
from drover.core.detect import detector
from drover.core.detect.box_choice import choose_boxes, unite
from drover.core.detect.detector import DetectionRows, Detector, DetectorState
from drover.core.detect.result import DetectResult
from drover.core.errors import Cancelled, DroverError, FootageError
from drover.core.footage.prefetch import prefetched_frames
from drover.core.kept_detections import load_detections, save_detections
from drover.core.recipe import (
    CountSettings,
    DetectSettings,
    Recipe,
    ScoreSettings,
    TrackSettings,
    settings_fingerprint,
)
from drover.core.result_store import ResultStore
from drover.core.score.detection import DetectionScore, score_detections
from drover.core.score.scorer import Score, score_tracks
from drover.core.track import tracker
from drover.core.track.explain import LinkNote, explain_frame
from drover.core.track.finishing import finish
from drover.core.track.input_notes import input_notes
from drover.core.track.tracker import FrameBoxes, Tracker
from drover.core.types import ClipInfo, Crossings, Detections, Tracks, Truth

__all__ = [
    "ClipRun",
    "Counted",
    "DetectResult",
    "Progress",
    "boxes_key",
    "count_all",
    "count_key",
    "count_tracks",
    "detect_clip",
    "detect_key",
    "explain_links",
    "link_detections",
    "run_clip",
    "score_boxes",
    "score_result",
    "track_key",
    "with_boxes",
]

CHECKPOINTS = 32
PUBLISH_EVERY = 0.4  # s between partial results while a clip is worked through


@dataclass(frozen=True)
class Progress:
    """How far a stage has come: frames done, of how many, and an estimate of the seconds left."""

    stage: str
    done: int
    total: int
    seconds_left: float


OnProgress = Callable[[Progress], None]
IsCancelled = Callable[[], bool]


def _never() -> bool:
    return False


def _quiet(progress: Progress) -> None:
    del progress


def _key(*parts: str) -> str:
    return hashlib.sha256("|".join(parts).encode()).hexdigest()[:24]


def detect_key(clip: ClipInfo, settings: DetectSettings) -> str:
    """Fingerprint of what a pass over the clip finds; settings of imported boxes have no part in it."""
    return _key(
        "detect",
        str(detector.VERSION),
        clip.fingerprint,
        str(clip.frame_count),
        settings_fingerprint(settings.motion_only),
    )


def boxes_key(clip: ClipInfo, settings: DetectSettings, imported: Detections | None) -> str:
    """Fingerprint of the detections that are tracked: what moves, imported boxes, or both."""
    motion = detect_key(clip, settings)
    if imported is None or settings.boxes.use == "motion":
        return motion
    used = sorted({imported.class_names[k] for k in np.unique(imported.class_id).tolist()})
    # Classes by name, whatever their numbers: a project file gives them other numbers.
    rank = np.array([used.index(name) if name in used else -1 for name in imported.class_names], np.int16)
    columns = [getattr(imported, name) for name in _IMPORTED] + [rank[imported.class_id]]
    brought = hashlib.sha256(b"".join(column.tobytes() for column in columns)).hexdigest()
    names = "|".join(used)
    own = motion if settings.boxes.use == "both" else clip.fingerprint
    return _key("boxes", own, brought, names, settings_fingerprint(settings.boxes))


_IMPORTED = ("frame_start", "box", "confidence")


def track_key(detections_key: str, settings: TrackSettings) -> str:
    """Fingerprint of the tracks made from detections."""
    return _key("track", str(tracker.VERSION), detections_key, settings_fingerprint(settings))


def count_key(tracks_key: str, settings: CountSettings) -> str:
    """Fingerprint of the crossings made from tracks."""
    return _key("count", str(lines.VERSION), tracks_key, settings_fingerprint(settings))


# --- Detect --------------------------------------------------------------------------------------------------


def detect_clip(
    clip: ClipInfo,
    settings: DetectSettings,
    *,
    store: ResultStore | None = None,
    on_progress: OnProgress = _quiet,
    on_partial: Callable[[DetectResult], None] | None = None,
    cancelled: IsCancelled = _never,
    span: tuple[int, int] | None = None,
) -> DetectResult:
    """Detections of a whole clip, from the store where they are known.

    When cancelled, what was found so far is returned with ``finished`` false. With ``span`` (first frame, one past
    the last) only that part is looked at, with the warm-up before it, and all other frames stay empty.

    Raises
    ------
    FootageError
        When the clip cannot be read any more.
    """
    key = detect_key(clip, settings)
    known = load_detections(store, key) if store else None
    if known is not None:
        return known
    pass_ = _DetectPass(clip, settings, span)
    finished = pass_.run(on_progress, on_partial, cancelled)
    result = pass_.result(finished)
    if store and finished and span is None:
        save_detections(store, key, result)
    return result


class _DetectPass:
    """One reading of a clip, or of a span of it, from end to end."""

    def __init__(self, clip: ClipInfo, settings: DetectSettings, span: tuple[int, int] | None) -> None:
        self.clip = clip
        self.detector = Detector(settings, (clip.width, clip.height))
        self.rows = DetectionRows(self.detector.size)
        self.checkpoints: list[tuple[int, DetectorState]] = []
        self.span = span
        self.first, self.past = span or (0, clip.frame_count)
        warm_up = float(clip.times[self.first]) - settings.background.warm_up - 0.5
        self.start = int(np.searchsorted(clip.times, warm_up)) if span else 0
        self.spacing = max(1, -(-(self.past - self.start) // CHECKPOINTS))
        self.read = 0
        self.started = time.perf_counter()

    def run(
        self,
        on_progress: OnProgress,
        on_partial: Callable[[DetectResult], None] | None,
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
                found = self.detector.step(frame)
                if frame.index >= self.first:
                    self.rows.add(found)
                self.read += 1
                if frame.index % self.spacing == self.spacing - 1:
                    self.checkpoints.append((frame.index, self.detector.state()))
                now = time.perf_counter()
                if now - published >= pause:
                    on_progress(self._progress(frame.index + 1 - self.start, now))
                    if on_partial is not None:
                        on_partial(self.result(False))
                    # Partial results are linked again by whoever shows them: ask for that ever less often.
                    published, pause = now, pause * 1.15
        finally:
            close = getattr(frames, "close", None)
            if close:
                close()
        if self.read == 0:
            raise FootageError(f"{self.clip.path}: no frame of it can be decoded any more; was the file changed?")
        self.rows.fill_to(self.clip.frame_count)
        on_progress(self._progress(self.past - self.start, time.perf_counter()))
        return True

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
        )

    def _progress(self, done: int, now: float) -> Progress:
        total = self.past - self.start
        left = (now - self.started) / max(1, done) * (total - done)
        return Progress("detect", done, total, left)


# --- imported boxes ------------------------------------------------------------------------------------------


def with_boxes(motion: DetectResult | None, imported: Detections | None, settings: DetectSettings) -> DetectResult:
    """The detections that are tracked: what moves, imported boxes, or both, as the settings say.

    ``motion`` may be None where only imported boxes are used.
    """
    use = settings.boxes.use
    if imported is None or use == "motion":
        if motion is None:
            raise DroverError("there are no imported boxes to use; bring some in, or use what moves")
        return motion
    chosen = choose_boxes(imported, settings.boxes)
    if use == "both" and motion is not None:
        return replace(motion, detections=unite(motion.detections, chosen, settings.boxes))
    return DetectResult(chosen, np.zeros(256, np.int64), (), 0.0, chosen.frame_count)


# --- Track, Count, Score -----------------------------------------------------------------------------------


def link_detections(
    detections: Detections,
    times: NDArray[np.float64],
    rate: float,
    settings: TrackSettings,
    *,
    cancelled: IsCancelled = _never,
) -> Tracks:
    """Tracks of all frames covered by the detections: the fold of the tracker's step.

    Raises
    ------
    Cancelled
        When told to stop on the way.
    """
    stage, detections = Tracker(settings, detections.size, rate), detections.frozen()
    for frame, now in enumerate(times[: detections.frame_count].tolist()):
        if frame % 64 == 0 and cancelled():
            raise Cancelled("linking was stopped")
        stage.step(now, FrameBoxes.of(detections, frame))
    return finish(stage.tracks(detections.class_names), times, settings, detections)


def explain_links(
    detections: Detections,
    tracks: Tracks,
    times: NDArray[np.float64],
    rate: float,
    settings: TrackSettings,
    frame: int,
    *,
    cancelled: IsCancelled = _never,
) -> tuple[LinkNote, ...]:
    """Why the links of a frame were made: the tracker run again up to it.

    Raises
    ------
    Cancelled
        When told to stop on the way.
    """

    def stop() -> None:
        if cancelled():
            raise Cancelled("explaining was stopped")

    return explain_frame(detections, tracks, times, rate, settings, frame, on_way=stop)


def count_tracks(
    tracks: Tracks,
    times: NDArray[np.float64],
    settings: CountSettings,
    *,
    paths: KnownPaths | None = None,
) -> Crossings:
    """Crossings of all lines; ``paths`` keeps what need not be made again while a line is dragged."""
    return count_crossings(tracks, times, settings, paths=paths)


@dataclass(frozen=True)
class Counted:
    """Everything Count makes of tracks: crossings, stays in zones, alarms, and the ground's measure if there is one."""

    crossings: Crossings
    visits: ZoneVisits
    alarms: tuple[Alarm, ...]
    ground: Ground | None


def count_all(
    tracks: Tracks,
    times: NDArray[np.float64],
    settings: CountSettings,
    *,
    paths: KnownPaths | None = None,
    visits: ZoneVisits | None = None,
) -> Counted:
    """Lines, zones and alarms over tracks; ``visits`` are given where the zones have not changed.

    Raises
    ------
    DroverError
        When the ground's measure makes no sense.
    """
    known = {} if paths is None else paths
    ground = ground_of(settings.ground, tracks.size)
    if visits is None:
        visits = find_visits(tracks, times, settings, paths=known)
    crossings = count_crossings(tracks, times, settings, paths=known, visits=visits)
    return Counted(crossings, visits, find_alarms(tracks, times, settings, crossings, visits, ground), ground)


def score_result(
    tracks: Tracks,
    truth: Truth,
    settings: ScoreSettings,
    *,
    crossings: Crossings | None = None,
    true_crossings: Crossings | None = None,
    span: tuple[int, int] | None = None,
) -> Score:
    """Score of a result, over the frames that it covers, or over a span of them (first, one past the last)."""
    if span is not None:
        truth = _span_of(truth, span)
        if true_crossings is not None:
            inside = (true_crossings.frame >= span[0]) & (true_crossings.frame < span[1])
            true_crossings = true_crossings.take(inside)
    if tracks.frame_count < truth.frame_count:
        truth = _first_frames(truth, tracks.frame_count)
        if true_crossings is not None:
            true_crossings = true_crossings.take(true_crossings.frame < tracks.frame_count)
    return score_tracks(tracks, truth, settings, crossings=crossings, true_crossings=true_crossings)


def score_boxes(
    detections: Detections, truth: Truth, settings: ScoreSettings, *, span: tuple[int, int] | None = None
) -> DetectionScore:
    """Score of the detections alone, over the frames that they cover, or over a span of them."""
    if span is not None:
        truth = _span_of(truth, span)
    if detections.frame_count < truth.frame_count:
        truth = _first_frames(truth, detections.frame_count)
    return score_detections(detections, truth, settings.least_overlap)


_TRUE_COLUMNS = ("identity", "box", "consider", "class_id", "visibility")


def _first_frames(truth: Truth, frames: int) -> Truth:
    rows = int(truth.frame_start[frames])
    columns = {name: getattr(truth, name)[:rows] for name in _TRUE_COLUMNS}
    return replace(truth, frame_start=truth.frame_start[: frames + 1], **columns)


def _span_of(truth: Truth, span: tuple[int, int]) -> Truth:
    """Truth with nothing in it outside a span of frames."""
    first, past = (int(truth.frame_start[min(max(edge, 0), truth.frame_count)]) for edge in span)
    columns = {name: getattr(truth, name)[first:past] for name in _TRUE_COLUMNS}
    return replace(truth, frame_start=np.clip(truth.frame_start - first, 0, past - first), **columns)


# --- the whole clip ----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class ClipRun:
    """Everything one run of a clip produced."""

    clip: ClipInfo
    recipe: Recipe
    detect: DetectResult
    tracks: Tracks
    crossings: Crossings
    score: Score | None
    seconds: dict[str, float] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    counted: Counted | None = None


def run_clip(
    clip: ClipInfo,
    recipe: Recipe,
    *,
    detections: Detections | None = None,
    truth: Truth | None = None,
    true_crossings: Crossings | None = None,
    store: ResultStore | None = None,
    on_progress: OnProgress = _quiet,
    cancelled: IsCancelled = _never,
) -> ClipRun:
    """Run all stages over a clip; boxes of another detector are used instead of what moves, or beside it.

    Raises
    ------
    FootageError, Cancelled
    """
    seconds: dict[str, float] = {}
    settings = recipe.detect
    if detections is not None and settings.boxes.use == "motion":
        boxes = settings.boxes.model_copy(update={"use": "imported"})
        settings = settings.model_copy(update={"boxes": boxes})
    with _timed(seconds, "detect"):
        motion = None
        if detections is None or settings.boxes.use == "both":
            motion = detect_clip(clip, settings, store=store, on_progress=on_progress, cancelled=cancelled)
        detect = with_boxes(motion, detections, settings)
    if not detect.finished:
        raise Cancelled("the run was stopped")
    with _timed(seconds, "track"):
        tracks = link_detections(detect.detections, clip.times, clip.rate, recipe.track, cancelled=cancelled)
    with _timed(seconds, "count"):
        counted = count_all(tracks, clip.times, recipe.count)
        crossings = counted.crossings
    score = None
    if truth is not None:
        with _timed(seconds, "score"):
            score = score_result(tracks, truth, recipe.score, crossings=crossings, true_crossings=true_crossings)
    notes = (*detect.notes, *input_notes(detect.detections, clip.times))
    return ClipRun(clip, recipe, detect, tracks, crossings, score, seconds, notes, counted)


class _timed:  # noqa: N801 - reads as a verb where it is used
    def __init__(self, seconds: dict[str, float], stage: str) -> None:
        self._seconds, self._stage = seconds, stage

    def __enter__(self) -> None:
        self._start = time.perf_counter()

    def __exit__(self, *_: object) -> None:
        self._seconds[self._stage] = round(time.perf_counter() - self._start, 4)


def replay_frames(result: DetectResult, frame: int) -> tuple[int, DetectorState | None]:
    """Where to start replaying the detector to see its pictures at ``frame``: first frame to step, state before it."""
    best: tuple[int, DetectorState | None] = (result.first_read, None)
    for at, state in result.checkpoints:
        if at < frame:
            best = (at + 1, state)
    return best


def key_frames(total: int, most: int) -> Iterator[int]:
    """Up to ``most`` frames spread evenly over a clip."""
    for place in range(min(total, most)):
        yield place * total // min(total, most)
