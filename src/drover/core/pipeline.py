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
from drover.core.count.lines import TrackPaths, count_crossings
from drover.core.detect import detector
from drover.core.detect.background import ModelState
from drover.core.detect.detector import DetectionRows, Detector, DetectorState
from drover.core.errors import Cancelled, FootageError
from drover.core.footage.prefetch import prefetched_frames
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
from drover.core.track.tracker import Tracker
from drover.core.types import ClipInfo, Crossings, Detections, Tracks, Truth

__all__ = [
    "ClipRun",
    "DetectResult",
    "Progress",
    "count_key",
    "count_tracks",
    "detect_clip",
    "detect_key",
    "link_detections",
    "run_clip",
    "score_boxes",
    "score_result",
    "track_key",
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


@dataclass(frozen=True)
class DetectResult:
    """Detections with what the screen needs besides: evidence, places to replay from, cost, and notes.

    ``histogram`` (256,) int64 counts sampled pixels by their difference from the background, over the clip.
    ``checkpoints`` are (frame, detector state before the next frame), evenly spread; ``jumps`` are (frame, factor)
    where the light of the whole picture changed at once.
    """

    detections: Detections
    histogram: NDArray[np.int64]
    checkpoints: tuple[tuple[int, DetectorState], ...]
    seconds: float
    frames_read: int
    finished: bool = True
    notes: tuple[str, ...] = ()
    jumps: tuple[tuple[int, float], ...] = ()

    @property
    def ms_per_frame(self) -> float:
        """Cost of the stage, reading included, per frame."""
        return 1000 * self.seconds / max(1, self.frames_read)


def _key(*parts: str) -> str:
    return hashlib.sha256("|".join(parts).encode()).hexdigest()[:24]


def detect_key(clip: ClipInfo, settings: DetectSettings) -> str:
    """Fingerprint of a clip's detections."""
    return _key(
        "detect",
        str(detector.VERSION),
        clip.fingerprint,
        str(clip.frame_count),
        settings_fingerprint(settings),
    )


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
) -> DetectResult:
    """Detections of a whole clip, from the store where they are known.

    When cancelled, what was found so far is returned with ``finished`` false.

    Raises
    ------
    FootageError
        When the clip cannot be read any more.
    """
    key = detect_key(clip, settings)
    known = _load_detections(store, key) if store else None
    if known is not None:
        return known
    pass_ = _DetectPass(clip, settings)
    finished = pass_.run(on_progress, on_partial, cancelled)
    result = pass_.result(finished)
    if store and finished:
        _save_detections(store, key, result)
    return result


