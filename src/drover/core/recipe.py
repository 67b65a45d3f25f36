"""Every setting of every stage: range, unit, default and one line of help, declared once.

The dials, the command line's messages and the reference page are all made from what stands here. A recipe
is immutable; :func:`with_value` gives a changed copy. In TOML it may be partial: what it leaves out keeps
its default, and comments in the file survive a save.
"""

from __future__ import annotations

import hashlib
import json
import tomllib
from functools import lru_cache
from pathlib import Path
from typing import Any

import tomlkit
from pydantic import BaseModel, ValidationError
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import AoT, Table

from drover.core.errors import RecipeError
from drover.core.recipe_words import first_line, message_of, written_as_number
from drover.core.setting_info import LISTED
from drover.core.settings.base import AUTO, as_float, as_taken, is_auto
from drover.core.settings.camera import CameraSettings
from drover.core.settings.count import CountSettings, GroundSettings, LineSettings, ZoneSettings
from drover.core.settings.detect import (
    BackgroundSettings,
    BodySettings,
    BoxSettings,
    ClassLimit,
    CleanupSettings,
    DetectSettings,
    LightSettings,
    ShadowSettings,
    SizeSettings,
    StillSettings,
    WhereSettings,
)
from drover.core.settings.follow import FollowedSettings, FollowSettings
from drover.core.settings.score import ScoreSettings
from drover.core.settings.track import (
    AfterSettings,
    BlobSettings,
    LifeSettings,
    MatchSettings,
    MotionSettings,
    TrackSettings,
)
from drover.core.settings.whole import Recipe
from drover.core.settings.words import ClassWords, WordSettings

__all__ = [
    "AUTO",
    "AfterSettings",
    "BackgroundSettings",
    "BlobSettings",
    "BodySettings",
    "BoxSettings",
    "CameraSettings",
    "ClassLimit",
    "ClassWords",
    "CleanupSettings",
    "CountSettings",
    "DetectSettings",
    "FollowSettings",
    "FollowedSettings",
    "GroundSettings",
    "LifeSettings",
    "LightSettings",
    "LineSettings",
    "MatchSettings",
    "MotionSettings",
    "ScoreSettings",
    "ShadowSettings",
    "SizeSettings",
    "StillSettings",
    "TrackSettings",
    "WhereSettings",
    "WordSettings",
    "ZoneSettings",
    "as_taken",
    "dump_recipe",
    "is_auto",
    "parse_recipe",
    "read_recipe",
    "settings_fingerprint",
    "value_of",
    "with_value",
]


MOST_TEXT = 1 << 20  # characters of a recipe
MOST_KEPT = 1 << 18  # characters up to which comments and order are kept


def value_of(recipe: Recipe, path: str) -> Any:
    """Value of the setting at a dotted path."""
    value: Any = recipe
    for part in path.split("."):
        value = getattr(value, part)
    return value


def with_value(recipe: Recipe, path: str, value: Any) -> Recipe:
    """A copy of the recipe with one setting changed, validated.

    Raises
    ------
    RecipeError
        When the value is not allowed there.
    """
    data = recipe.model_dump()
    place = data
    *folders, last = path.split(".")
    for part in folders:
        place = place[part]
    place[last] = value
    return _validated(data, "recipe")


def settings_fingerprint(settings: BaseModel | tuple[BaseModel, ...]) -> str:
    """Short stable name of a set of settings: equal settings, equal name."""
    items = settings if isinstance(settings, tuple) else (settings,)
    text = json.dumps([item.model_dump(mode="json") for item in items], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:20]


# --- TOML --------------------------------------------------------------------------------------------------


def parse_recipe(text: str, source: str = "recipe") -> Recipe:
    """Recipe from TOML text; what it leaves out keeps its default.

    Raises
    ------
    RecipeError
        One line naming the source, the key, the value and the range.
    """
    if len(text) > MOST_TEXT:
        raise RecipeError(f"{source}: is longer than a recipe can be ({MOST_TEXT >> 10} thousand characters)")
    try:
        # The standard reader is quick on any text; the one that keeps comments is not, and sees only sound recipes.
        data = tomllib.loads(text.removeprefix("\ufeff"))
    except (ValueError, RecursionError) as error:
        raise RecipeError(f"{source}: not valid TOML: {first_line(error)}; correct the file and try again") from error
    data = _whole_numbers_as_floats(_brought_up_to_date(data), Recipe)
    wrong = written_as_number(data)
    if wrong:
        raise RecipeError(f"{source}: {wrong}")
    return _validated(data, source)


