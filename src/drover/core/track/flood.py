"""A flood of identities, and what it may be: said in a line, since what is counted in it means nothing."""

from __future__ import annotations

import numpy as np

from drover.core.names import grouped
from drover.core.types import Tracks

__all__ = ["flood_note"]

MANY, A_SECOND = 100, 8.0  # identities, in all and that begin in a second, from which they are a flood
SHORT = 3.0  # s that half of them last at most
ALIKE = 0.8  # mean of their directions (Mardia and Jupp 2000, "Directional statistics", 2.3.1): one way


def flood_note(tracks: Tracks, times: np.ndarray) -> str | None:
    """What is odd about many identities that last for moments; None when nothing is. ``times`` s of the frames."""
    start = tracks.paths.start
    count = len(start) - 1
    if count < MANY:
        return None
    first, last = start[:-1], start[1:] - 1
    when = times[tracks.paths.frame]
    life = when[last] - when[first]
    a_second = count / max(float(times[-1] - times[0]), 1e-9)
    if a_second < A_SECOND or np.median(life) > SHORT:
        return None
    box = tracks.box[tracks.paths.row].astype(np.float64)
    way = (box[last, :2] + box[last, 2:] - box[first, :2] - box[first, 2:]) / 2
    way /= np.maximum(np.hypot(way[:, 0], way[:, 1]), 1e-9)[:, None]
    told = f"{grouped(count)} identities, {a_second:.0f} new ones a second; half of them last"
    told = f"{told} under {np.median(life):.1f} s"
    if np.hypot(*way.mean(axis=0)) >= ALIKE:
        return f"{told}, and they go one way: snow, rain or a stream? Ask for a least size, or leave that place out"
    return f"{told}: leaves, water or noise? Raise the threshold, or leave that place out"
