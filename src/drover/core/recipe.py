"""Every setting of every stage: range, unit, default and one line of help, declared once.

The dials, the command line's messages and the reference page are all made from what stands here. A recipe
is immutable; :func:`with_value` gives a changed copy. In TOML it may be partial: what it leaves out keeps
its default, and comments in the file survive a save.
"""

from __future__ import annotations

import difflib
import hashlib
import json
import math
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import tomlkit
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import AoT, Table

from drover.core.errors import RecipeError

__all__ = [
    "BackgroundSettings",
    "CleanupSettings",
    "CountSettings",
    "DetectSettings",
    "LifeSettings",
    "LightSettings",
    "LineSettings",
    "MatchSettings",
    "MotionSettings",
    "Recipe",
    "ScoreSettings",
    "SettingInfo",
    "ShadowSettings",
    "SizeSettings",
    "StillSettings",
    "TrackSettings",
    "WhereSettings",
    "dump_recipe",
    "parse_recipe",
    "read_recipe",
    "setting_help",
    "setting_info",
    "settings_fingerprint",
    "settings_of",
    "value_of",
    "with_value",
]

MOST_LINES = 200
MOST_POINTS = 200


class _Settings(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, strict=True)


def _dial(default: Any, low: float, high: float, unit: str, help_text: str, step: float) -> Any:
    return Field(default, ge=low, le=high, description=help_text, json_schema_extra={"unit": unit, "step": step})


class BackgroundSettings(_Settings):
    """The picture of the empty scene, and how far from it a pixel must be to count as moving."""

    model: Literal["running-average", "running-median", "mixture", "frame-difference", "three-frame-difference"] = (
        Field(
            default="running-average",
            description="How the picture of the empty scene is kept: running-average, running-median, mixture, "
            "frame-difference or three-frame-difference.",
        )
    )
    components: int = _dial(
        3, 1, 5, "most", "Mixture: how many faces a pixel may have, as swaying grass has. More costs time.", 1
    )
    rate: float = _dial(
        0.8,
        0.0,
        10.0,
        "1/s",
        "How fast the background takes on the new picture. Higher follows light faster.",
        0.05,
    )
    busy_share: float = _dial(
        0.02,
        0.0,
        1.0,
        "× rate",
        "Share of the rate where something moves. Lower keeps an animal that stands still for longer.",
        0.01,
    )
    warm_up: float = _dial(1.0, 0.0, 60.0, "s", "Time spent learning the empty scene before anything is detected.", 0.1)
    threshold: float = _dial(16.0, 1.0, 255.0, "levels", "Difference from the background that counts as moving.", 1.0)
    threshold_in: Literal["levels", "noise"] = Field(
        default="levels", description="Whether the threshold is in grey levels or in multiples of each pixel's noise."
    )
    noise_threshold: float = _dial(
        6.0, 1.0, 30.0, "σ", "Difference that counts as moving, in multiples of the pixel's own noise.", 0.25
    )


class LightSettings(_Settings):
    """Light that changes over the whole picture or drifts across it."""

    follow: bool = Field(default=True, description="Bring each picture to the background's light before comparing.")
    jump: float = _dial(
        0.05, 0.01, 1.0, "fraction", "Change of the whole picture's brightness within a frame that is reported.", 0.01
    )


class ShadowSettings(_Settings):
    """Shadows that animals cast."""

    mode: Literal["off", "drop", "keep"] = Field(
        default="drop", description="off: not looked for; drop: cut from the mask; keep: shown but left in the mask."
    )
    darkest: float = _dial(0.5, 0.05, 1.0, "fraction", "A shadow leaves at least this share of the light.", 0.01)
    lightest: float = _dial(0.9, 0.1, 1.0, "fraction", "A shadow leaves at most this share of the light.", 0.01)
    colour_change: float = _dial(
        6.0, 0.5, 100.0, "levels", "How far a shadow may shift the ground's colour. Higher finds more shadow.", 0.5
    )


class StillSettings(_Settings):
    """Things that stop."""

    keep_for: float = _dial(
        30.0, 0.5, 3600.0, "s", "How long a thing that stands stays a detection before it joins the background.", 1.0
    )
    drop_ghosts: bool = Field(
        default=True, description="Drop the ghost that stays behind when a thing leaves that was there at the start."
    )


