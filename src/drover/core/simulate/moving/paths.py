"""Where a camera looks, moment by moment: a 3 x 3 from the px of a large painted view to those of the picture."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

__all__ = ["ViewPath", "drone_over", "looking_at", "mast_in_wind", "standing"]

Float = NDArray[np.float64]
ViewPath = Callable[[float], Float]


def looking_at(centre: tuple[float, float], zoom: float, turn: float, size: tuple[int, int]) -> Float:
    """A view whose middle shows ``centre``, ``zoom`` picture px per px of the large view, turned by ``turn`` rad."""
    c, s = zoom * np.cos(turn), zoom * np.sin(turn)
    x, y = centre
    return np.array([[c, -s, size[0] / 2 - c * x + s * y], [s, c, size[1] / 2 - s * x - c * y], [0.0, 0.0, 1.0]])


def standing(centre: tuple[float, float], size: tuple[int, int], zoom: float = 1.0) -> ViewPath:
    """A camera that does not move."""
    fixed = looking_at(centre, zoom, 0.0, size)
    return lambda time: fixed


def mast_in_wind(
    centre: tuple[float, float], size: tuple[int, int], seed: int, *, sway: float = 12.0, turn: float = 1.0
) -> ViewPath:
    """A mast in gusts: never more than ``sway`` px each way and ``turn`` degrees."""
    rng = np.random.default_rng([seed, 31])
    hertz = np.array([0.31, 0.47, 0.78, 1.3]) * rng.uniform(0.9, 1.1, (3, 4))
    begin, share = rng.uniform(0, 2 * np.pi, (3, 4)), np.array([0.4, 0.3, 0.2, 0.1])

    def view(time: float) -> Float:
        gust = 0.75 + 0.25 * np.sin(0.4 * time + begin[0, 0])
        x, y, about = gust * (np.sin(2 * np.pi * hertz * time + begin) * share).sum(axis=1)
        return looking_at((centre[0] + sway * x, centre[1] + 0.6 * sway * y), 1.0, np.radians(turn * about), size)

    return view


def drone_over(
    centre: tuple[float, float],
    size: tuple[int, int],
    seed: int,
    *,
    reach: tuple[float, float],
    zooms: tuple[float, float],
) -> ViewPath:
    """A slow flight round a place: pans by up to ``reach`` px each way, zooms between two values, turns a little."""
    rng = np.random.default_rng([seed, 32])
    begin = rng.uniform(0, 2 * np.pi, 4)
    low, high = zooms

    def view(time: float) -> Float:
        x = reach[0] * np.sin(2 * np.pi * time / 17.0 + begin[0])
        y = reach[1] * np.sin(2 * np.pi * time / 11.0 + begin[1])
        zoom = np.exp(
            0.5 * (np.log(low) + np.log(high)) + 0.5 * np.log(high / low) * np.sin(2 * np.pi * time / 13.0 + begin[2])
        )
        turn = np.radians(5.0) * np.sin(2 * np.pi * time / 19.0 + begin[3])
        return looking_at((centre[0] + x, centre[1] + y), float(zoom), turn, size)

    return view
