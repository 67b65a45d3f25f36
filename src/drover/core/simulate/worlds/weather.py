"""What moves without going anywhere: water, leaves and their shadows, rain, lamps; and what a lens and sensor add."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from drover.core.simulate.worlds.plate import Picture, noise_field, soft

__all__ = ["Layer", "Sensor", "dapples", "dirt", "grass", "headlight", "lamps", "leaves", "rain", "water"]

Layer = Callable[[Picture, float], None]  # changes a picture (height, width, 3) in place, at a time s


def water(rng: np.random.Generator, size: tuple[int, int], mask: Picture, *, strength: float = 14.0) -> Layer:
    """Ripples that run over each other and glitter here and there."""
    height, width = size
    unit = height / 360.0
    room = int(64 * unit)
    trains = []
    for cell in (4.0, 7.0, 13.0):
        field = noise_field(rng, (height + 2 * room, width + 2 * room), cell * unit)
        angle, speed = rng.uniform(0, 2 * np.pi), rng.uniform(0.5, 1.1)
        trains.append((field, angle, speed, rng.uniform(0, 6)))
    patchy = (0.7 + 0.3 * noise_field(rng, size, 40 * unit)) * mask

    def apply(picture: Picture, time: float) -> None:
        field = np.zeros(size, np.float32)
        for train, angle, speed, first in trains:
            # To and fro: ripples go nowhere.
            off = 0.9 * room * np.sin(speed * time + first)
            y, x = int(room + off * np.sin(angle)), int(room + off * np.cos(angle))
            field += train[y : y + height, x : x + width]
        glitter = np.clip(field - 3.4, 0, None) * np.float32(2.5 * strength)
        picture += ((np.float32(strength * 0.6) * field + glitter) * patchy)[..., None]

    return apply


def leaves(
    rng: np.random.Generator, size: tuple[int, int], mask: Picture, *, reach: float = 4.0, speed: float = 1.6
) -> Layer:
    """A crown of leaves whose patches sway about their places by ``reach`` px (of 360) and show gaps."""
    height, width = size
    unit = height / 360.0
    wide = [noise_field(rng, (height + 60, width + 60), cell * unit) for cell in (3.5, 7.0)]
    tone = wide[0] * 17 + wide[1] * 13
    phase = noise_field(rng, size, 30 * unit) * 2.0
    y, x = np.mgrid[0:height, 0:width]
    colour = np.array([0.72, 1.0, 0.5], np.float32)

    def apply(picture: Picture, time: float) -> None:
        gust = 0.5 + 0.5 * np.sin(0.7 * time + 1.0)
        along = np.sin(phase + speed * 2.1 * time) * reach * unit * gust
        across = np.sin(1.3 * phase + speed * 2.9 * time) * 0.6 * reach * unit * gust
        at = np.clip(y + 30 + across, 0, height + 59).astype(int), np.clip(x + 30 + along, 0, width + 59).astype(int)
        crown = (np.float32(78) + tone[at])[..., None] * colour
        picture += (crown - picture) * mask[..., None]

    return apply


def dapples(rng: np.random.Generator, size: tuple[int, int], mask: Picture, *, depth: float = 0.4) -> Layer:
    """Sun through leaves on the ground: spots of light and shade that wander to and fro."""
    height, width = size
    unit = height / 360.0
    spots = noise_field(rng, (height + 40, width + 40), 9 * unit) + 0.6 * noise_field(
        rng, (height + 40, width + 40), 22 * unit
    )
    shade = soft(np.clip(spots * 1.6 + 0.5, 0, 1).astype(np.float32), 1.2 * unit)

    def apply(picture: Picture, time: float) -> None:
        dx = 6 * unit * np.sin(1.1 * time) + 3 * unit * np.sin(2.7 * time + 1)
        dy = 3 * unit * np.sin(1.7 * time + 2)
        a, b = int(round(20 + dy)), int(round(20 + dx))
        picture *= (1.0 - np.float32(depth) * shade[a : a + height, b : b + width] * mask)[..., None]

    return apply


def grass(rng: np.random.Generator, size: tuple[int, int], mask: Picture, *, reach: float = 2.5) -> Layer:
    """Blown grass: stripes of light that run through it."""
    height, width = size
    unit = height / 360.0
    fine = noise_field(rng, (height, width + 200), 2.2 * unit) * 9
    phase = noise_field(rng, size, 50 * unit)
    y, x = np.mgrid[0:height, 0:width]

    def apply(picture: Picture, time: float) -> None:
        shift = (np.sin(2.0 * time + phase * 2 + x * 0.02 / unit) * reach * unit + 100).astype(int)
        gust = 8 * np.sin(0.05 * x / unit - 2.4 * time + phase)
        picture += ((fine[y, np.clip(x + shift, 0, width + 199)] + gust) * mask)[..., None]

    return apply


def rain(seed: int, size: tuple[int, int], *, drops: int = 160, bright: float = 30.0) -> Layer:
    """Streaks that fall anew in every picture."""
    height, width = size
    unit = height / 360.0

    def apply(picture: Picture, time: float) -> None:
        now = np.random.default_rng([seed, round(time * 1000)])
        for x, y, long in zip(
            now.uniform(0, width, drops), now.uniform(0, height, drops), now.uniform(6, 22, drops) * unit, strict=True
        ):
            top, bottom, column = int(y), min(height, int(y + long)), min(int(x), width - 2)
            picture[top:bottom, column : column + max(1, int(unit))] += np.float32(bright * now.uniform(0.3, 1))

    return apply


def lamps(changes: tuple[tuple[float, float, float], ...], spread: Picture) -> Layer:
    """Light that is switched: (s, seconds it takes, factor it goes to) where ``spread`` (height, width) is 1."""

    def apply(picture: Picture, time: float) -> None:
        value = 1.0
        for start, takes, factor in changes:
            if time >= start:
                share = 1.0 if takes <= 0 else min(1.0, (time - start) / takes)
                value += (factor - value) * share
        picture *= (1.0 + np.float32(value - 1.0) * spread)[..., None]

    return apply


def headlight(size: tuple[int, int], passes: tuple[tuple[float, float], ...], *, strength: float = 60.0) -> Layer:
    """A patch of light that sweeps over the ground from the left to the right: (s, seconds it takes)."""
    height, width = size
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)

    def apply(picture: Picture, time: float) -> None:
        for start, takes in passes:
            share = (time - start) / takes
            if 0 <= share <= 1:
                cx, cy = (share * 1.6 - 0.3) * width, (0.55 + 0.15 * np.sin(3 * share)) * height
                away = ((x - cx) / (0.22 * width)) ** 2 + ((y - cy) / (0.16 * height)) ** 2
                picture += (np.float32(strength) * np.exp(-away))[..., None]

    return apply


def dirt(rng: np.random.Generator, size: tuple[int, int], *, pump: float = 1.2) -> Layer:
    """Dirt and drops on the lens, a dark rim, and an autofocus that pumps (blur of up to ``pump`` px)."""
    height, width = size
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    keep = 1.0 - 0.4 * (((x / width - 0.5) * 1.6) ** 2 + ((y / height - 0.5) * 1.6) ** 2)
    for _ in range(14):
        cx, cy, r = rng.uniform(0, width), rng.uniform(0, height), rng.uniform(0.01, 0.05) * height
        keep -= rng.uniform(0.05, 0.35) * np.exp(-(((x - cx) ** 2 + (y - cy) ** 2) / r**2))
    keep = np.clip(keep, 0.15, 1).astype(np.float32)

    def apply(picture: Picture, time: float) -> None:
        blur = pump * height / 360.0 * max(0.0, float(np.sin(0.9 * time)) - 0.6) / 0.4
        if blur > 0.05:
            for c in range(3):
                picture[..., c] = soft(picture[..., c], blur)
        picture *= keep[..., None]

    return apply


class Sensor:
    """From light to levels: noise that grows with brightness, exposure and white balance that drift, grey at night."""

    def __init__(
        self, seed: int, size: tuple[int, int], *, noise: float = 2.0, drift: float = 0.02, grey: bool = False
    ) -> None:
        self._rng = np.random.default_rng([seed, 77])
        self._noise, self._drift, self._grey = noise, drift, grey
        shape = (size[0] + 64, size[1] + 64) if grey else (size[0] + 64, size[1] + 64, 3)
        grain = np.random.default_rng([seed, 78]).normal(0, 1, shape).astype(np.float32)
        self._grain = grain * 0.8 + soft(grain, 0.8 if grey else 0.0) * (0.9 if grey else 0.2)

    def read(self, picture: Picture, time: float) -> NDArray[np.uint8]:
        """One picture as (height, width, 3) uint8."""
        gain = 1.0 + self._drift * np.array(
            [np.sin(0.21 * time), np.sin(0.21 * time + 0.3), np.sin(0.21 * time + 0.6) * 1.2], np.float32
        )
        light = picture * gain
        if self._grey:
            light = np.repeat(light.mean(axis=2, keepdims=True), 3, axis=2)
        height, width = picture.shape[:2]
        a, b = self._rng.integers(0, 64, 2)
        grain = self._grain[a : a + height, b : b + width]
        strength = np.float32(self._noise) * np.sqrt(0.35 + np.clip(light, 0, 255) / 160.0)
        noisy = light + strength * (grain[..., None] if self._grey else grain)
        return np.clip(noisy + 0.5, 0, 255).astype(np.uint8)
