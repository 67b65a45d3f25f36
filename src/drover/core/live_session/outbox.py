"""Events for others, kept on disk in order."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import IO, Any

from drover.core.errors import DroverError
from drover.core.settings.send import ReceiverSettings

__all__ = ["EVENTS", "Outbox", "token_of"]

EVENTS = "events.jsonl"


class Outbox:
    """The file of all events of a run, one a line; written through at once.

    Raises
    ------
    OSError
    """

    def __init__(self, folder: Path, run: str) -> None:
        self._run, self._number = run, 0
        (folder / EVENTS).touch(exist_ok=False)
        self._file: IO[str] = (folder / EVENTS).open("a", encoding="utf-8")

    def add(self, events: list[dict[str, Any]]) -> None:
        """Append events; each gets an id of its own, so that one that comes twice can be told."""
        for event in events:
            self._number += 1
            self._file.write(json.dumps({"id": f"{self._run}-{self._number}", **event}) + "\n")
        if events:
            self._file.flush()
            os.fsync(self._file.fileno())

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()


def token_of(receiver: ReceiverSettings) -> str:
    """The receiver's access token, empty where it needs none; it never gets into a recipe, a log or a message.

    Raises
    ------
    DroverError
        When it is named but not there.
    """
    if receiver.password_env:
        token = os.environ.get(receiver.password_env, "")
        if not token:
            raise DroverError(
                f"receiver {receiver.name}: the variable {receiver.password_env} is not set; set it first"
            )
        return token.strip()
    if receiver.password_file:
        try:
            return Path(receiver.password_file).expanduser().read_text(encoding="utf-8")[:10_000].strip()
        except (OSError, UnicodeDecodeError) as error:
            raise DroverError(f"receiver {receiver.name}: {receiver.password_file} cannot be read") from error
    return ""
