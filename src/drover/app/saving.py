"""Saving on a clock of its own: whatever the user does, what is on disk is at most a second behind.

Work without a name has a file of its own in the state folder, one for each window, and is offered at the next start.
What could not be saved is said until it could, and tried again and again.
"""

from __future__ import annotations

import contextlib
import uuid
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import platformdirs
from PySide6.QtCore import QObject, QTimer, Signal

from drover.app.opening import Opened
from drover.app.session import Session
from drover.app.view_state import numbers_text
from drover.core.document import Document
from drover.core.errors import DroverError
from drover.core.project.file import ProjectFile
from drover.core.project.lock import ProjectLock, is_open_somewhere

__all__ = ["Saving", "unnamed_folder", "unnamed_work"]

EVERY = 200  # ms between two looks at whether something has changed
AGAIN = 10  # looks between two tries where saving failed


def unnamed_folder() -> Path:
    """Where work without a name is kept."""
    return Path(platformdirs.user_state_dir("drover")) / "unnamed"


def unnamed_work() -> list[Path]:
    """Work without a name that no window has open, the newest first."""
    former = Path(platformdirs.user_state_dir("drover")) / "unsaved.drover"
    found = [*unnamed_folder().glob("*.drover"), *([former] if former.exists() else [])]
    left = [path for path in found if not is_open_somewhere(path)]
    return sorted(left, key=lambda path: path.stat().st_mtime, reverse=True)


@dataclass(frozen=True)
class _Wrote:
    """A document and the file it is in now; ``former`` is the file it was in before it got a name, with a new lock."""

    document: Document
    file: ProjectFile
    former: ProjectFile | None = None
    lock: ProjectLock | None = None


