"""Who was who round a box drawn by hand: linked otherwise, two bodies may be one number there, or one may be two.

A box is drawn where things are close together, which is where other settings link otherwise. So it remembers, of the
identity that it is for and of those beside it, a place before and a place after; when it is applied each of them goes
on as itself first, and then the box is put.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from drover.core.edits.edit import Place, fraction_box
from drover.core.edits.finding import identity_at
from drover.core.edits.rows import EditedRows
from drover.core.types import Tracks

__all__ = ["places_held", "whose"]

Float = NDArray[np.float64]
ROUND = 1.0  # s before and after in which somebody comes near
NEAR = 0.5  # sizes of the box between two edges that count as near
MOST_BESIDE = 3
EDGE = 0.01  # of the picture: a box as near to its edge is cut off, and its area says nothing
TWO = 1.5  # times the usual area: a box as big holds another as well, and is no place to tell anybody by
COVERED = 0.3  # of a box by the one drawn, from which it may be the same thing that was found
Sides = tuple[float, float, float, float]
Finder = Callable[[int, int], Place | None]  # a clear place of an identity before (-1) or after (1) the frame


def places_held(
    tracks: Tracks, times: Float, identity: int, frame: int, box: NDArray, find: Finder
) -> tuple[Place, ...]:
    """Places before and after a frame, two for each: of the identity first, then of those near its ``box`` (4,) px.

    Left out is whom these places would not find again even now; the identity itself has its one place twice where it is
    on one side only, another that is has none.
    """
    rows = EditedRows(tracks, times)
    out: list[Place] = []
    drawn = fraction_box(box, tracks.size)
    own, whole = _area(drawn), min(drawn[0], drawn[1], 1 - drawn[2], 1 - drawn[3]) > EDGE
    for who in (identity, *_beside(tracks, times, identity, frame, box)):
        least = _usual_area(tracks, times, who, frame)
        least = min(least, own) if who == identity and whole else least
        sides = [
            place for place in (find(who, -1), find(who, 1))
            if place and identity_at(rows, place) == who and _area(place.box) <= TWO * least
            and (who == identity or _covered(place.box, drawn) < COVERED)
        ]  # fmt: skip
        if len(sides) == 2:
            out += sides
        elif who == identity:
            if not sides:
                return ()  # whose the box is could not be told from the first pair
            out += [sides[0], sides[0]]
    return tuple(out)


def _usual_area(tracks: Tracks, times: Float, who: int, frame: int) -> float:
    """The area that an identity has near a frame where it is alone, a fraction of the picture."""
    path = tracks.path_of(who)
    near = path[np.abs(times[tracks.frame[path]] - times[frame]) <= 2 * ROUND]
    box = tracks.box[near if len(near) else path].astype(np.float64)
    return float(np.quantile((box[:, 2:] - box[:, :2]).prod(axis=1), 0.25)) / (tracks.size[0] * tracks.size[1])


def _covered(one: Sides, other: Sides) -> float:
    """The part of the smaller of two boxes that the other lies over."""
    wide, high = (min(one[2 + k], other[2 + k]) - max(one[k], other[k]) for k in (0, 1))
    return max(wide, 0.0) * max(high, 0.0) / max(min(_area(one), _area(other)), 1e-9)


def _area(box: Sides) -> float:
    return (box[2] - box[0]) * (box[3] - box[1])


def _beside(tracks: Tracks, times: Float, identity: int, frame: int, box: NDArray) -> list[int]:
    """Who comes near a box round a frame, the nearest first."""
    low, past = np.searchsorted(times[: tracks.frame_count], (times[frame] - ROUND, times[frame] + ROUND)).tolist()
    rows = np.arange(int(tracks.frame_start[low]), int(tracks.frame_start[past]))
    near = np.asarray(box, np.float64)
    reach = NEAR * np.sqrt(max(float((near[2:] - near[:2]).prod()), 1.0))
    theirs = tracks.box[rows].astype(np.float64)
    gap = np.maximum(np.maximum(theirs[:, :2] - near[2:], near[:2] - theirs[:, 2:]), 0.0)
    apart = np.hypot(gap[:, 0], gap[:, 1])
    order = rows[np.argsort(apart, kind="stable")]
    close = order[np.sort(apart) <= reach]
    found = dict.fromkeys(int(who) for who in tracks.identity[close].tolist())
    return [who for who in found if who != identity][:MOST_BESIDE]


def whose(
    rows: EditedRows,
    hold: tuple[Place, ...],
    frame: int,
    change_over: Callable[[EditedRows, int, int, int, Place, Place], None],
) -> int | None:
    """Let everybody that is remembered go on as itself over a frame; the identity of the first pair, None without one.

    What is not there any more, on one side or the other, is left as it is.
    """
    for before, after in zip(hold[::2], hold[1::2], strict=True):
        one, other = identity_at(rows, before), identity_at(rows, after)
        if one is not None and other is not None and one != other:
            change_over(rows, one, other, frame, before, after)
    for place in hold[:2]:
        who = identity_at(rows, place)
        if who is not None:
            return who
    return None
