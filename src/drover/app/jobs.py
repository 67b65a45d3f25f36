"""Work off the interface thread: one thread a job, the latest request wins, the one before is told to stop."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from drover.core.errors import Cancelled, DroverError

__all__ = ["LatestJob", "Work"]

Work = Callable[[Callable[[], bool]], Any]


class LatestJob(QObject):
    """Runs the newest piece of work given to it, on a thread of its own.

    ``done`` carries the result of a piece that was still the newest when it ended, ``failed`` one plain line.
    Pieces that were overtaken report nothing.
    """

    done = Signal(object)
    failed = Signal(str)
    _finished = Signal(int, object, str)

    def __init__(self, name: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._ready = threading.Condition()
        self._next: tuple[int, Work] | None = None
        self._ticket = 0
        self._reported = 0
        self._closed = False
        self._finished.connect(self._report)
        self._thread = threading.Thread(target=self._loop, name=f"drover-{name}", daemon=True)
        self._thread.start()

    @property
    def busy(self) -> bool:
        """Whether the newest piece of work has not reported yet."""
        return self._reported < self._ticket

    def submit(self, work: Work) -> int:
        """Do this next, and tell what runs now to stop; ``work`` gets a function that says whether to stop."""
        with self._ready:
            self._ticket += 1
            self._next = (self._ticket, work)
            self._ready.notify()
            return self._ticket

    def cancel(self) -> None:
        """Stop what runs and forget what waits; nothing will be reported."""
        with self._ready:
            self._ticket += 1
            self._reported = self._ticket
            self._next = None

    def close(self) -> None:
        """End the thread; waits for the running piece to notice."""
        self.cancel()
        with self._ready:
            self._closed = True
            self._ready.notify()
        self._thread.join(timeout=10)

    def _loop(self) -> None:
        while True:
            with self._ready:
                while self._next is None and not self._closed:
                    self._ready.wait()
                if self._closed:
                    return
                assert self._next is not None
                ticket, work = self._next
                self._next = None
            result, fault = None, ""
            try:
                result = work(lambda ticket=ticket: ticket != self._ticket)
            except Cancelled:
                continue
            except DroverError as error:
                fault = str(error)
            except Exception as error:  # noqa: BLE001 - the window must outlive any fault, and say it
                fault = f"something went wrong inside Drover ({type(error).__name__}: {error}); please report it"
            if not self._closed:
                self._finished.emit(ticket, result, fault)

    def _report(self, ticket: int, result: object, fault: str) -> None:
        if ticket != self._ticket:
            return
        self._reported = ticket
        if fault:
            self.failed.emit(fault)
        else:
            self.done.emit(result)
