"""Videos with the results drawn over them: what is on the field, picture after picture, into a file."""

from __future__ import annotations

import os
import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from av import VideoFrame
from PySide6.QtGui import QImage

from drover.app.field.scene import DRAWN, Scene, draw_scene
from drover.app.field.tracks_layer import TracksLayer
from drover.app.field.ways import WAYS
from drover.app.images import pixels_of, rgb_image
from drover.core.errors import Cancelled, DroverError
from drover.core.footage.prefetch import prefetched_frames
from drover.core.footage.writer import KINDS, ClipWriter
from drover.core.progress import IsCancelled, OnProgress, Progress, never, quiet

__all__ = ["VideoWish", "can_be_drawn", "write_video"]

QUALITY, QUALITY_WEBM = 21, 34  # constant rate factors at which outlines stay clean
AHEAD = 3  # pictures drawn that wait to be encoded
TELL_EVERY = 0.2  # s between two words on how far it is


@dataclass(frozen=True)
class VideoWish:
    """Where to, what is drawn, which frames (``past`` one past the last), and every how many-th of them.

    ``text`` makes letters and lines so many times as large; with ``clock`` the clip's time stands in a corner.
    """

    path: Path
    shown: frozenset[str]
    first: int
    past: int
    every: int = 1
    text: float = 1.0
    clock: bool = False


def can_be_drawn(shown: set[str]) -> frozenset[str]:
    """Of some overlays those that a video can have: what Detect has to look at the footage anew for is left out."""
    return frozenset(shown) & (frozenset(DRAWN) | frozenset(WAYS))


def write_video(
    scene: Scene, wish: VideoWish, *, on_progress: OnProgress = quiet, cancelled: IsCancelled = never
) -> int:
    """Write the video beside its place and move it there whole; returns how many pictures it has.

    Raises
    ------
    DroverError
        When the clip cannot be read, the file not written, or nothing lies in the span; Cancelled when told to stop.
        The file that was there before is then still there.
    """
    if wish.path.suffix.lower() not in KINDS:
        raise DroverError(f"{wish.path}: give the video a name that ends in {' or '.join(KINDS)}")
    if not 0 <= wish.first < wish.past:
        raise DroverError(f"{wish.path}: there is no picture in the span that was asked for")
    draft = wish.path.with_name(f".{wish.path.name}.{os.getpid()}.part")
    try:
        written = _write(scene, wish, draft, on_progress, cancelled)
        draft.replace(wish.path)
    except OSError as error:
        raise DroverError(f"{wish.path}: {error.strerror or error}; choose another place") from error
    finally:
        draft.unlink(missing_ok=True)
    return written


def _write(scene: Scene, wish: VideoWish, draft: Path, on_progress: OnProgress, cancelled: IsCancelled) -> int:
    clip, kind = scene.clip, wish.path.suffix.lower()
    width, height = clip.width // 2 * 2, clip.height // 2 * 2  # coders want even sides
    layer, shown = TracksLayer(), set(wish.shown)
    told = _Teller(on_progress, wish.past - wish.first)
    quality = QUALITY_WEBM if kind == ".webm" else QUALITY
    frames = prefetched_frames(clip.path, start=wish.first, ahead=4, rgb=True)
    written = 0
    try:
        with (
            ClipWriter(
                draft,
                width=width,
                height=height,
                rate=clip.rate,
                quality=quality,
                preset="veryfast",
                hasty=True,
                kind=kind,
                called=wish.path,
            ) as writer,
            _Behind(writer) as behind,
        ):
            for frame in frames:
                if cancelled():
                    raise Cancelled("writing the video was stopped")
                if frame.index >= wish.past:
                    break
                if (frame.index - wish.first) % wish.every == 0:
                    image = rgb_image(frame.rgb)
                    draw_scene(image, scene, shown, frame.index, layer, text=wish.text, clock=wish.clock)
                    behind.add(image)
                    written += 1
                told.tell(frame.index + 1 - wish.first)
            if written == 0:
                raise DroverError(f"{clip.path}: no picture of the span can be decoded")
    finally:
        frames.close()  # type: ignore[attr-defined]
    told.tell(wish.past - wish.first, at_once=True)
    return written


class _Behind:
    """Encodes on a thread of its own while the next picture is drawn; what goes wrong there is raised here."""

    def __init__(self, writer: ClipWriter) -> None:
        self._writer = writer
        self._fault: Exception | None = None
        self._waiting: queue.Queue[VideoFrame | None] = queue.Queue(AHEAD)
        self._thread = threading.Thread(target=self._work, name="drover-encode", daemon=True)
        self._thread.start()

    def _work(self) -> None:
        while (picture := self._waiting.get()) is not None:
            if self._fault is None:
                try:
                    self._writer.add_ready(picture)
                except Exception as fault:  # noqa: BLE001 - handed to the thread that draws
                    self._fault = fault

    def add(self, picture: QImage) -> None:
        if self._fault is not None:
            raise self._fault
        self._waiting.put(self._writer.made_ready(pixels_of(picture)))

    def __enter__(self) -> _Behind:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        self._waiting.put(None)
        self._thread.join()
        if kind is None and self._fault is not None:
            raise self._fault


class _Teller:
    """Says now and then how far it is, and how long it will take."""

    def __init__(self, on_progress: Callable[[Progress], None], total: int) -> None:
        self._on_progress, self._total = on_progress, total
        self._start = self._told = time.perf_counter()

    def tell(self, done: int, *, at_once: bool = False) -> None:
        now = time.perf_counter()
        if at_once or now - self._told >= TELL_EVERY:
            self._told = now
            left = (now - self._start) / max(1, done) * (self._total - done)
            self._on_progress(Progress("video", done, self._total, left))
