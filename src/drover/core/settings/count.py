"""Settings of Count: lines, zones, and the ground's measure."""

from __future__ import annotations

import math
from collections import Counter
from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from drover.core.settings.base import Points, Settings, as_float, checked_points, dial, points_from_lists

__all__ = ["REFERENCES", "CountSettings", "GroundSettings", "LineSettings", "ZoneSettings"]

MOST_LINES = 200
MOST_ZONES = 100
Reference = Literal["foot", "centre", "top", "left", "right"]
REFERENCES: tuple[Reference, ...] = ("foot", "centre", "top", "left", "right")


IN_SCENE = 4.0  # frames beyond the first picture that a line or zone may lie, where a camera moves on


class _Drawn(Settings):
    """What lines and zones have in common: points and class names as files hold them, and what they are fixed to."""

    fixed_to: Literal["scene", "picture"] = Field(
        default="scene",
        description="Where the camera moves: scene: it stands on the ground, at its points as the first picture of a "
        "shot shows them; picture: it stays where it is in every picture.",
    )

    @field_validator("points", mode="before", check_fields=False)
    @classmethod
    def _points_from_lists(cls, value: Any) -> Any:
        return points_from_lists(value)


class LineSettings(_Drawn):
    """One directed counting line, in fractions of the frame's width and height."""

    name: str = Field(default="Line", min_length=1, max_length=60, description="What the line is called.")
    points: Points = Field(description="Corner points of the line in its direction, in fractions of width and height.")
    reference: Literal["foot", "centre", "top", "left", "right", "two"] = Field(
        default="foot",
        description="Point of the box whose path is counted; two: any two of the five must have crossed.",
    )
    classes: tuple[str, ...] = Field(default=(), description="Classes that count; none named means all.")
    dead_band: float = dial(
        1.0, 0.0, 10.0, "sizes",
        "How far from the line, in sizes of the object, it must get before a crossing counts: dithering adds nothing.",
        0.1,
    )  # fmt: skip
    least_age: float = dial(0.0, 0.0, 600.0, "s", "How long an object must have been known before it counts.", 0.1)
    least_travel: float = dial(
        0.0, 0.0, 100.0, "sizes", "How far, in its own sizes, an object must have come before it counts.", 0.5
    )
    each: Literal["passage", "identity"] = Field(
        default="passage",
        description="passage: every passage is a crossing; identity: the first in each direction alone.",
    )
    forward_name: str = Field(default="forward", min_length=1, max_length=40, description="What forward is called.")
    back_name: str = Field(default="back", min_length=1, max_length=40, description="What back is called.")
    from_zone: str = Field(default="", max_length=60, description="Zone that forward comes from and back goes to.")
    to_zone: str = Field(default="", max_length=60, description="Zone that forward goes to and back comes from.")
    forbidden: Literal["none", "forward", "back"] = Field(
        default="none", description="Direction in which a crossing raises an alarm."
    )

    @field_validator("points")
    @classmethod
    def _points_usable(cls, value: Points) -> Points:
        checked_points(value, 2, "a line", beyond=IN_SCENE)
        if all(point == value[0] for point in value):
            raise ValueError("a line needs two different points")
        return value

    def way(self, direction: int) -> str:
        """The name of a direction, +1 or -1."""
        return self.forward_name if direction > 0 else self.back_name


class ZoneSettings(_Drawn):
    """A named polygon, in fractions of the frame: who is inside, for how long, and what raises an alarm."""

    name: str = Field(default="Zone", min_length=1, max_length=60, description="What the zone is called.")
    points: Points = Field(description="Corner points, in fractions of width and height.")
    inside_by: Literal["foot", "centre", "top", "left", "right", "area"] = Field(
        default="foot", description="Point of the box that must lie inside; area: enough of the box does."
    )
    least_share: float = dial(0.5, 0.01, 1.0, "fraction", "By area: share of the box that must lie inside.", 0.05)
    classes: tuple[str, ...] = Field(default=(), description="Classes that count; none named means all.")
    bridge: float = dial(
        0.5, 0.0, 60.0, "s", "Being outside, or inside, for less than this is neither leaving nor entering.", 0.1
    )
    longest_stay: float = dial(0.0, 0.0, 86400.0, "s", "A longer stay raises an alarm. 0: never.", 1.0)
    most_inside: int = dial(0, 0, 10000, "objects", "More at once raise an alarm. 0: never.", 1)
    top_speed: float = dial(
        0.0, 0.0, 100.0, "m/s", "A faster object inside raises an alarm; needs the ground's measure. 0: never.", 0.1
    )

    @field_validator("points")
    @classmethod
    def _points_usable(cls, value: Points) -> Points:
        checked_points(value, 3, "a zone", beyond=IN_SCENE)
        if _crosses_itself(value):
            raise ValueError("the sides of a zone must not cross each other")
        if abs(_area(value)) < 1e-6:
            raise ValueError("a zone needs some area")
        return value


