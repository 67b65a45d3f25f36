"""What goes about in the worlds, each as a few shaded ellipses: walkers with legs and arms, ducks, vans, insects.

Every maker gives the parts of one body standing with its foot at (0, 0), y upward negative, in units of its height;
``phase`` is the stride (rad), ``facing`` -1 (left) to 1 (right).
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

__all__ = ["BODIES", "Colours", "body"]

Colour = tuple[float, float, float]
Colours = tuple[Colour, ...]
Parts = list[list[float]]


def _part(x: float, y: float, wide: float, high: float, colour: Colour, tilt: float = 0.0, relief: float = 0.5) -> list:
    return [x, y, wide, high, tilt, *colour, relief, 0.0]


def _limb(x: float, y: float, length: float, thick: float, angle: float, colour: Colour) -> list:
    """A limb that hangs from (x, y), swung forward by ``angle``."""
    half = length / 2
    return _part(x + math.sin(angle) * half, y + math.cos(angle) * half, thick, half, colour, -angle, 0.3)


def _walker(colours: Colours, phase: float, facing: float) -> Parts:
    """Coat, trousers, skin, and what is carried; legs and arms swing against each other."""
    coat, trousers, skin, bag = colours
    swing = math.sin(phase) * (0.12 + 0.42 * abs(facing))
    side = 0.035 * (1.0 - abs(facing))
    parts = [
        _limb(side, -0.50, 0.50, 0.052, -swing, _dimmer(trousers)),
        _limb(-0.11 * side / 0.035, -0.80, 0.38, 0.036, swing * 0.8, _dimmer(coat)),
        _limb(-side, -0.50, 0.50, 0.056, swing, trousers),
        _part(0.0, -0.66, 0.075 + 0.055 * (1.0 - abs(facing)), 0.20, coat),
        _part(0.012 * facing, -0.93, 0.058, 0.072, skin),
        _part(-0.008 * facing, -0.955, 0.058, 0.05, _dimmer(trousers, 0.5)),
        _limb(0.11 * side / 0.035, -0.80, 0.38, 0.036, -swing * 0.8, coat),
    ]
    if bag != (0.0, 0.0, 0.0):
        parts.append(_part(-0.12 * (facing or 1.0), -0.45, 0.075, 0.10, bag))
    return parts


def _pram(colours: Colours, phase: float, facing: float) -> Parts:
    """A walker behind a pram."""
    way = 1.0 if facing >= 0 else -1.0
    hood = colours[3] if colours[3] != (0.0, 0.0, 0.0) else (60.0, 64.0, 90.0)
    parts = _walker((*colours[:3], (0.0, 0.0, 0.0)), phase, facing)
    return [
        *parts,
        _part(way * 0.34, -0.30, 0.17, 0.13, hood),
        _part(way * 0.24, -0.08, 0.075, 0.075, (40.0, 40.0, 42.0)),
        _part(way * 0.46, -0.08, 0.075, 0.075, (40.0, 40.0, 42.0)),
    ]


def _cyclist(colours: Colours, phase: float, facing: float) -> Parts:
    coat, trousers, skin, frame = colours
    way = 1.0 if facing >= 0 else -1.0
    dark = (45.0, 45.0, 48.0)
    frame = dark if frame == (0.0, 0.0, 0.0) else frame
    return [
        _part(-way * 0.29, -0.19, 0.19, 0.19, dark, 0.0, 0.1),
        _part(way * 0.29, -0.19, 0.19, 0.19, dark, 0.0, 0.1),
        _part(0.0, -0.30, 0.27, 0.045, frame, way * 0.25),
        _limb(-way * 0.08, -0.56, 0.34, 0.055, way * (0.5 + 0.35 * math.sin(phase)), trousers),
        _limb(-way * 0.08, -0.56, 0.34, 0.05, way * (0.5 - 0.35 * math.sin(phase)), _dimmer(trousers)),
        _part(way * 0.05, -0.70, 0.10, 0.21, coat, way * 0.45),
        _limb(way * 0.10, -0.80, 0.32, 0.035, way * 0.9, coat),
        _part(way * 0.17, -0.92, 0.06, 0.075, skin),
    ]


def _duck(colours: Colours, phase: float, facing: float) -> Parts:
    back, head, beak, _ = colours
    way = 1.0 if facing >= 0 else -1.0
    bob = 0.03 * math.sin(phase)
    return [
        _part(0.0, -0.32 + bob, 0.75, 0.34, back),
        _part(-way * 0.68, -0.45 + bob, 0.2, 0.12, back, way * 0.5),
        _part(way * 0.5, -0.75 + bob, 0.2, 0.24, head),
        _part(way * 0.72, -0.72 + bob, 0.14, 0.06, beak),
    ]


def _hen(colours: Colours, phase: float, facing: float) -> Parts:
    way = 1.0 if facing >= 0 else -1.0
    peck = 0.12 * max(0.0, math.sin(phase * 0.3))
    return [
        _limb(0.03, -0.3, 0.3, 0.04, 0.4 * math.sin(phase), colours[2]),
        _limb(-0.03, -0.3, 0.3, 0.04, -0.4 * math.sin(phase), colours[2]),
        _part(0.0, -0.45, 0.40, 0.28, colours[0]),
        _part(-way * 0.38, -0.62, 0.16, 0.2, _dimmer(colours[0])),
        _part(way * 0.36, -0.82 + peck, 0.13, 0.17, colours[1]),
    ]


def _insect(colours: Colours, phase: float, facing: float) -> Parts:
    beat = 0.25 + 0.2 * abs(math.sin(phase * 3.0))
    return [
        _part(0.0, -0.5, 0.62, 0.34, colours[0], 0.3 * facing),
        _part(0.0, -0.72, 0.3, beat, colours[1]),
    ]


def _van(colours: Colours, phase: float, facing: float) -> Parts:
    """A panel van: a long body of overlapping rounds, windows, wheels."""
    paint, glass, tyre, _ = colours
    way = 1.0 if facing >= 0 else -1.0
    body = [_part(x, -0.55, 0.40, 0.44, paint, 0.0, 0.25) for x in (-0.85, -0.5, -0.15, 0.2, 0.5)]
    body += [_part(way * 0.85, -0.40, 0.36, 0.29, paint, 0.0, 0.25)]
    body += [_part(way * 0.62, -0.70, 0.2, 0.16, glass, 0.0, 0.2)]
    wheels = [_part(x, -0.13, 0.15, 0.15, tyre, 0.0, 0.2) for x in (-0.72, 0.72)]
    return [*body, *wheels]


def _tractor(colours: Colours, phase: float, facing: float) -> Parts:
    """A tractor with its trailer behind."""
    paint, glass, tyre, trailer = colours
    way = 1.0 if facing >= 0 else -1.0
    load = trailer if trailer != (0.0, 0.0, 0.0) else _dimmer(paint, 0.6)
    parts = [_part(-way * x, -0.40, 0.36, 0.27, load, 0.0, 0.25) for x in (0.75, 1.05, 1.35)]
    parts += [_part(-way * 1.2, -0.14, 0.15, 0.15, tyre), _part(-way * 0.45, -0.2, 0.3, 0.05, tyre)]
    parts += [_part(way * 0.42, -0.45, 0.36, 0.2, paint), _part(0.0, -0.66, 0.24, 0.32, glass, 0.0, 0.2)]
    parts += [_part(0.0, -0.92, 0.26, 0.07, paint)]
    parts += [_part(-way * 0.08, -0.25, 0.26, 0.26, tyre), _part(way * 0.62, -0.16, 0.17, 0.17, tyre)]
    return parts


def _dimmer(colour: Colour, share: float = 0.78) -> Colour:
    return colour[0] * share, colour[1] * share, colour[2] * share


BODIES: dict[str, Callable[[Colours, float, float], Parts]] = {
    "walker": _walker, "child": _walker, "pram": _pram, "cyclist": _cyclist, "duck": _duck, "hen": _hen,
    "insect": _insect, "van": _van, "tractor": _tractor,
}  # fmt: skip
# Stride (rad) for each height walked.
GAIT = {"walker": 7.5, "child": 8.5, "pram": 7.5, "cyclist": 2.6, "duck": 4.0, "hen": 14.0, "insect": 3.0}


def body(
    kind: str, colours: Colours, x: float, y: float, tall: float, facing: float, walked: float
) -> NDArray[np.float64]:
    """Parts of a body ``tall`` px high with its foot at (x, y) px, (n, 10) float64, far parts first.

    ``walked`` is how far it has come, in its own heights.
    """
    parts = np.array(BODIES[kind](colours, walked * GAIT.get(kind, 0.0), facing), np.float64)
    parts[:, :4] *= tall
    parts[:, 0] += x
    parts[:, 1] += y
    return parts
