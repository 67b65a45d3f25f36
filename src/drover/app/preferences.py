"""What the program remembers of its user: theme, sizes, recent sources. Losing it loses no work."""

from __future__ import annotations

import json
import os
from contextlib import suppress
from pathlib import Path
from typing import Literal

import platformdirs
from pydantic import BaseModel, ConfigDict, Field, ValidationError

__all__ = ["Preferences", "change_preferences", "note_recent", "preferences"]

MOST_RECENT = 12
MOST_BYTES = 200_000


class Preferences(BaseModel):
    """Kept in ``preferences.json`` in the user's folder of settings; what is not understood there is left out."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    theme: Literal["light", "dark"] = "light"
    recent: tuple[str, ...] = Field(default=(), max_length=MOST_RECENT)
    live_folder: str = ""
    geometry: str = Field(default="", max_length=10_000)
    lanes: tuple[int, ...] = Field(default=(), max_length=4)


def _place() -> Path:
    return Path(platformdirs.user_config_dir("drover")) / "preferences.json"


def preferences() -> Preferences:
    """The preferences as they are on disk; the usual ones where there are none or they cannot be read."""
    try:
        if _place().stat().st_size > MOST_BYTES:
            return Preferences()
        return Preferences.model_validate(json.loads(_place().read_text(encoding="utf-8")))
    except (OSError, ValueError, ValidationError, RecursionError):
        return Preferences()


def change_preferences(**changes: object) -> Preferences:
    """Keep some other preferences from now on; where they cannot be written, that is no reason to stop work."""
    after = Preferences.model_validate({**preferences().model_dump(), **changes})
    place = _place()
    draft = place.with_name(f".{place.name}.{os.getpid()}")
    with suppress(OSError):
        place.parent.mkdir(parents=True, exist_ok=True)
        draft.write_text(after.model_dump_json(indent=2) + "\n", encoding="utf-8")
        draft.replace(place)
    return after


def note_recent(text: str) -> None:
    """Remember a source as the one used last."""
    if text:
        before = [one for one in preferences().recent if one != text]
        change_preferences(recent=(text, *before)[:MOST_RECENT])