class GroundSettings(Settings):
    """Four points on the ground and the distances between them; they give its measure in metres."""

    points: Points = Field(default=(), description="Four points on the ground, in fractions of width and height.")
    distances: tuple[float, ...] = Field(
        default=(),
        description="Distances in m: 1 to 2, 2 to 3, 3 to 4, 4 to 1, 1 to 3 and 2 to 4; 0 for one not measured.",
    )

    @field_validator("points", mode="before")
    @classmethod
    def _points_from_lists(cls, value: Any) -> Any:
        return points_from_lists(value)

    @field_validator("distances", mode="before")
    @classmethod
    def _distances_from_list(cls, value: Any) -> Any:
        return tuple(as_float(v) for v in value) if isinstance(value, (list, tuple)) else value

    @model_validator(mode="after")
    def _goes_together(self) -> GroundSettings:
        if not self.points and not self.distances:
            return self
        if len(self.points) != 4 or len(self.distances) != 6:
            raise ValueError("the ground's measure needs four points and six distances")
        checked_points(self.points, 4, "the ground's measure")
        if any(not math.isfinite(d) or d < 0 or d > 100_000 for d in self.distances):
            raise ValueError("distances must be in 0..100000 m")
        if sum(d > 0 for d in self.distances) < 5 or min(self.distances[:4]) <= 0:
            raise ValueError("the four sides and at least one diagonal must be measured")
        return self


class CountSettings(Settings):
    """Count: what crosses which line, and who is in which zone."""

    line: tuple[LineSettings, ...] = Field(default=(), description="The counting lines.")
    zone: tuple[ZoneSettings, ...] = Field(default=(), description="The zones.")
    ground: GroundSettings = GroundSettings()

    @field_validator("line")
    @classmethod
    def _lines_differ(cls, value: tuple[LineSettings, ...]) -> tuple[LineSettings, ...]:
        _check_names([line.name for line in value], "lines", MOST_LINES)
        return value

    @field_validator("zone")
    @classmethod
    def _zones_differ(cls, value: tuple[ZoneSettings, ...]) -> tuple[ZoneSettings, ...]:
        _check_names([zone.name for zone in value], "zones", MOST_ZONES)
        return value

    @model_validator(mode="after")
    def _zones_are_there(self) -> CountSettings:
        known = {zone.name for zone in self.zone}
        for line in self.line:
            for name in (line.from_zone, line.to_zone):
                if name and name not in known:
                    raise ValueError(f"line '{line.name}' asks for a zone '{name}' that is not there")
        return self


def _check_names(names: list[str], what: str, most: int) -> None:
    if len(names) > most:
        raise ValueError(f"at most {most} {what}")
    double = [name for name, count in Counter(names).items() if count > 1]
    if double:
        raise ValueError(f"two {what} are called '{min(double)}'; give each its own name")


def _area(points: Points) -> float:
    pairs = zip(points, (*points[1:], points[0]), strict=True)
    return 0.5 * sum(x1 * y2 - x2 * y1 for (x1, y1), (x2, y2) in pairs)


def _crosses_itself(points: Points) -> bool:
    """Whether two sides that do not share a corner cross."""
    sides = list(zip(points, (*points[1:], points[0]), strict=True))

    def side(a: tuple[float, float], b: tuple[float, float], c: tuple[float, float]) -> float:
        return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])

    for i, (a, b) in enumerate(sides):
        for j in range(i + 2, len(sides)):
            if i == 0 and j == len(sides) - 1:
                continue
            c, d = sides[j]
            if side(a, b, c) * side(a, b, d) < 0 and side(c, d, a) * side(c, d, b) < 0:
                return True
    return False
