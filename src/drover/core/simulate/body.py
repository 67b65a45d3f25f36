"""An animal as a few shaded ellipses and legs, and the exact box around them."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from drover.core.simulate.actors import Actor

__all__ = ["PART_COLUMNS", "body_parts", "depth_scale", "parts_box"]

# One row a part: centre x, y, half width, half height, tilt (rad), red, green, blue, relief (0 flat .. 1 round),
# woolliness (0 smooth .. 1 curly).
PART_COLUMNS = 10


def depth_scale(actor: Actor, y: float) -> float:
    """How large an animal looks at a foot line ``y`` (world px): farther up is farther away."""
    far, near = actor.depth
    return far + (near - far) * y / 720.0


def body_parts(actor: Actor, x: float, y: float, facing: float, stride: float) -> NDArray[np.float64]:
    """Parts of an animal standing with its feet at (x, y), far legs first, (n, 10) float64, world px."""
    size = actor.body * depth_scale(actor, y)
    if actor.kind == "dog":
        return _dog(actor, x, y, facing, stride, size)
    return _sheep(actor, x, y, facing, stride, size)


def _legs(
    x: float,
    y: float,
    half: float,
    size: float,
    stride: float,
    colour: tuple[float, float, float],
    high: float,
) -> list[list[float]]:
    """Four legs in a walking gait: diagonal pairs swing together."""
    rows = []
    phase = stride / (0.62 * size) * 2 * math.pi
    for place, offset, shade in (
        (-0.62, 0.0, 0.72),
        (0.62, math.pi, 0.72),
        (-0.5, math.pi, 1.0),
        (0.7, 0.0, 1.0),
    ):
        swing = math.sin(phase + offset) * 0.075 * size
        top_x, foot_x = x + place * half, x + place * half + swing
        lift = max(0.0, math.cos(phase + offset)) * 0.02 * size
        length = high * size
        tilt = math.atan2(foot_x - top_x, length)
        rows.append(
            [
                (top_x + foot_x) / 2,
                y - length / 2 - lift,
                0.042 * size,
                length / 2,
                -tilt,
                *(c * shade for c in colour),
                0.4,
                0,
            ]
        )
    return rows


def _sheep(actor: Actor, x: float, y: float, facing: float, stride: float, size: float) -> NDArray[np.float64]:
    side = abs(facing)
    half = size * (0.30 + 0.16 * side)
    high = 0.285 * size
    lamb = actor.kind == "lamb"
    leg = 0.40 if lamb else 0.34
    middle = y - (leg - 0.10) * size - high * 0.86
    bob = 0.012 * size * math.sin(stride / (0.31 * size) * 2 * math.pi)
    rows = _legs(x, y, half, size, stride, actor.face, leg)
    wool = actor.wool
    rows.append(
        [
            x - facing * half * 0.98,
            middle - 0.02 * size + bob,
            0.05 * size,
            0.10 * size,
            0.35 * facing,
            *wool,
            0.6,
            0.4,
        ]
    )
    rows.append([x, middle + bob, half, high, 0.0, *wool, 1.0, 1.0])
    rows.append(
        [
            x - facing * half * 0.36,
            middle - 0.03 * size + bob,
            half * 0.60,
            high * 0.92,
            0.0,
            *wool,
            0.55,
            1.0,
        ]
    )
    neck_x = x + facing * half * 0.86
    head_y = middle - (0.17 if lamb else 0.13) * size + bob
    rows.append([neck_x, middle - 0.07 * size + bob, 0.14 * size, 0.16 * size, 0.5 * facing, *wool, 0.9, 0.8])
    head_x = x + facing * (half + 0.085 * size)
    ear = tuple(c * 0.8 for c in actor.face)
    rows.append(
        [
            head_x - facing * 0.07 * size,
            head_y - 0.045 * size,
            0.085 * size,
            0.032 * size,
            -0.45 * facing,
            *ear,
            0.3,
            0,
        ]
    )
    rows.append([head_x, head_y, 0.125 * size, 0.088 * size, 0.5 * facing, *actor.face, 0.9, 0.1])
    rows.append(
        [
            head_x - facing * 0.075 * size,
            head_y - 0.07 * size,
            0.075 * size,
            0.05 * size,
            0.0,
            *wool,
            0.8,
            0.8,
        ]
    )
    return np.asarray(rows, np.float64)


def _dog(actor: Actor, x: float, y: float, facing: float, stride: float, size: float) -> NDArray[np.float64]:
    half = size * (0.26 + 0.22 * abs(facing))
    leg, high = 0.42, 0.17 * size
    middle = y - leg * size * 0.92
    rows = _legs(x, y, half, size, stride * 0.8, actor.face, leg)
    dark, white = actor.face, actor.wool
    wag = 0.25 * math.sin(stride * 0.09)
    rows.append(
        [
            x - facing * (half + 0.12 * size),
            middle - 0.10 * size,
            0.17 * size,
            0.045 * size,
            (0.7 + wag) * facing,
            *dark,
            0.5,
            0.4,
        ]
    )
    rows.append([x, middle, half, high, 0.0, *dark, 1.0, 0.5])
    rows.append([x + facing * half * 0.72, middle + 0.01 * size, 0.14 * size, 0.15 * size, 0.0, *white, 0.9, 0.5])
    head_x, head_y = x + facing * (half + 0.10 * size), middle - 0.17 * size
    rows.append([head_x, head_y, 0.135 * size, 0.10 * size, 0.25 * facing, *dark, 0.9, 0.2])
    rows.append(
        [
            head_x + facing * 0.12 * size,
            head_y + 0.035 * size,
            0.075 * size,
            0.045 * size,
            0.2 * facing,
            *white,
            0.6,
            0,
        ]
    )
    rows.append(
        [
            head_x - facing * 0.07 * size,
            head_y - 0.09 * size,
            0.04 * size,
            0.065 * size,
            -0.3 * facing,
            *dark,
            0.4,
            0,
        ]
    )
    return np.asarray(rows, np.float64)


def parts_box(parts: NDArray[np.float64]) -> tuple[float, float, float, float]:
    """Exact box x1, y1, x2, y2 around the parts: extents of rotated ellipses, in closed form."""
    cos, sin = np.cos(parts[:, 4]), np.sin(parts[:, 4])
    wide = np.sqrt((parts[:, 2] * cos) ** 2 + (parts[:, 3] * sin) ** 2)
    high = np.sqrt((parts[:, 2] * sin) ** 2 + (parts[:, 3] * cos) ** 2)
    return (
        float((parts[:, 0] - wide).min()),
        float((parts[:, 1] - high).min()),
        float((parts[:, 0] + wide).max()),
        float((parts[:, 1] + high).max()),
    )
