"""Changes of lines and zones that keep a recipe whole: names that are referred to go along, new names are free."""

from __future__ import annotations

from typing import Any, Literal

from drover.core.recipe import Recipe, with_value

__all__ = ["Kind", "free_name", "with_copy", "with_item", "with_new", "without_item"]

Kind = Literal["line", "zone"]
SHIFT = 0.03  # fractions by which a copy is moved from its pattern


def _items(recipe: Recipe, kind: Kind) -> list[dict[str, Any]]:
    return [item.model_dump() for item in getattr(recipe.count, kind)]


def with_item(recipe: Recipe, kind: Kind, number: int, update: dict[str, Any]) -> Recipe:
    """The recipe with fields of one line or zone changed; lines that ask for a zone by name follow a new name.

    Raises
    ------
    RecipeError
        When a value is not allowed there.
    """
    items = _items(recipe, kind)
    before = items[number]["name"]
    items[number] |= update
    if kind == "zone" and items[number]["name"] != before:
        lines = _renamed(recipe, before, items[number]["name"])
        return _with_both(recipe, lines, items)
    return with_value(recipe, f"count.{kind}", items)


def without_item(recipe: Recipe, kind: Kind, number: int) -> Recipe:
    """The recipe without one line or zone; lines no longer ask for a zone that is gone."""
    items = _items(recipe, kind)
    gone = items.pop(number)["name"]
    if kind == "zone":
        return _with_both(recipe, _renamed(recipe, gone, ""), items)
    return with_value(recipe, f"count.{kind}", items)


def with_new(recipe: Recipe, kind: Kind, points: list[tuple[float, float]]) -> Recipe:
    """The recipe with one more line or zone, under a free name.

    Raises
    ------
    RecipeError
        When the points cannot be a line or a zone.
    """
    return with_value(
        recipe, f"count.{kind}", [*_items(recipe, kind), {"name": free_name(recipe, kind), "points": points}]
    )


def with_copy(recipe: Recipe, kind: Kind, number: int) -> Recipe:
    """The recipe with a copy of one line or zone, a little aside, under a free name."""
    items = _items(recipe, kind)
    pattern = items[number]
    right = all(x + SHIFT <= 1.0 for x, _ in pattern["points"])
    moved = [(x + (SHIFT if right else -SHIFT), y) for x, y in pattern["points"]]
    return with_value(
        recipe, f"count.{kind}", [*items, pattern | {"points": moved, "name": free_name(recipe, kind, pattern["name"])}]
    )


def free_name(recipe: Recipe, kind: Kind, pattern: str = "") -> str:
    """A name that no line or zone has yet: a number that stands at the end of the pattern is counted on."""
    taken = {item.name for item in getattr(recipe.count, kind)}
    stem, _, number = pattern.rpartition(" ")
    if not (stem and number.isdecimal()):
        stem = pattern
    stem = f"{stem[:50]} " if stem else f"{kind.capitalize()} "
    return next(name for name in (f"{stem}{k}" for k in range(2 if pattern else 1, 10_000)) if name not in taken)


def _renamed(recipe: Recipe, before: str, after: str) -> list[dict[str, Any]]:
    lines = _items(recipe, "line")
    for line in lines:
        for end in ("from_zone", "to_zone"):
            if line[end] == before:
                line[end] = after
    return lines


def _with_both(recipe: Recipe, lines: list[dict[str, Any]], zones: list[dict[str, Any]]) -> Recipe:
    """Both at once, since either alone might refer to what is not there."""
    count = recipe.model_dump()["count"] | {"line": lines, "zone": zones}
    return with_value(recipe, "count", count)
