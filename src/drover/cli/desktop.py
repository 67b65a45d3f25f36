"""Drover among the desktop's programs: a menu entry, its icon, and the kind of its project files, for one user."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from contextlib import suppress
from importlib.resources import files
from pathlib import Path

from drover.core.errors import DroverError

__all__ = ["install_desktop", "remove_desktop"]

KIND = "application/x-drover-project"
ENTRY = """[Desktop Entry]
Type=Application
Name=Drover
GenericName=Video counting workbench
Comment=Find moving objects in video, keep their identities, count line crossings
Exec={program} open %f
TryExec={program}
Icon=drover
Terminal=false
Categories=AudioVideo;Video;Science;
MimeType={kind};video/mp4;video/x-matroska;video/webm;video/quicktime;video/x-msvideo;
StartupWMClass=drover
"""
MIME = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{kind}">
    <comment>Drover project</comment>
    <icon name="drover"/>
    <glob pattern="*.drover"/>
  </mime-type>
</mime-info>
"""


def _data() -> Path:
    """The user's own data folder (XDG)."""
    given = os.environ.get("XDG_DATA_HOME", "")
    return Path(given) if given.startswith("/") else Path.home() / ".local" / "share"


def _places(data: Path) -> dict[str, Path]:
    return {
        "entry": data / "applications" / "drover.desktop",
        "icon": data / "icons" / "hicolor" / "scalable" / "apps" / "drover.svg",
        "mime": data / "mime" / "packages" / "drover.xml",
    }


def install_desktop() -> list[Path]:
    """Write entry, icon and kind of file; which files those are.

    Raises
    ------
    DroverError
        When the program's own place is not known or the folder cannot be written.
    """
    program = Path(sys.executable).with_name("drover")
    if not program.exists():
        found = shutil.which("drover")
        if found is None:
            raise DroverError("the drover program is not installed beside this Python; install the package first")
        program = Path(found)
    data = _data()
    texts = {
        "entry": ENTRY.format(program=_quoted(str(program)), kind=KIND),
        "icon": (files("drover") / "app" / "signs" / "drover.svg").read_text(encoding="utf-8"),
        "mime": MIME.format(kind=KIND),
    }
    places = _places(data)
    try:
        for name, place in places.items():
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_text(texts[name], encoding="utf-8")
    except OSError as error:
        raise DroverError(
            f"{data}: cannot be written ({error.strerror}); set XDG_DATA_HOME to another place"
        ) from error
    _tell(data)
    return list(places.values())


def remove_desktop() -> list[Path]:
    """Take away what was installed; which files those were.

    Raises
    ------
    DroverError
    """
    data, gone = _data(), []
    for place in _places(data).values():
        try:
            place.unlink()
            gone.append(place)
        except FileNotFoundError:
            continue
        except OSError as error:
            raise DroverError(f"{place}: cannot be removed ({error.strerror})") from error
    if gone:
        _tell(data)
    return gone


def _quoted(path: str) -> str:
    """A path as an entry's Exec line wants it: in quotes where it holds anything but plain characters."""
    if all(c.isalnum() or c in "/._-+" for c in path):
        return path
    escaped = "".join("\\" + c if c in '"`$\\' else c for c in path).replace("%", "%%")
    return f'"{escaped}"'


def _tell(data: Path) -> None:
    """Have the desktop read its lists anew, where the programs for that are there."""
    for command in (
        ["update-mime-database", str(data / "mime")],
        ["update-desktop-database", str(data / "applications")],
        ["gtk-update-icon-cache", "-q", "-t", str(data / "icons" / "hicolor")],
    ):
        if shutil.which(command[0]):
            with suppress(OSError, subprocess.SubprocessError):
                subprocess.run(command, check=False, capture_output=True, timeout=30)