_FORMER_USES = {"motion": ["motion"], "imported": ["boxes"], "both": ["boxes", "motion"]}


def _brought_up_to_date(data: dict[str, Any]) -> dict[str, Any]:
    """What earlier versions wrote, as it is said now.

    ``detect.boxes.use`` has become the list of sources; a threshold without a word on what it is in meant grey levels;
    0 left a number to the clip.
    """
    detect = data.get("detect")
    boxes = detect.get("boxes") if isinstance(detect, dict) else None
    if isinstance(detect, dict) and isinstance(boxes, dict) and boxes.get("use") in _FORMER_USES:
        detect.setdefault("sources", _FORMER_USES[boxes.pop("use")])
    background = detect.get("background") if isinstance(detect, dict) else None
    if isinstance(background, dict) and "threshold" in background and "noise_threshold" not in background:
        background.setdefault("threshold_in", "levels")
    track = data.get("track")
    motion = track.get("motion") if isinstance(track, dict) else None
    for part, name in ((background, "weak_share"), (motion, "jumpiness")):
        if isinstance(part, dict) and part.get(name) == 0 and not isinstance(part[name], bool):
            part[name] = "auto"
    return data


def read_recipe(path: Path) -> Recipe:
    """Recipe from a TOML file.

    Raises
    ------
    RecipeError
        When the file cannot be read or holds a setting that is not allowed.
    """
    try:
        with path.open(encoding="utf-8-sig") as file:
            text = file.read(MOST_TEXT + 1)
    except FileNotFoundError as error:
        raise RecipeError(f"{path}: there is no such recipe file; check the name") from error
    except (OSError, UnicodeDecodeError) as error:
        raise RecipeError(f"{path}: cannot be read as a text file ({first_line(error)})") from error
    return parse_recipe(text, str(path))


def dump_recipe(recipe: Recipe, previous: str = "") -> str:
    """TOML text of a recipe, every setting written out; comments and order of ``previous`` are kept."""
    return _written(recipe.model_dump_json(exclude_none=True), previous)


@lru_cache(maxsize=32)  # what is saved again and again seldom has another recipe
def _written(values: str, previous: str) -> str:
    try:
        document = tomlkit.parse(previous.removeprefix("\ufeff") if len(previous) < MOST_KEPT else "")
    except (TOMLKitError, ValueError):
        document = tomlkit.document()
    _update_table(document, json.loads(values))
    return tomlkit.dumps(document)


def _update_table(table: Any, values: dict[str, Any]) -> None:
    for key, value in values.items():
        if isinstance(value, dict):
            if not isinstance(table.get(key), (Table, dict)):
                table[key] = tomlkit.table(is_super_table=all(isinstance(v, dict) for v in value.values()))
            _update_table(table[key], value)
        elif key in LISTED:
            _update_named(table, key, value)
        elif key not in table or table[key] != value:
            table[key] = value


def _update_named(table: Any, key: str, wanted: list[dict[str, Any]]) -> None:
    """Tables in a list are matched by name, so that the comments of each stay with it."""
    old = table.get(key)
    if old is not None and [dict(item.unwrap()) for item in old] == wanted:
        return
    if old is not None:
        del table[key]
    if not wanted:
        return
    known = {item.get("name"): item for item in old} if isinstance(old, AoT) else {}
    array = tomlkit.aot()
    for values in wanted:
        item = known.get(values["name"], tomlkit.table())
        for name, value in values.items():
            if name not in item or item[name] != value:
                item[name] = value
        array.append(item)
    table[key] = array


def _whole_numbers_as_floats(data: Any, model: type[BaseModel]) -> Any:
    """TOML writes 3 for 3.0; settings are strict about kinds, so whole numbers are widened where floats belong."""
    if not isinstance(data, dict):
        return data
    out = {}
    for key, value in data.items():
        field = model.model_fields.get(key)
        kind = field.annotation if field else None
        if isinstance(kind, type) and issubclass(kind, BaseModel):
            out[key] = _whole_numbers_as_floats(value, kind)
        elif key in LISTED and isinstance(value, list):
            out[key] = [_whole_numbers_as_floats(item, LISTED[key]) for item in value]
        else:
            out[key] = as_float(value) if kind is float else value
    return out


# --- messages ----------------------------------------------------------------------------------------------


def _validated(data: Any, source: str) -> Recipe:
    try:
        return Recipe.model_validate(data)
    except ValidationError as error:
        raise RecipeError(f"{source}: {message_of(error)}") from error
