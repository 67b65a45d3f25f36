"""Ctrl-C: heard once, never lost.

An interrupt that is raised while the interpreter tidies up, or inside a library's callback, is swallowed there; so it
is remembered as well, and whoever works for long asks.
"""

from __future__ import annotations

import signal
import threading
from types import FrameType

__all__ = ["asked_to_stop", "hear_stops", "stop_was_heard"]

_asked = threading.Event()


def hear_stops() -> None:
    """Remember interrupts from here on, and raise them as ever."""
    signal.signal(signal.SIGINT, _on_stop)


def asked_to_stop() -> bool:
    """Whether somebody has pressed Ctrl-C."""
    return _asked.is_set()


def stop_was_heard() -> None:
    """A stop was what was waited for, and has been obeyed: the work ended well."""
    _asked.clear()


def _on_stop(number: int, frame: FrameType | None) -> None:
    del number, frame
    _asked.set()
    raise KeyboardInterrupt