class CleanupSettings(_Settings):
    """Repair of the moving mask before blobs are cut from it."""

    opening: int = _dial(2, 0, 31, "px", "Removes specks thinner than this. 0 leaves the mask as it is.", 1)
    closing: int = _dial(3, 0, 61, "px", "Bridges cracks narrower than this. Too much joins neighbours.", 1)
    fill_holes: int = _dial(400, 0, 100000, "px", "Holes in a blob up to this many pixels are filled.", 20)


class SizeSettings(_Settings):
    """The sizes of blobs that are kept, and the joining of fragments.

    With a near and a far box of one animal all limits follow the distance between them; the numbers then hold
    at the near box.
    """

    least_width: float = _dial(9.0, 0.0, 4000.0, "px", "Blobs narrower than this are dropped.", 1.0)
    least_height: float = _dial(9.0, 0.0, 4000.0, "px", "Blobs lower than this are dropped.", 1.0)
    least_area: float = _dial(110.0, 0.0, 1e7, "px", "Blobs with fewer pixels than this are dropped.", 10.0)
    most_width: float = _dial(4000.0, 1.0, 1e5, "px", "Blobs wider than this are dropped.", 1.0)
    most_height: float = _dial(4000.0, 1.0, 1e5, "px", "Blobs taller than this are dropped.", 1.0)
    most_area: float = _dial(1e7, 1.0, 1e9, "px", "Blobs with more pixels than this are dropped.", 10.0)
    least_aspect: float = _dial(0.0, 0.0, 100.0, "w/h", "Blobs narrower for their height than this are dropped.", 0.1)
    most_aspect: float = _dial(100.0, 0.01, 100.0, "w/h", "Blobs wider for their height than this are dropped.", 0.1)
    join_within: float = _dial(
        6.0, 0.0, 500.0, "px", "A fragment is joined to a larger blob within this distance. 0 joins nothing.", 1.0
    )
    near_box: tuple[float, float, float, float] | None = Field(
        default=None, description="One animal near the camera: x1, y1, x2, y2 in fractions of the frame."
    )
    far_box: tuple[float, float, float, float] | None = Field(
        default=None, description="One animal of the same size far away: x1, y1, x2, y2 in fractions of the frame."
    )

    @field_validator("near_box", "far_box", mode="before")
    @classmethod
    def _box_from_list(cls, value: Any) -> Any:
        return tuple(_as_float(v) for v in value) if isinstance(value, (list, tuple)) else value

    @field_validator("near_box", "far_box")
    @classmethod
    def _box_usable(cls, value: tuple[float, float, float, float] | None) -> tuple[float, float, float, float] | None:
        if value is not None and not (0 <= value[0] < value[2] <= 1 and 0 <= value[1] < value[3] <= 1):
            raise ValueError("a box is x1, y1, x2, y2 in fractions, with x1 < x2 and y1 < y2, in 0..1")
        return value


Polygon = tuple[tuple[float, float], ...]


class WhereSettings(_Settings):
    """Where detections count. Polygons are corner points in fractions of the frame."""

    include: tuple[Polygon, ...] = Field(
        default=(), description="Polygons in which detections count; none means the whole frame."
    )
    ignore: tuple[Polygon, ...] = Field(default=(), description="Polygons in which detections do not count.")
    by: Literal["foot", "area"] = Field(
        default="foot", description="Whether a detection lies where its foot is, or where enough of its area is."
    )
    least_share: float = _dial(
        0.5, 0.01, 1.0, "fraction", "By area: share of a detection that must lie inside to count.", 0.05
    )

    @field_validator("include", "ignore", mode="before")
    @classmethod
    def _polygons_from_lists(cls, value: Any) -> Any:
        if not isinstance(value, (list, tuple)):
            return value
        return tuple(LineSettings._points_from_lists(polygon) for polygon in value)

    @field_validator("include", "ignore")
    @classmethod
    def _polygons_usable(cls, value: tuple[Polygon, ...]) -> tuple[Polygon, ...]:
        for polygon in value:
            if not 3 <= len(polygon) <= MOST_POINTS:
                raise ValueError(f"a polygon needs 3..{MOST_POINTS} points")
            if not all(-1 <= v <= 2 for point in polygon for v in point):
                raise ValueError("points are fractions of the frame and must be in -1..2")
        return value


