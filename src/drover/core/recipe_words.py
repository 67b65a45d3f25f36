"""What is wrong with a recipe, in one plain line: where, what was found, what may stand there."""

from __future__ import annotations

import difflib
from typing import Any

from pydantic import BaseModel, ValidationError

from drover.core.errors import RecipeError
from drover.core.setting_info import LISTED, SettingInfo, numeric_info, setting_info, settings_of
from drover.core.settings.base import is_auto, lowest
from drover.core.settings.whole import Recipe

__all__ = ["first_line", "message_of", "written_as_number"]


def message_of(error: ValidationError) -> str:
    """The first problem that was found, and how many more there are."""
    problems = error.errors(include_url=False)
    first = _one_problem(problems[0])
    more = f" (and {len(problems) - 1} more)" if len(problems) > 1 else ""
    return first + more


def _one_problem(problem: Any) -> str:
    place = [str(part) for part in problem["loc"]]
    name = place[-1] if place else "?"
    folder = ".".join(place[:-1]) or "the recipe"
    got = _short(problem["input"])
    if problem["type"] == "extra_forbidden":
        return f"unknown key '{name}' with value {got} in [{folder}]; {_known_keys(place)}"
    info = _info_at(place)
    if info is not None:
        low, high = _number(info.low, info.whole), _number(info.high, info.whole)
        kind = "a whole number in" if info.whole else "in"
        return f"the '{name}' setting of [{folder}] must be {kind} {low}..{high} {info.unit}; got {got}"
    if problem["type"] == "missing":
        return f"[{folder}] lacks '{name}'; add it"
    reason = problem["msg"].removeprefix("Value error, ")
    return f"the '{name}' setting of [{folder}]: {_lower_first(reason)}; got {got}"


def written_as_number(data: Any) -> str:
    """What is wrong where a file has the number that stands for "auto" in here; empty where it has none."""
    for path, model, name in settings_of():
        value, place = data, path.split(".")
        for part in place:
            value = value.get(part) if isinstance(value, dict) else None
        if lowest(model, name) is not None and is_auto(value):
            return _one_problem({"type": "below", "loc": place, "input": value, "msg": ""})
    return ""


def _known_keys(place: list[str]) -> str:
    listed = [LISTED[part] for part in place[:-1] if part in LISTED]
    model: type[BaseModel] = listed[0] if listed else Recipe
    if model is Recipe:
        for part in place[:-1]:
            kind = model.model_fields[part].annotation if part in model.model_fields else None
            if not (isinstance(kind, type) and issubclass(kind, BaseModel)):
                break
            model = kind
    known = list(model.model_fields)
    close = difflib.get_close_matches(place[-1], known, 1)
    hint = f"did you mean '{close[0]}'? " if close else ""
    ranges = []
    for name in known:
        info = numeric_info(name, model, name)
        ranges.append(f"{name} ({_number(info.low)}..{_number(info.high)} {info.unit})" if info else name)
    return f"{hint}known there: {', '.join(ranges)}"


def _info_at(place: list[str]) -> SettingInfo | None:
    try:
        return setting_info(".".join(place))
    except RecipeError:
        return None


def _number(value: float, whole: bool = False) -> str:
    return f"{value:.0f}" if whole or value == int(value) else f"{value:g}"


def _short(value: Any) -> str:
    text = repr(value).replace("\n", " ")
    return text if len(text) <= 60 else text[:57] + "..."


def first_line(error: BaseException) -> str:
    """The first line of an error, cut to a readable length."""
    return (str(error).splitlines() or [type(error).__name__])[0][:160]


def _lower_first(text: str) -> str:
    return text[:1].lower() + text[1:]
