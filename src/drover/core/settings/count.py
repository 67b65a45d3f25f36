"""Settings of Count."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator

from drover.core.settings.base import Settings, checked_points, points_from_lists

__all__ = ["CountSettings", "LineSettings"]


MOST_LINES = 200


class LineSettings(Settings):
    """One directed counting line, in fractions of the frame's width and height."""

    name: str = Field(default="Line", min_length=1, max_length=60, description="What the line is called.")
    points: tuple[tuple[float, float], ...] = Field(
        description="Corner points of the line in its direction, in fractions of width and height."
    )
    reference: Literal["foot", "centre"] = Field(
        default="foot", description="Point of the box whose path is counted: its foot or its centre."
    )

    @field_validator("points", mode="before")
    @classmethod
    def _points_from_lists(cls, value: Any) -> Any:
        return points_from_lists(value)

    @field_validator("points")
    @classmethod
    def _points_usable(cls, value: tuple[tuple[float, float], ...]) -> tuple[tuple[float, float], ...]:
        checked_points(value, 2, "a line")
        if all(point == value[0] for point in value):
            raise ValueError("a line needs two different points")
        return value


class CountSettings(Settings):
    """Count: what crosses which line."""

    line: tuple[LineSettings, ...] = Field(default=(), description="The counting lines.")

    @field_validator("line", mode="before")
    @classmethod
    def _lines_from_list(cls, value: Any) -> Any:
        return tuple(value) if isinstance(value, list) else value

    @field_validator("line")
    @classmethod
    def _names_differ(cls, value: tuple[LineSettings, ...]) -> tuple[LineSettings, ...]:
        names = [line.name for line in value]
        double = sorted({name for name in names if names.count(name) > 1})
        if double:
            raise ValueError(f"two lines are called '{double[0]}'; give each its own name")
        if len(value) > MOST_LINES:
            raise ValueError(f"at most {MOST_LINES} lines")
        return value
