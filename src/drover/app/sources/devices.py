"""Cameras of this machine."""

from __future__ import annotations

from pathlib import Path

from drover.core.names import natural_order, plain_name

__all__ = ["devices"]

MOST_NAME = 200  # bytes


def devices() -> list[tuple[str, str]]:
    """Path and name of every camera device, in order."""
    found = []
    for path in sorted(Path("/dev").glob("video*"), key=lambda path: natural_order(path.name)):
        try:
            name = (Path("/sys/class/video4linux") / path.name / "name").read_text(errors="replace")[:MOST_NAME]
        except OSError:
            name = path.name
        found.append((str(path), plain_name(name)))
    return found