class DetectSettings(_Settings):
    """Detect: moving things found in each frame."""

    background: BackgroundSettings = BackgroundSettings()
    light: LightSettings = LightSettings()
    shadow: ShadowSettings = ShadowSettings()
    still: StillSettings = StillSettings()
    cleanup: CleanupSettings = CleanupSettings()
    size: SizeSettings = SizeSettings()
    where: WhereSettings = WhereSettings()


class MotionSettings(_Settings):
    """The motion filter: constant velocity, with room for change."""

    jumpiness: float = _dial(
        0.5,
        0.01,
        50.0,
        "px/frame²",
        "How abruptly animals change speed. Higher turns faster and coasts less surely.",
        0.05,
    )
    box_noise: float = _dial(
        2.5, 0.1, 200.0, "px", "How much a detected box jitters. Higher smooths more and lags more.", 0.1
    )
    size_noise: float = _dial(0.5, 0.01, 50.0, "px/frame", "How fast a box may change its width and height.", 0.1)
    size_doubt: float = _dial(
        5.0,
        0.0,
        50.0,
        "×",
        "How much less a box is trusted whose size jumps, as when two animals melt into one. 0 trusts all alike.",
        0.5,
    )


class MatchSettings(_Settings):
    """Which detection may continue which track, and what it costs."""

    gate: float = _dial(
        8.0, 0.5, 20.0, "σ", "Largest distance between forecast and detection, in standard deviations.", 0.1
    )
    overlap_weight: float = _dial(
        0.3, 0.0, 1.0, "fraction", "Share of the cost that comes from overlap; the rest is distance.", 0.05
    )


class LifeSettings(_Settings):
    """When a track is born, believed and given up."""

    hits_to_confirm: int = _dial(8, 1, 100, "frames", "Frames a new track must be seen before it is believed.", 1)
    longest_gap: float = _dial(
        2.0, 0.0, 60.0, "s", "Longest time an animal may stay unseen and keep its identity.", 0.1
    )


class TrackSettings(_Settings):
    """Track: detections linked into identities."""

    motion: MotionSettings = MotionSettings()
    match: MatchSettings = MatchSettings()
    life: LifeSettings = LifeSettings()


class LineSettings(_Settings):
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
        if isinstance(value, (list, tuple)):
            return tuple(
                tuple(_as_float(v) for v in point) if isinstance(point, (list, tuple)) else point for point in value
            )
        return value

    @field_validator("points")
    @classmethod
    def _points_usable(cls, value: tuple[tuple[float, float], ...]) -> tuple[tuple[float, float], ...]:
        if not 2 <= len(value) <= MOST_POINTS:
            raise ValueError(f"a line needs 2..{MOST_POINTS} points")
        for x, y in value:
            if not (math.isfinite(x) and math.isfinite(y) and -1 <= x <= 2 and -1 <= y <= 2):
                raise ValueError("points are fractions of the frame and must be in -1..2")
        if all(point == value[0] for point in value):
            raise ValueError("a line needs two different points")
        return value


class CountSettings(_Settings):
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


class ScoreSettings(_Settings):
    """Score: the result held against the truth."""

    least_overlap: float = _dial(
        0.5, 0.05, 0.95, "fraction", "Overlap from which a box counts as the true box found.", 0.05
    )


class Recipe(_Settings):
    """All settings, one TOML file."""

    detect: DetectSettings = DetectSettings()
    track: TrackSettings = TrackSettings()
    count: CountSettings = CountSettings()
    score: ScoreSettings = ScoreSettings()


def _as_float(value: Any) -> Any:
    return float(value) if isinstance(value, int) and not isinstance(value, bool) else value


# --- what a setting is -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class SettingInfo:
    """One numeric setting as a dial needs it; ``path`` is dotted, for instance ``track.match.gate``."""

    path: str
    low: float
    high: float
    default: float
    unit: str
    step: float
    help: str
    whole: bool


