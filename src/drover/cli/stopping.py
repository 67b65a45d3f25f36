"""Ctrl-C: heard once, never lost.

An interrupt that is raised while the interpreter tidies up, or inside a library's callback, is swallowed there; so it
is remembered as well, and whoever works for long asks.
"""

from __future__ import annotations

import os
import signal
import threading
from types import FrameType

__all__ = ["asked_to_stop", "end_at_stops", "hear_stops", "stop_was_heard"]

_asked = threading.Event()


def end_at_stops() -> None:
    """While the program starts, and has done nothing yet, an interrupt ends it at once.

    Raised, it could fall into the import of a compiled library, which makes another error of it.
    """
    signal.signal(signal.SIGINT, _end)


def hear_stops() -> None:
    """Remember interrupts from here on, and raise them as ever."""
    signal.signal(signal.SIGINT, _on_stop)


def asked_to_stop() -> bool:
    """Whether somebody has pressed Ctrl-C."""
    return _asked.is_set()


def stop_was_heard() -> None:
    """A stop was what was waited for, and has been obeyed: the work ended well."""
    _asked.clear()


def _end(number: int, frame: FrameType | None) -> None:
    del number, frame
    os.write(2, b"drover: stopped\n")
    os._exit(1)


def _on_stop(number: int, frame: FrameType | None) -> None:
    del number, frame
    _asked.set()
    raise KeyboardInterrupt
