"""Brings events to a receiver one after another, until each was taken."""

from __future__ import annotations

import json
import threading
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from drover.core.live_session.carriers import ANSWER_WITHIN, carrier_of
from drover.core.live_session.outbox import EVENTS
from drover.core.settings.send import ReceiverSettings

__all__ = ["Courier", "Delivery"]

KINDS = {"crossing": "crossings", "stay": "stays", "alarm": "alarms", "totals": "totals"}
BACK_OFF = (0.5, 1.0, 2.0, 5.0, 10.0, 30.0)  # s before each new try, the last one for all further
LOOK_EVERY = 0.2  # s


@dataclass(frozen=True)
class Delivery:
    """How far a receiver is: events taken, bytes that wait, and what went wrong last."""

    name: str
    taken: int
    waiting: int
    trouble: str


class Courier:
    """Brings the events of a folder to one receiver, on a thread of its own, and remembers how far it is.

    What was not taken stays, in order, and is tried again with pauses that grow; another courier of the same
    folder and receiver goes on where this one was.
    """

    def __init__(self, folder: Path, receiver: ReceiverSettings, *, patience: tuple[float, ...] = BACK_OFF) -> None:
        self._receiver, self._patience, self._carrier = receiver, patience, carrier_of(receiver)
        self._events = folder / EVENTS
        plain = "".join(c if c.isalnum() else "-" for c in receiver.name)
        self._mark = folder / f".sent-{plain}"
        self._place, self._taken, self._trouble = self._remembered(), 0, ""
        self._stop, self._ending = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._work, name="drover-courier", daemon=True)
        self._thread.start()

    @property
    def delivery(self) -> Delivery:
        """How far it is."""
        size = self._events.stat().st_size if self._events.exists() else 0
        return Delivery(self._receiver.name, self._taken, size - self._place, self._trouble)

    @property
    def ended(self) -> bool:
        """Whether it has brought all that there was when it was told to end."""
        return not self._thread.is_alive()

    def bring(self, patience: float) -> None:
        """Bring what is there by now, for ``patience`` s at most."""
        self._ending.set()
        self._thread.join(patience)

    def close(self, patience: float = 0.0) -> Delivery:
        """End; what is there by now is still brought, for ``patience`` s at most."""
        self.bring(patience)
        self._stop.set()
        self._thread.join(ANSWER_WITHIN + 1)
        self._carrier.close()
        return self.delivery

    def _work(self) -> None:
        tries = 0
        with suppress(FileNotFoundError), self._events.open("rb") as file:
            while not self._stop.is_set():
                file.seek(self._place)
                line = file.readline()
                if not line.endswith(b"\n"):
                    if self._ending.is_set() or self._stop.wait(LOOK_EVERY):
                        return
                    continue
                if self._brought(line):
                    tries = 0
                    self._place += len(line)
                    self._remember()
                elif self._stop.wait(self._patience[min(tries, len(self._patience) - 1)]):
                    return
                else:
                    tries += 1

    def _brought(self, line: bytes) -> bool:
        """Whether an event was taken, or is none that this receiver wants."""
        try:
            event = json.loads(line)
        except ValueError:
            return True  # a line cut by a kill
        if not isinstance(event, dict):
            return True  # none of ours
        if KINDS.get(str(event.get("kind"))) not in self._receiver.what:
            return True
        self._trouble = self._carrier.carry(event, line)
        if self._trouble:
            return False
        self._taken += 1
        return True

    def _remembered(self) -> int:
        try:
            place = int(self._mark.read_text()[:20])
            return place if 0 <= place <= self._events.stat().st_size else 0
        except (OSError, ValueError):
            return 0

    def _remember(self) -> None:
        with suppress(OSError):
            draft = self._mark.with_name(self._mark.name + ".draft")
            draft.write_text(str(self._place))
            draft.replace(self._mark)