def _numeric_info(path: str, model: type[BaseModel], name: str) -> SettingInfo | None:
    field = model.model_fields[name]
    extra = field.json_schema_extra
    if not isinstance(extra, dict) or "unit" not in extra:
        return None
    bounds = {type(meta).__name__: meta for meta in field.metadata}
    return SettingInfo(
        path=path,
        low=float(getattr(bounds["Ge"], "ge")),  # noqa: B009 - the bound's type is private to its library
        high=float(getattr(bounds["Le"], "le")),  # noqa: B009
        default=float(field.default),
        unit=str(extra["unit"]),
        step=float(extra["step"]),  # type: ignore[arg-type]
        help=field.description or "",
        whole=field.annotation is int,
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


def setting_info(path: str) -> SettingInfo:
    """Range, unit, default and help of a numeric setting.

    Raises
    ------
    RecipeError
        When there is no numeric setting of that path.
    """
    for candidate, model, name in settings_of():
        if candidate == path:
            info = _numeric_info(path, model, name)
            if info is not None:
                return info
    raise RecipeError(f"there is no numeric setting '{path}'")


def setting_help(path: str) -> str:
    """One line of help for any setting; empty when there is no such setting."""
    for candidate, model, name in settings_of():
        if candidate == path:
            return model.model_fields[name].description or ""
    return ""


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
    try:
        data = tomlkit.parse(text).unwrap()
    except (TOMLKitError, ValueError, RecursionError) as error:
        raise RecipeError(f"{source}: not valid TOML: {_first_line(error)}; correct the file and try again") from error
    return _validated(_whole_numbers_as_floats(data, Recipe), source)


def read_recipe(path: Path) -> Recipe:
    """Recipe from a TOML file.

    Raises
    ------
    RecipeError
        When the file cannot be read or holds a setting that is not allowed.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        raise RecipeError(f"{path}: there is no such recipe file; check the name") from error
    except (OSError, UnicodeDecodeError) as error:
        raise RecipeError(f"{path}: cannot be read as a text file ({_first_line(error)})") from error
    return parse_recipe(text, str(path))


def dump_recipe(recipe: Recipe, previous: str = "") -> str:
    """TOML text of a recipe, every setting written out; comments and order of ``previous`` are kept."""
    try:
        document = tomlkit.parse(previous)
    except (TOMLKitError, ValueError):
        document = tomlkit.document()
    _update_table(document, recipe.model_dump(mode="json", exclude_none=True))
    return tomlkit.dumps(document)


def _update_table(table: Any, values: dict[str, Any]) -> None:
    for key, value in values.items():
        if isinstance(value, dict):
            if not isinstance(table.get(key), (Table, dict)):
                table[key] = tomlkit.table(is_super_table=all(isinstance(v, dict) for v in value.values()))
            _update_table(table[key], value)
        elif key == "line":
            _update_lines(table, value)
        elif key not in table or table[key] != value:
            table[key] = value


def _update_lines(table: Any, lines: list[dict[str, Any]]) -> None:
    """Line tables are matched by name, so that a line's comments stay with it."""
    old = table.get("line")
    if old is not None and [dict(item.unwrap()) for item in old] == lines:
        return
    if old is not None:
        del table["line"]
    if not lines:
        return
    known = {item.get("name"): item for item in old} if isinstance(old, AoT) else {}
    array = tomlkit.aot()
    for line in lines:
        item = known.get(line["name"], tomlkit.table())
        for key, value in line.items():
            if key not in item or item[key] != value:
                item[key] = value
        array.append(item)
    table["line"] = array


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
        else:
            out[key] = _as_float(value) if kind is float else value
    return out


# --- messages ----------------------------------------------------------------------------------------------


def _validated(data: Any, source: str) -> Recipe:
    try:
        return Recipe.model_validate(data)
    except ValidationError as error:
        raise RecipeError(f"{source}: {_message(error)}") from error


def _message(error: ValidationError) -> str:
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


def _known_keys(place: list[str]) -> str:
    model: type[BaseModel] = LineSettings if place[:2] == ["count", "line"] else Recipe
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
        info = _numeric_info(name, model, name)
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


def _first_line(error: BaseException) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:160]


def _lower_first(text: str) -> str:
    return text[:1].lower() + text[1:]
