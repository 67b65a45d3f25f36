"""What moves in a clip, in words: how large it is and where, how many at once, how fast, and what that means."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.geometry import box_area
from drover.core.track.speeds import measure_speeds
from drover.core.types import Detections

__all__ = ["words_of_movers"]

LEAST = 50  # detections before anything is said
FEW_PIXELS = 8.0  # px a side under which a count is rough
ROUGH_SHARE = 0.5
NEAR_AND_FAR = 1.5  # times that what is lower in the picture must be larger, for near and far to differ
FAST = 1.0  # of their own sizes between two pictures, from which nearness says little
CROWDED = 25.0  # at once


def words_of_movers(found: Detections, times: NDArray[np.float64]) -> tuple[str, ...]:
    """Plain sentences on what was found in a whole clip; ``times`` s of its frames."""
    if len(found) < LEAST or found.frame_count < 3:
        return ()
    box = found.box.astype(np.float64)
    side = np.sqrt(np.maximum(box_area(box), 1.0))
    return (*_sizes(box, side), *_crowd(found), *_speed(found, times))


def _sizes(box: NDArray[np.float64], side: NDArray[np.float64]) -> list[str]:
    small, large = np.quantile(side, [0.1, 0.9])
    # Foot levels in two halves of what was found, not of the picture: a lane may lie anywhere in it.
    low = box[:, 3] > np.median(box[:, 3])
    far, near = float(np.median(side[~low])), float(np.median(side[low])) if low.any() else 0.0
    out = [f"What moves is {small:.0f} to {large:.0f} px large."]
    if near > NEAR_AND_FAR * far:
        out = [f"What moves is {small:.0f} to {large:.0f} px large, {far:.0f} far away and {near:.0f} near by."]
    if np.mean(side < FEW_PIXELS) > ROUGH_SHARE:
        out.append("Most things are under 8 px: counts will be rough.")
    return out


def _crowd(found: Detections) -> list[str]:
    each = np.diff(found.frame_start)
    usual, most = float(np.median(each)), float(np.quantile(each, 0.95))
    if most >= CROWDED:
        return [f"It is crowded: {usual:.0f} things at once, at times {most:.0f}."]
    return [f"Up to {max(1, round(most))} {'thing moves' if round(most) <= 1 else 'things move'} at once."]


def _speed(found: Detections, times: NDArray[np.float64]) -> list[str]:
    speeds = measure_speeds(found.frozen(), times)
    if speeds.reach <= 0:
        return []
    middle = (speeds.edges[:-1] + speeds.edges[1:]) / 2
    usual = float(np.average(middle, weights=speeds.share)) if speeds.share.sum() > 0 else 0.0
    if speeds.reach > FAST:
        return [
            f"Things move up to {speeds.reach:.1f} of their sizes between two pictures: their direction tells them "
            "apart, not nearness."
        ]
    return [f"They go {usual:.2f} of their sizes between two pictures, the fastest {speeds.reach:.2f}."]
