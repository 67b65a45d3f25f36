"""What a setting is: its range, unit, default and help, looked up by its dotted path."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from pydantic import BaseModel

from drover.core.errors import RecipeError
from drover.core.settings.base import is_auto, lowest
from drover.core.settings.count import LineSettings, ZoneSettings
from drover.core.settings.detect import ClassLimit
from drover.core.settings.follow import FollowedSettings
from drover.core.settings.send import ReceiverSettings
from drover.core.settings.whole import Recipe
from drover.core.settings.words import ClassWords

__all__ = [
    "LISTED",
    "SettingInfo",
    "item_info",
    "numeric_info",
    "setting_help",
    "setting_info",
    "settings_of",
    "taken_words",
    "value_below",
]

LISTED: dict[str, type[BaseModel]] = {
    "line": LineSettings, "zone": ZoneSettings, "class_limit": ClassLimit, "class_words": ClassWords,
    "receiver": ReceiverSettings, "thing": FollowedSettings,
}  # fmt: skip


@dataclass(frozen=True)
class SettingInfo:
    """One numeric setting as a dial needs it; ``path`` is dotted, for instance ``track.match.gate``.

    With ``auto`` it may be left to the clip: then it is ``AUTO``, which lies outside of ``low`` to ``high``.
    """

    path: str
    low: float
    high: float
    default: float
    unit: str
    step: float
    help: str
    whole: bool
    auto: bool = False


def numeric_info(path: str, model: type[BaseModel], name: str) -> SettingInfo | None:
    """A setting as a dial needs it; None where it is not a number."""
    field = model.model_fields[name]
    extra = field.json_schema_extra
    if not isinstance(extra, dict) or "unit" not in extra:
        return None
    low = lowest(model, name)
    bounds = {type(meta).__name__: meta for meta in field.metadata}
    return SettingInfo(
        path=path,
        low=float(getattr(bounds["Ge"], "ge")) if low is None else low,  # noqa: B009 - a type private to its library
        high=float(getattr(bounds["Le"], "le")),  # noqa: B009
        default=float(field.default),
        unit=str(extra["unit"]),
        step=float(extra["step"]),  # type: ignore[arg-type]
        help=field.description or "",
        whole=field.annotation is int,
        auto=low is not None,
    )


def settings_of(model: type[BaseModel] = Recipe, prefix: str = "") -> Iterator[tuple[str, type[BaseModel], str]]:
    """Every setting below a model as (dotted path, the model that holds it, its name there)."""
    for name, field in model.model_fields.items():
        path = f"{prefix}.{name}" if prefix else name
        kind = field.annotation
        if isinstance(kind, type) and issubclass(kind, BaseModel):
            yield from settings_of(kind, path)
        else:
            yield path, model, name


def item_info(model: type[BaseModel], name: str) -> SettingInfo:
    """The same for a number of one line or zone.

    Raises
    ------
    RecipeError
        When there is no such number.
    """
    info = numeric_info(name, model, name)
    if info is None:
        raise RecipeError(f"there is no numeric setting '{name}'")
    return info


def setting_info(path: str) -> SettingInfo:
    """Range, unit, default and help of a numeric setting.

    Raises
    ------
    RecipeError
        When there is no numeric setting of that path.
    """
    for candidate, model, name in settings_of():
        if candidate == path:
            info = numeric_info(path, model, name)
            if info is not None:
                return info
    raise RecipeError(f"there is no numeric setting '{path}'")


def taken_words(wanted: BaseModel, taken: BaseModel) -> str:
    """Of all that settings leave to the clip, each with the number that was taken, in words."""
    told = []
    for path, model, name in settings_of(type(wanted)):
        info = numeric_info(path, model, name)
        if info is not None and info.auto and is_auto(value_below(wanted, path)):
            told.append(f"{name.replace('_', ' ')} {value_below(taken, path):g} {info.unit}")
    return ", ".join(told)


def value_below(settings: BaseModel, path: str) -> float:
    """A number by its dotted path below some settings."""
    value: object = settings
    for name in path.split("."):
        value = getattr(value, name)
    return float(value)  # type: ignore[arg-type]


def setting_help(path: str) -> str:
    """One line of help for any setting; empty when there is no such setting."""
    for candidate, model, name in settings_of():
        if candidate == path:
            return model.model_fields[name].description or ""
    return ""
