"""A clip gone through from end to end: every frame in order, how far it is told, and stopped when asked."""

from __future__ import annotations

import time
from collections.abc import Generator
from contextlib import closing

from drover.core.errors import Cancelled
from drover.core.footage.prefetch import prefetched_frames
from drover.core.footage_types import ClipInfo, Frame
from drover.core.progress import IsCancelled, OnProgress, Progress

__all__ = ["gone_through"]

TELL_EVERY = 0.3  # s


def gone_through(
    clip: ClipInfo, stage: str, on_progress: OnProgress, cancelled: IsCancelled, *, rgb: bool = False
) -> Generator[Frame, None, None]:
    """Every frame of a clip that decodes, in order, grey or with ``rgb`` in colour made on another thread.

    Raises
    ------
    FootageError
        When the clip cannot be read.
    Cancelled
        When told to stop on the way.
    """
    started = told = time.perf_counter()
    with closing(prefetched_frames(clip.path, rgb=rgb)) as frames:
        for frame in frames:
            if cancelled():
                raise Cancelled(f"{stage} was stopped")
            yield frame
            now = time.perf_counter()
            if now - told >= TELL_EVERY:
                told, done = now, frame.index + 1
                on_progress(Progress(stage, done, clip.frame_count, (now - started) / done * (clip.frame_count - done)))
