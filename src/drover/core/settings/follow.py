"""Settings of things that are followed by their look."""

from __future__ import annotations

from typing import Any

from pydantic import Field, field_validator

from drover.core.settings.base import Settings, as_float, dial

__all__ = ["FollowSettings", "FollowedSettings"]

MOST_THINGS = 20


class FollowedSettings(Settings):
    """One thing to follow: a box drawn round it at a moment, or a picture of it."""

    name: str = Field(default="Thing", min_length=1, max_length=60, description="What it is called.")
    time: float = dial(0.0, 0.0, 1e7, "s", "When the box was drawn round it.", 0.04)
    box: tuple[float, float, float, float] = Field(
        default=(0.0, 0.0, 0.0, 0.0), description="The box: x1, y1, x2, y2 in fractions of the frame."
    )
    picture: str = Field(
        default="", max_length=1000, description="A picture of it, a file; then no box is needed and it is looked for."
    )

    @field_validator("box", mode="before")
    @classmethod
    def _box_from_list(cls, value: Any) -> Any:
        return tuple(as_float(v) for v in value) if isinstance(value, (list, tuple)) else value


class FollowSettings(Settings):
    """Things that are followed by their look, each an identity of its own."""

    thing: tuple[FollowedSettings, ...] = Field(
        default=(), max_length=MOST_THINGS, description="The things that are followed."
    )

    @field_validator("thing")
    @classmethod
    def _names_differ(cls, value: tuple[FollowedSettings, ...]) -> tuple[FollowedSettings, ...]:
        names = [thing.name for thing in value]
        double = sorted({name for name in names if names.count(name) > 1})
        if double:
            raise ValueError(f"two things are called '{double[0]}'; give each its own name")
        return value
