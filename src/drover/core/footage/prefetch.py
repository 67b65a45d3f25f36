"""Decoding ahead on a thread of its own, so that decoding and detecting share the cores."""

from __future__ import annotations

import queue
import threading
from collections.abc import Generator
from pathlib import Path

from drover.core.footage.opened import open_footage
from drover.core.footage_types import Frame

__all__ = ["prefetched_frames"]


def prefetched_frames(
    path: Path | str, *, start: int = 0, ahead: int = 8, colour: bool = False, rgb: bool = False
) -> Generator[Frame, None, None]:
    """Frames of a clip in order, decoded up to ``ahead`` frames before they are asked for.

    Grey is made on that thread too, and with ``colour`` the colour planes; with ``rgb`` the picture in full colour
    instead. Closing the iterator stops the thread and closes the file.
    """
    ready: queue.Queue[Frame | BaseException | None] = queue.Queue(maxsize=ahead)
    stop = threading.Event()

    def put(item: Frame | BaseException | None) -> bool:
        while not stop.is_set():
            try:
                ready.put(item, timeout=0.1)
                return True
            except queue.Full:
                continue
        return False

    def work() -> None:
        try:
            with open_footage(path, cache_bytes=0) as reader:
                for frame in reader.frames(start):
                    _ = frame.rgb if rgb else frame.grey
                    if colour:
                        _ = frame.chroma
                    if not put(frame):
                        return
            put(None)
        except BaseException as error:  # noqa: BLE001 - handed to the thread that reads the queue
            put(error)

    thread = threading.Thread(target=work, name="drover-decode", daemon=True)
    thread.start()
    try:
        while (item := ready.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            yield item
    finally:
        stop.set()
        thread.join(timeout=10)
