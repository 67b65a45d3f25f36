"""The examples that come with Drover: Fold Hill clips with their truth and recipes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from drover.core.errors import DroverError

__all__ = ["Example", "example", "recipe_for"]

_DATA = Path(__file__).resolve().parent.parent / "data"


@dataclass(frozen=True)
class Example:
    """Files of one example: clip, truth, true crossings and recipe."""

    name: str
    clip: Path
    truth: Path
    crossings: Path
    recipe: Path


def example(name: str = "gap") -> Example:
    """An example by name: ``gap``, the demo, or ``gap-short``, ten seconds for tests.

    Raises
    ------
    DroverError
        When the package lacks its files.
    """
    folder = _DATA / name
    made = Example(name, folder / f"{name}.mp4", folder / "truth.csv", folder / "crossings.csv", folder / "recipe.toml")
    for path in (made.clip, made.truth, made.crossings, made.recipe):
        if not path.exists():
            raise DroverError(f"{path}: this example file is missing; install Drover again")
    return made


def recipe_for(scene: str) -> Path:
    """The recipe that ships for a scene, or the one called "plain".

    Raises
    ------
    DroverError
        When there is none of that name.
    """
    path = _DATA / "recipes" / f"{scene}.toml"
    if not path.exists():
        raise DroverError(f"there is no recipe for '{scene}'; those there are: {', '.join(_recipe_names())}")
    return path


def _recipe_names() -> list[str]:
    return sorted(path.stem for path in (_DATA / "recipes").glob("*.toml"))
