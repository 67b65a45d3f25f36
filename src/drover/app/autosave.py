"""Saving as one goes: every change is on disk within a second, named project or not."""

from __future__ import annotations

from collections import deque
from pathlib import Path

import platformdirs
from PySide6.QtCore import QObject, QTimer, Signal

from drover.app.jobs import LatestJob
from drover.app.session import Session
from drover.core.project.contents import ProjectContents
from drover.core.project.file import ProjectFile

__all__ = ["Autosave", "unsaved_path"]

DELAY_MS = 400


def unsaved_path() -> Path:
    """Where work without a name is kept."""
    return Path(platformdirs.user_state_dir("drover")) / "unsaved.drover"


class Autosave(QObject):
    """Writes the session to its project file shortly after each change, on a thread of its own."""

    saved = Signal()
    failed = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self.path: Path | None = None
        self._file: ProjectFile | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(DELAY_MS)
        self._timer.timeout.connect(self.save_now)
        self._job = LatestJob("save", self)
        self._job.done.connect(lambda _: self.saved.emit())
        self._job.failed.connect(self.failed)
        session.changed.connect(self._timer.start)
        session.frame_changed.connect(self._touch)
        session.undo.indexChanged.connect(self._log)
        session.clip_changed.connect(self._start_log)
        self._logged = ""
        self._edits: deque[tuple[str, str, str]] = deque()

    @property
    def busy(self) -> bool:
        """Whether something is not on disk yet."""
        return self._timer.isActive() or self._job.busy

    def use(self, path: Path | None, *, fresh: bool = True) -> None:
        """Write to this project from now on; None is the unnamed one.

        A ``fresh`` file is begun anew, else what it holds is carried on.
        """
        self.path = path
        place = path or unsaved_path()
        place.parent.mkdir(parents=True, exist_ok=True)
        if fresh:
            place.unlink(missing_ok=True)
        self._file = ProjectFile(place)

    def save_now(self) -> None:
        """Write what has changed."""
        contents = self.session.contents()
        if contents is None:
            return
        if self._file is None:
            self.use(None)
        file = self._file
        assert file is not None
        self._job.submit(lambda _: self._write(file, contents))

    def save_and_wait(self) -> None:
        """Write what has changed before going on; for closing the window.

        Raises
        ------
        ProjectError
            When the file cannot be written.
        """
        contents: ProjectContents | None = self.session.contents()
        self._timer.stop()
        self._job.close()
        if contents is not None and self._file is not None:
            self._write(self._file, contents)

    def _touch(self) -> None:
        if self._file is not None and not self._timer.isActive():
            self._timer.start(1000)

    def _start_log(self) -> None:
        """Another clip: its recipe is where the edits start from."""
        self._edits.clear()
        self._logged = self.session.recipe_text

    def _log(self, index: int) -> None:
        """Note each edit with the recipe before and after; it is written with the next save."""
        before, self._logged = self._logged, self.session.recipe_text
        if index > 0 and before:
            self._edits.append((self.session.undo.text(index - 1), before, self._logged))

    def _write(self, file: ProjectFile, contents: ProjectContents) -> None:
        """Save, then add the edits made since; edits wait here, so that an overtaken save loses none."""
        file.save(contents)
        while self._edits:
            file.log_edit(*self._edits.popleft())
