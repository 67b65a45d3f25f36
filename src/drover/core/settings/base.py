"""What all settings have in common: strict, frozen, each number with its range, unit, step and one line of help."""

from __future__ import annotations

import math
from typing import Any, TypeVar

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    SerializationInfo,
    ValidationInfo,
    field_validator,
    model_serializer,
    model_validator,
)

__all__ = [
    "AUTO",
    "MOST_POINTS",
    "Points",
    "Settings",
    "as_float",
    "as_taken",
    "checked_points",
    "checked_polygons",
    "dial",
    "is_auto",
    "lowest",
    "points_from_lists",
    "polygons_from_lists",
]

AUTO = -1.0  # a number that is left to the clip; files say "auto"
MOST_POINTS = 200
Points = tuple[tuple[float, float], ...]
S = TypeVar("S", bound=BaseModel)


class Settings(BaseModel):
    """Settings of one subject. Numbers that may be left to the clip are ``AUTO`` here and "auto" in files."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, strict=True, defer_build=True)

    @model_validator(mode="before")
    @classmethod
    def _as_kept(cls, data: Any) -> Any:
        if not isinstance(data, dict):
            return data
        return {name: _read(cls, name, value) for name, value in data.items()}

    @field_validator("*")
    @classmethod
    def _not_below_the_least(cls, value: Any, info: ValidationInfo) -> Any:
        low = lowest(cls, info.field_name or "")
        if low is not None and not is_auto(value) and value < low:
            raise ValueError(f'must be at least {low:g}, or "auto"')
        return value

    @model_serializer(mode="wrap")
    def _auto_as_text(self, handler: Any, info: SerializationInfo) -> dict[str, Any]:
        data = handler(self)
        if info.mode != "json":
            return data
        return {name: "auto" if lowest(type(self), name) is not None and is_auto(v) else v for name, v in data.items()}


def is_auto(value: object) -> bool:
    """Whether a number is left to the clip."""
    return isinstance(value, (int, float)) and not isinstance(value, bool) and value == AUTO


def as_taken(settings: S, taken: S) -> S:
    """Settings with every number that is left to the clip as it was ``taken``, in all that they hold."""
    told: dict[str, Any] = {}
    for name in type(settings).model_fields:
        value = getattr(settings, name)
        if isinstance(value, BaseModel):
            made = as_taken(value, getattr(taken, name))
            told |= {} if made is value else {name: made}
        elif lowest(type(settings), name) is not None and is_auto(value):
            told[name] = getattr(taken, name)
    return settings.model_copy(update=told) if told else settings


def _read(model: type[BaseModel], name: str, value: Any) -> Any:
    """A value as a file holds it, as the model keeps it: settings cannot be changed, so what files list is a tuple."""
    if isinstance(value, list):
        return tuple(value)
    if lowest(model, name) is None or not (is_auto(value) or (isinstance(value, str) and value == "auto")):
        return value
    return int(AUTO) if model.model_fields[name].annotation is int else AUTO


def lowest(model: type[BaseModel], name: str) -> float | None:
    """The least value beside ``AUTO`` of a number that may be on auto; None for every other setting."""
    field = model.model_fields.get(name)
    extra = field.json_schema_extra if field else None
    return float(extra["low"]) if isinstance(extra, dict) and "low" in extra else None  # type: ignore[arg-type]


def dial(default: Any, low: float, high: float, unit: str, help_text: str, step: float, *, auto: bool = False) -> Any:
    """A number that can be set: its default, range, unit, one line of help, and the step of its keys.

    With ``auto`` it may be left to the clip as well, as ``AUTO``.
    """
    extra: dict[str, Any] = {"unit": unit, "step": step}
    if not auto:
        return Field(default, ge=low, le=high, description=help_text, json_schema_extra=extra)
    return Field(default, ge=AUTO, le=high, description=help_text, json_schema_extra={**extra, "low": low})


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


def checked_points(value: Points, least: int, what: str, *, beyond: float = 1.0) -> Points:
    """The points of a line or polygon, in fractions of the frame; at most ``beyond`` frames outside of it.

    Raises
    ------
    ValueError
        When there are too few or too many, or one is far outside the frame.
    """
    if not least <= len(value) <= MOST_POINTS:
        raise ValueError(f"{what} needs {least}..{MOST_POINTS} points")
    for x, y in value:
        if not (math.isfinite(x) and math.isfinite(y) and -beyond <= min(x, y) and max(x, y) <= 1 + beyond):
            raise ValueError(f"points are fractions of the frame and must be in {-beyond:g}..{1 + beyond:g}")
    return value
