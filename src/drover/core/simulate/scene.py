"""What a scene is: a camera on the farm, its animals, its light, its counting lines."""

from __future__ import annotations

from dataclasses import dataclass

from drover.core.recipe import LineSettings
from drover.core.simulate.actors import Actor

__all__ = ["WORLD_HEIGHT", "WORLD_WIDTH", "Camera", "Light", "Scene"]

WORLD_WIDTH, WORLD_HEIGHT = 1280, 720


@dataclass(frozen=True)
class Camera:
    """A fixed view: world point (left, top) is the picture's origin, ``zoom`` picture px per world px."""

    left: float = 0.0
    top: float = 0.0
    zoom: float = 1.0
    width: int = WORLD_WIDTH
    height: int = WORLD_HEIGHT


@dataclass(frozen=True)
class Light:
    """Cloud shadow depth (fraction), its drift (px/s), grass sway (px) and sensor noise (grey levels).

    ``gains`` are changes of brightness, ``cast_shadow`` the depth (fraction) of hard shadows that animals cast.
    """

    cloud_depth: float = 0.16
    cloud_drift: float = 62.0
    sway: float = 1.3
    noise: float = 2.2
    gains: tuple[tuple[float, float, float], ...] = ()
    cast_shadow: float = 0.0

    def gain(self, time: float) -> float:
        """Brightness of the whole picture: each change is (start s, seconds it takes, factor it goes to)."""
        value = 1.0
        for start, seconds, factor in self.gains:
            share = 1.0 if seconds <= 0 else min(1.0, (time - start) / seconds)
            if time >= start:
                value += (factor - value) * share
        return value


@dataclass(frozen=True)
class Scene:
    """Everything that is needed to draw a clip and to know its truth."""

    name: str
    seed: int
    seconds: float
    rate: float
    camera: Camera
    light: Light
    actors: tuple[Actor, ...]
    lines: tuple[LineSettings, ...]

    @property
    def frame_count(self) -> int:
        """Whole frames in the scene."""
        return round(self.seconds * self.rate)
