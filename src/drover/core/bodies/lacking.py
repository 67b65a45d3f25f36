"""What is followed but for most of its life smaller than a body is at its place: perhaps a part of one is seen.

A duck of the water's colour of which only the head is told from it, legs of the ground's grey: who shows so little is
looked at again. What is far too small both ways is a piece; what is as wide as others but too low lacks an end; and
what is half as wide and half as high is a child, or a lamb, and whole, unless the rest of it is there to be seen.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.bodies.followed import rows_by_life
from drover.core.bodies.size_field import SizeField
from drover.core.types import Detections, Tracks

__all__ = ["Leg", "lacking_legs"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
LEG = 2.0  # s of a life that are looked at together
LEAST_SEEN = 0.2  # of the pictures of a leg in which something is seen
LOW = 0.75  # of the usual height, under which a part may be lacking,
NARROW, AS_WIDE = 0.45, 0.7  # where the width is under the one share of the usual one, or over the other
PART = 0.2  # of both, under which it is something else
OTHER = 0.35  # of the height, under which what is as wide as a body is something else as well: a hen between walkers
TINY, WHOLE = 0.1, 0.85  # of the usual height, between which what is seen may go on
MOSTLY, LEAST_LEGS = 0.5, 2  # of a life, and legs, that are too small
WENT = 0.3  # usual widths to one side from which it goes there
RIM = 2.0  # px to the picture's edge, beyond which the rest may be


@dataclass(frozen=True, eq=False)
class Leg:
    """Some seconds of a life in which it is smaller than a body: its detections, in order of time.

    ``blob`` (n,) rows of the detections, ``frame`` (n,), ``box`` (n, 4) px; ``usual`` (n, 2) width and height px of a
    body there; ``share`` width and height of what is seen, of those. ``lacking`` says whether it is far too small, as
    most of its life is, ``part`` whether it is that or smaller still, and ``narrow`` whether its width is; ``way`` is 1
    where it goes to the right, -1 to the left, 0 where it stays.
    """

    life: int
    blob: Int
    frame: Int
    box: Float
    usual: Float
    share: tuple[float, float]
    lacking: bool
    narrow: bool
    part: bool
    way: int


def lacking_legs(found: Detections, tracks: Tracks, times: Float, field: SizeField) -> list[Leg]:
    """Legs of what is not all of a body for most of its life; ``tracks`` were linked from ``found``, ``times`` s."""
    held = rows_by_life(tracks, len(found))
    out: list[Leg] = []
    for rows in np.split(held, np.flatnonzero(np.diff(tracks.identity[held])) + 1):
        if len(rows):
            out += _of_life(found, tracks.detection[rows].astype(np.int64), tracks.frame[rows], times, field)
    return out


def _of_life(found: Detections, blob: Int, frame: Int, times: Float, field: SizeField) -> list[Leg]:
    box = found.box[blob].astype(np.float64)
    usual = np.column_stack(field.of_part(box))
    leg = ((times[frame] - times[frame[0]]) / LEG).astype(np.int64)
    least = LEAST_SEEN * LEG / float(np.median(np.diff(times)))
    parts = [rows for rows in np.split(np.arange(len(blob)), np.flatnonzero(np.diff(leg)) + 1) if len(rows) >= least]
    legs = [one for one in (_leg(found, blob, frame, box, usual, rows) for rows in parts) if one is not None]
    enough = max(LEAST_LEGS, MOSTLY * len(parts))
    if len(legs) < enough:
        return []
    lacks = sum(leg.lacking for leg in legs) >= enough
    return [replace(leg, lacking=leg.lacking and lacks) for leg in legs]


def _leg(found: Detections, blob: Int, frame: Int, box: Float, usual: Float, rows: Int) -> Leg | None:
    """These rows as a leg, where they are lower than a body and not at the picture's edge."""
    wide, tall = np.median((box[rows, 2:] - box[rows, :2]) / usual[rows], axis=0).tolist()
    x1, y1, x2, y2 = np.median(box[rows], axis=0).tolist()
    at_edge = min(x1, y1, found.size[0] - x2, found.size[1] - y2) < RIM
    if at_edge or not TINY < tall < WHOLE or wide < TINY:
        return None
    smaller = NARROW <= wide < AS_WIDE
    part = not smaller and tall < LOW and (wide < NARROW or tall > OTHER)
    went = float(box[rows[-1], ::2].mean() - box[rows[0], ::2].mean()) / float(np.median(usual[rows, 0]))
    return Leg(
        int(blob[0]), blob[rows], frame[rows].astype(np.int64), box[rows], usual[rows], (wide, tall),
        part and min(wide, tall) > PART, wide < NARROW, part, round(np.sign(went)) if abs(went) > WENT else 0,
    )  # fmt: skip