class Saving(QObject):
    """Writes the window's document to its file, on a thread of its own.

    ``fault`` is why the last try failed, empty when it did not; ``changed`` tells of it and of every save.
    """

    changed = Signal()
    named = Signal(object)
    _done = Signal(object, str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self.path: Path | None = None  # the user's own file; None for work without a name
        self.fault = ""
        self.closed = False
        self._file: ProjectFile | None = None
        self._lock: ProjectLock | None = None
        self._saved: Document | None = None  # what the file holds
        self._writing = False
        self._wait = 0
        self._worker = ThreadPoolExecutor(1, thread_name_prefix="drover-save")
        self._newest: tuple[Document, dict[str, str]] | None = None
        self._moved: dict[ProjectFile, tuple[ProjectFile, ProjectLock | None]] = {}  # for the worker: where files went
        self._clock = QTimer(self)
        self._clock.timeout.connect(self._look)
        self._clock.start(EVERY)
        self._done.connect(self._on_done)
        session.opened.connect(self._on_opened)
        session.documents.replaced.connect(self._note)

    @property
    def busy(self) -> bool:
        """Whether something is not on disk yet."""
        return self._writing or self._due

    @property
    def _due(self) -> bool:
        return self.session.document is not None and self.session.document is not self._saved

    @property
    def place(self) -> Path | None:
        """The file that is written to, named or not."""
        return self._file.path if self._file is not None else None

    def lock_of(self, path: Path) -> ProjectLock | None:
        """The lock on a project that this window holds; None where it does not."""
        return self._lock if self.place is not None and self.place.resolve() == path.resolve() else None

    def flush(self) -> Future:
        """Write what is left soon; the future is done when it was tried."""
        self._look(now=True)
        return self._worker.submit(lambda: None)

    # --- which file -------------------------------------------------------------------------------------------

    def _on_opened(self, opened: Opened) -> None:
        """Finish with the document before, in its own file; go on in that of the new one."""
        self._look(now=True)
        before = self._lock
        if before is not None and before is not opened.lock:
            self._worker.submit(before.release)
        self._wait, self.fault = 0, ""
        if opened.file is not None:
            unnamed = opened.file.path.parent == unnamed_folder() or opened.file.path.name == "unsaved.drover"
            self.path = None if unnamed else opened.file.path
            self._file, self._lock = opened.file, opened.lock
            self._saved = opened.document
        else:
            self.path = None
            place = unnamed_folder() / f"{uuid.uuid4().hex}.drover"
            self._file, self._saved = ProjectFile(place), None
            self._lock = ProjectLock(place)
        self._newest = None
        self.changed.emit()

    def save_as(self, path: Path) -> None:
        """Keep the document under a name from now on; what is there under it stays until the new file is whole."""
        document, file = self.session.document, self._file
        if document is None or file is None:
            return
        try:
            lock = self._lock if path == self.path else ProjectLock(path)
        except DroverError as error:
            self.session.message_raised.emit(str(error))
            return
        self._look(now=True)
        view, former, was_unnamed = self._view(), self._lock, self.path is None

        def work() -> None:
            try:
                made = file.save_as(path, document, view)
            except DroverError as error:
                if lock is not None and lock is not former:
                    lock.release()
                self._done.emit(None, str(error))
                return
            self._moved[file] = made, lock
            if lock is not former and former is not None:
                former.release()
            if was_unnamed and file.path != path:
                with contextlib.suppress(OSError):
                    file.path.unlink(missing_ok=True)
            self._done.emit(_Wrote(document, made, file, lock), "")

        self._writing = True
        self._worker.submit(work)

    # --- writing ----------------------------------------------------------------------------------------------

    def _view(self) -> dict[str, str]:
        view = self.session.view
        said = {"frame": str(view.frame + 1)}
        for key, some in (("hidden", view.hidden), ("only", view.only)):
            if some:
                said[key] = numbers_text(some)
        return said

    def _note(self, before: object, after: Document) -> None:
        """A result being written in pieces asks for what has changed meanwhile."""
        del before
        self._newest = after, self._view()

    def _look(self, *, now: bool = False) -> None:
        """Write if something has changed."""
        document, file = self.session.document, self._file
        if document is None or file is None or not self._due or (self._writing and not now):
            return
        if self._wait and not now:
            self._wait -= 1
            return
        edits, view = self.session.documents.take_edits(), self._view()
        self._newest, self._writing = None, True
        self._worker.submit(self._write, file, document, view, edits)

    def _now_at(self, file: ProjectFile) -> ProjectFile:
        """Where a file went that got another name meanwhile; asked by the worker, which did it."""
        while file in self._moved:
            file = self._moved[file][0]
        return file

    def _write(self, file: ProjectFile, document: Document, view: dict[str, str], edits: list) -> None:
        held, file = document, self._now_at(file)

        def newer() -> object:
            nonlocal held
            newest, self._newest = self._newest, None
            if newest is None or newest[0].clip is not document.clip:
                return None
            held = newest[0]
            return newest[0], newest[1], []

        try:
            file.save(document, view, edits=edits, newer=newer)  # type: ignore[arg-type]
        except DroverError as error:
            self.session.documents.give_back(edits)
            self._done.emit(None, str(error))
        except Exception as error:  # noqa: BLE001 - the window must outlive any fault, and say it
            self.session.documents.give_back(edits)
            self._done.emit(None, f"saving went wrong ({type(error).__name__}: {error}); please report it")
        else:
            self._done.emit(_Wrote(document, file), "")

    def _on_done(self, wrote: _Wrote | None, fault: str) -> None:
        self._writing = False
        if wrote is None:
            if fault != self.fault:
                self.session.message_raised.emit(f"not saved: {fault}")
            self.fault, self._wait = fault, AGAIN
        else:
            if self._file is not (wrote.former or wrote.file):
                if wrote.lock is not None:
                    wrote.lock.release()
                self.changed.emit()
                return  # the last of what was open before: it says nothing of what is open now
            self.fault, self._wait = "", 0
            self._saved = wrote.document
            if wrote.former is not None:
                self._file, self._lock, self.path = wrote.file, wrote.lock, wrote.file.path
                self.named.emit(wrote.file.path)
        self.changed.emit()

    # --- the end ----------------------------------------------------------------------------------------------

    def finish(self) -> str:
        """Write what is left and wait for it; why it could not be, empty when it was."""
        document, file = self.session.document, self._file
        if document is None or file is None:
            return ""
        edits, view = self.session.documents.take_edits(), self._view()

        def last() -> str:
            try:
                self._now_at(file).save(document, view, edits=edits)
            except DroverError as error:
                self.session.documents.give_back(edits)
                return str(error)
            return ""

        self.fault = self._worker.submit(last).result()
        self._saved = self._saved if self.fault else document
        return self.fault

    def close(self) -> None:
        """End the thread and let others open the project."""
        self.closed = True
        self._clock.stop()
        self._worker.shutdown(wait=True)
        for lock in (self._lock, *(lock for _, lock in self._moved.values())):
            if lock is not None:
                lock.release()
        self._lock = None
