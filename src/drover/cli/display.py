"""The window's start from the command line, and whether there is a display for it; nothing that takes long to load."""

from __future__ import annotations

import contextlib
import gc
import os
import socket
from pathlib import Path

from drover.cli.stopping import hear_stops
from drover.core.errors import DroverError

__all__ = ["has_display", "open_window", "window_wanted"]


def window_wanted(arguments: list[str]) -> list[str] | None:
    """What the window is to open, where that is all that is wanted and can be done; else the commands say what is not.

    It goes past all that only other commands need, which takes a quarter of a second to load.
    """
    if not has_display():
        return None
    if arguments == ["demo"]:
        return ["--demo"]
    source = arguments[1:2]
    if arguments[:1] != ["open"] or len(arguments) > 2 or any(one.startswith("-") for one in source):
        return None
    return source if not source or Path(source[0]).exists() else None


def open_window(arguments: list[str]) -> int:
    """Open the window; its exit code.

    Raises
    ------
    DroverError
        When there is no display to open it on.
    """
    if not has_display():
        raise DroverError(
            "there is no display to open a window on; run 'drover demo --headless' or 'drover run', "
            "or set DISPLAY and try again"
        )
    gc.disable()  # the window looks for what is to be freed when it is idle
    from drover.app.start import start

    hear_stops()
    return start(arguments)


def has_display() -> bool:
    """Whether a window can be opened: a display that is named but not there would end the program without a word."""
    if os.environ.get("QT_QPA_PLATFORM"):
        return True
    named = os.environ.get("WAYLAND_DISPLAY")
    if named and (Path(os.environ.get("XDG_RUNTIME_DIR", "/")) / named).exists():
        return True
    display = os.environ.get("DISPLAY", "")
    host, _, number = display.partition(":")
    if host and host != "unix":
        return True  # another machine's: only trying tells
    number = number.split(".")[0]
    return number.isdigit() and answers(f"/tmp/.X11-unix/X{number}")


def answers(place: str) -> bool:
    """Whether somebody listens at a socket, by its path or by the same name in the abstract space."""
    for address in (place, "\0" + place):
        with socket.socket(socket.AF_UNIX) as line, contextlib.suppress(OSError):
            line.connect(address)
            return True
    return False
