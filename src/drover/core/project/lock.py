"""One window a project: a lock that the system lets go of however the program ends."""

from __future__ import annotations

import fcntl
import hashlib
import os
from pathlib import Path

import platformdirs

from drover.core.errors import ProjectError

__all__ = ["ProjectLock", "is_open_somewhere"]


def _lock_path(path: Path) -> Path:
    folder = Path(platformdirs.user_state_dir("drover")) / "open"
    return folder / hashlib.sha256(str(path.resolve()).encode()).hexdigest()[:24]


class ProjectLock:
    """Held from now until :meth:`release`, or until the program ends in whatever way.

    Raises
    ------
    ProjectError
        When the project is open in another window.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._file: int | None = None
        try:
            place = _lock_path(path)
            place.parent.mkdir(parents=True, exist_ok=True)
            self._file = os.open(place, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except OSError:
            return  # where no lock can be kept, work goes on without one
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            os.close(self._file)
            self._file = None
            raise ProjectError(
                f"{path}: is open in another Drover window; close it there, or open a copy of the file"
            ) from error

    def release(self) -> None:
        """Let others open the project."""
        if self._file is not None:
            _lock_path(self.path).unlink(missing_ok=True)
            os.close(self._file)
            self._file = None


def is_open_somewhere(path: Path) -> bool:
    """Whether some window has the project open."""
    try:
        ProjectLock(path).release()
    except ProjectError:
        return True
    return False
