"""What all settings have in common: strict, frozen, each number with its range, unit, step and one line of help."""

from __future__ import annotations

import math
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

__all__ = [
    "MOST_POINTS",
    "Points",
    "Settings",
    "as_float",
    "checked_points",
    "checked_polygons",
    "dial",
    "points_from_lists",
    "polygons_from_lists",
]

MOST_POINTS = 200
Points = tuple[tuple[float, float], ...]


class Settings(BaseModel):
    """Settings of one subject."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, strict=True)


def dial(default: Any, low: float, high: float, unit: str, help_text: str, step: float) -> Any:
    """A number that can be set: its default, range, unit, one line of help, and the step of its keys."""
    return Field(default, ge=low, le=high, description=help_text, json_schema_extra={"unit": unit, "step": step})


def as_float(value: Any) -> Any:
    """TOML and JSON write 3 for 3.0: whole numbers are widened where floats belong."""
    return float(value) if isinstance(value, int) and not isinstance(value, bool) else value


def points_from_lists(value: Any) -> Any:
    """Lists of two numbers, as files hold them, as a tuple of pairs; anything else is left for the check to refuse."""
    if isinstance(value, (list, tuple)):
        return tuple(
            tuple(as_float(v) for v in point) if isinstance(point, (list, tuple)) else point for point in value
        )
    return value


def polygons_from_lists(value: Any) -> Any:
    """The same for a list of polygons."""
    return tuple(points_from_lists(polygon) for polygon in value) if isinstance(value, (list, tuple)) else value


def checked_polygons(value: tuple[Points, ...]) -> tuple[Points, ...]:
    """The corners of polygons, each checked as :func:`checked_points` does."""
    for polygon in value:
        checked_points(polygon, 3, "a polygon")
    return value


def checked_points(value: Points, least: int, what: str) -> Points:
    """The points of a line or polygon, in fractions of the frame.

    Raises
    ------
    ValueError
        When there are too few or too many, or one is far outside the frame.
    """
    if not least <= len(value) <= MOST_POINTS:
        raise ValueError(f"{what} needs {least}..{MOST_POINTS} points")
    for x, y in value:
        if not (math.isfinite(x) and math.isfinite(y) and -1 <= x <= 2 and -1 <= y <= 2):
            raise ValueError("points are fractions of the frame and must be in -1..2")
    return value