class _DetectPass:
    """One reading of a clip from end to end."""

    def __init__(self, clip: ClipInfo, settings: DetectSettings) -> None:
        self.clip = clip
        self.detector = Detector(settings, (clip.width, clip.height))
        self.rows = DetectionRows(self.detector.size)
        self.checkpoints: list[tuple[int, DetectorState]] = []
        self.spacing = max(1, -(-clip.frame_count // CHECKPOINTS))
        self.read = 0
        self.started = time.perf_counter()

    def run(
        self,
        on_progress: OnProgress,
        on_partial: Callable[[DetectResult], None] | None,
        cancelled: IsCancelled,
    ) -> bool:
        published, pause = self.started, PUBLISH_EVERY
        frames = prefetched_frames(self.clip.path, colour=self.detector.settings.shadow.mode != "off")
        try:
            for frame in frames:
                if cancelled():
                    return False
                self.rows.add(self.detector.step(frame))
                self.read += 1
                if frame.index % self.spacing == self.spacing - 1:
                    self.checkpoints.append((frame.index, self.detector.state()))
                now = time.perf_counter()
                if now - published >= pause:
                    on_progress(self._progress(frame.index + 1, now))
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
        on_progress(self._progress(self.clip.frame_count, time.perf_counter()))
        return True

    def result(self, finished: bool) -> DetectResult:
        missing = self.clip.frame_count - self.read if finished else 0
        notes = (
            (f"{missing} of {self.clip.frame_count} frames could not be decoded and were left out",) if missing else ()
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
        )

    def _progress(self, done: int, now: float) -> Progress:
        left = (now - self.started) / max(1, done) * (self.clip.frame_count - done)
        return Progress("detect", done, self.clip.frame_count, left)


_STORED = ("frame_start", "box", "confidence", "class_id", "area", "run_start", "runs")


def _save_detections(store: ResultStore, key: str, result: DetectResult) -> None:
    found = result.detections
    arrays: dict[str, NDArray] = {name: getattr(found, name) for name in _STORED}
    arrays["histogram"] = result.histogram
    facts: dict[str, object] = {
        "size": list(found.size),
        "class_names": list(found.class_names),
        "seconds": result.seconds,
        "frames_read": result.frames_read,
        "notes": list(result.notes),
        "checkpoints": [[frame, s.seen, s.start, s.now] for frame, s in result.checkpoints],
        "jumps": [list(jump) for jump in result.jumps],
    }
    if result.checkpoints:
        arrays["pictures"] = np.stack([state.picture for _, state in result.checkpoints])
        arrays["noises"] = np.stack([state.noise for _, state in result.checkpoints])
    store.save(key, arrays, facts)


def _load_detections(store: ResultStore, key: str) -> DetectResult | None:
    kept = store.load(key)
    if kept is None:
        return None
    arrays, facts = kept
    try:
        none = np.zeros((0, 1, 1), np.uint8)
        pictures, noises = arrays.get("pictures", none), arrays.get("noises", none)
        marks = facts["checkpoints"]
        checkpoints = tuple(
            (int(frame), ModelState(picture, noise, int(seen), float(start), float(now)))
            for (frame, seen, start, now), picture, noise in zip(marks, pictures, noises, strict=True)  # type: ignore[arg-type]
        )
        width, height = facts["size"]  # type: ignore[misc]
        detections = Detections(
            **{name: arrays[name] for name in _STORED},
            size=(int(width), int(height)),
            class_names=tuple(facts["class_names"]),  # type: ignore[arg-type]
        )
        return DetectResult(
            detections=detections,
            histogram=arrays["histogram"],
            checkpoints=checkpoints,
            seconds=float(facts["seconds"]),  # type: ignore[arg-type]
            frames_read=int(facts["frames_read"]),  # type: ignore[call-overload]
            notes=tuple(facts["notes"]),  # type: ignore[arg-type]
            jumps=tuple((int(at), float(by)) for at, by in facts["jumps"]),  # type: ignore[attr-defined]
        )
    except (KeyError, TypeError, ValueError):
        return None


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
    stage = Tracker(settings, detections.size, rate)
    starts = detections.frame_start.tolist()
    for frame, now in enumerate(times[: detections.frame_count].tolist()):
        if frame % 64 == 0 and cancelled():
            raise Cancelled("linking was stopped")
        first, past = starts[frame], starts[frame + 1]
        stage.step(
            now,
            detections.box[first:past],
            detections.confidence[first:past],
            detections.class_id[first:past],
            first_row=first,
        )
    return stage.tracks(detections.class_names)


def count_tracks(
    tracks: Tracks,
    times: NDArray[np.float64],
    settings: CountSettings,
    *,
    paths: dict[str, TrackPaths] | None = None,
) -> Crossings:
    """Crossings of all lines; ``paths`` keeps what need not be made again while a line is dragged."""
    return count_crossings(tracks, times, settings, paths=paths)


def score_result(
    tracks: Tracks,
    truth: Truth,
    settings: ScoreSettings,
    *,
    crossings: Crossings | None = None,
    true_crossings: Crossings | None = None,
) -> Score:
    """Score of a result, over the frames that it covers."""
    if tracks.frame_count < truth.frame_count:
        truth = _first_frames(truth, tracks.frame_count)
        if true_crossings is not None:
            true_crossings = true_crossings.take(true_crossings.frame < tracks.frame_count)
    return score_tracks(tracks, truth, settings, crossings=crossings, true_crossings=true_crossings)


def score_boxes(detections: Detections, truth: Truth, settings: ScoreSettings) -> DetectionScore:
    """Score of the detections alone, over the frames that they cover."""
    if detections.frame_count < truth.frame_count:
        truth = _first_frames(truth, detections.frame_count)
    return score_detections(detections, truth, settings.least_overlap)


def _first_frames(truth: Truth, frames: int) -> Truth:
    rows = int(truth.frame_start[frames])
    columns = {name: getattr(truth, name)[:rows] for name in ("identity", "box", "consider", "class_id", "visibility")}
    return replace(truth, frame_start=truth.frame_start[: frames + 1], **columns)


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
    """Run all stages over a clip, or from Track on when detections are given.

    Raises
    ------
    FootageError, Cancelled
    """
    seconds: dict[str, float] = {}
    with _timed(seconds, "detect"):
        if detections is None:
            detect = detect_clip(clip, recipe.detect, store=store, on_progress=on_progress, cancelled=cancelled)
        else:
            detect = DetectResult(detections, np.zeros(256, np.int64), (), 0.0, clip.frame_count)
    if not detect.finished:
        raise Cancelled("the run was stopped")
    with _timed(seconds, "track"):
        tracks = link_detections(detect.detections, clip.times, clip.rate, recipe.track, cancelled=cancelled)
    with _timed(seconds, "count"):
        crossings = count_tracks(tracks, clip.times, recipe.count)
    score = None
    if truth is not None:
        with _timed(seconds, "score"):
            score = score_result(tracks, truth, recipe.score, crossings=crossings, true_crossings=true_crossings)
    return ClipRun(clip, recipe, detect, tracks, crossings, score, seconds)


class _timed:  # noqa: N801 - reads as a verb where it is used
    def __init__(self, seconds: dict[str, float], stage: str) -> None:
        self._seconds, self._stage = seconds, stage

    def __enter__(self) -> None:
        self._start = time.perf_counter()

    def __exit__(self, *_: object) -> None:
        self._seconds[self._stage] = round(time.perf_counter() - self._start, 4)


def replay_frames(result: DetectResult, frame: int) -> tuple[int, DetectorState | None]:
    """Where to start replaying the detector to see its pictures at ``frame``: first frame to step, state before it."""
    best: tuple[int, DetectorState | None] = (0, None)
    for at, state in result.checkpoints:
        if at < frame:
            best = (at + 1, state)
    return best


def key_frames(total: int, most: int) -> Iterator[int]:
    """Up to ``most`` frames spread evenly over a clip."""
    for place in range(min(total, most)):
        yield place * total // min(total, most)
