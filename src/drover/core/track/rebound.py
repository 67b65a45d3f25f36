"""One that bounces is where no forecast puts it, yet no farther from where it was than it goes in that time.

A ball off a wall, an insect off a pane: what was just seen may be linked to the only free detection around that place,
of about its size, if nobody else may. The filter begins anew there, as fast as it was but not sure whither.

One that comes out of a blob may be farther from its forecast than the filter thinks possible, and still overlap it by
half: it is who is found there, if it is of its size and nobody else can be. These are rules of our own.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from drover.core.track.filters import XY, centre_and_size
from drover.core.track.living import Living
from drover.core.track.sharing import sharers

__all__ = ["LastStep", "begin_anew", "find_again", "find_lost", "find_rebounds"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
JUST_SEEN = 1.5  # times the time between two pictures
FAST = 0.15  # sizes that it goes between two pictures: what is slower does not bounce, it melts into something
REACH, NEAR = 1.5, 1.0  # times the way that it would have gone; sizes that it may be off in any case
CLEAR = 2.0  # times that, within which there is no other choice
ALIKE = 1.5  # ratio of widths, and of heights
HALF = 0.5  # overlap of one found again with its forecast


@dataclass(frozen=True)
class LastStep:
    """Of the last step: who was there (n,), rising, and the box that each had to itself (n,), a row of ``box`` (m, 4)
    px or -1 where there was none, or a shared one."""

    number: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    link: Int = field(default_factory=lambda: np.zeros(0, np.int64))
    box: NDArray[np.float32] = field(default_factory=lambda: np.zeros((0, 4), np.float32))


def find_lost(
    living: Living, before: LastStep, forecast: NDArray[np.float32], unseen: Float, match: Int,
    box: NDArray[np.float32], interval: float, farthest: float,
) -> tuple[Int, Int, Float]:  # fmt: skip
    """Who bounced or is found again, the detections that they are, and centre and speed (n, 4) of all when last seen.

    See :func:`find_rebounds`, and :func:`find_again` for ``farthest``.
    """
    count = living.count
    lost = living.believed[:count] & (match < 0)
    free = living.believed[:count] & ~living.hidden[:count]
    last = where_last_seen(living, before, np.flatnonzero(lost & free))
    who, detection = find_rebounds(last, living.mean[:count, 2:4], unseen, free, box, match, interval)
    lost[who] = False
    again, there = find_again(forecast, lost, box, np.append(match, detection), farthest)
    # It goes on from there as fast as it is thought to go.
    last[again, 2:] = living.mean[again, 4:6]
    last[again, :2] = centre_and_size(box[there])[:, :2] - last[again, 2:] * unseen[again, None]
    return np.concatenate([who, again]), np.concatenate([detection, there]), last


def where_last_seen(living: Living, before: LastStep, who: Int) -> Float:
    """Centre px and speed px/frame of all when last seen, (n, 4): of ``who`` the middle of the box found then.

    A filter lags where one bounces; who was linked in the step before need not be taken to be where it says.
    """
    last = living.seen[: living.count].copy()
    at = np.searchsorted(before.number, living.number[who])  # numbers rise with births, and rows keep their order
    known = at < len(before.number)
    who, at = who[known], at[known]
    known = (before.number[at] == living.number[who]) & (before.link[at] >= 0)
    there = before.box[before.link[at[known]]].astype(np.float64)
    last[who[known], :2] = (there[:, :2] + there[:, 2:]) / 2
    return last


def find_rebounds(
    last: Float,
    side: Float,
    unseen: Float,
    free: NDArray[np.bool_],
    box: NDArray[np.float32],
    match: Int,
    interval: float,
) -> tuple[Int, Int]:
    """Which of the ``free`` tracks bounced, and the detections that they are.

    ``last`` (n, 4) is centre px and speed px/frame when last seen, ``side`` (n, 2) width and height px, ``unseen`` (n,)
    frames since; ``box`` (m, 4) the detections, ``match`` (n,) which of them each has, -1 for none; ``interval`` frames
    between two pictures.
    """
    none = np.zeros(0, np.int64), np.zeros(0, np.int64)
    who = np.flatnonzero(match < 0)
    if len(who) == 0:
        return none
    who = who[free[who] & (unseen[who] <= JUST_SEEN * interval)]
    way = np.hypot(last[who, 2], last[who, 3]) * unseen[who]
    size = np.sqrt(np.maximum(side[who, 0] * side[who, 1], 1.0))
    fast = way >= FAST * size
    who, reach = who[fast], np.maximum(REACH * way, NEAR * size)[fast]
    if len(who) == 0:
        return none
    taken = np.zeros(len(box), np.bool_)
    taken[match[match >= 0]] = True
    left = np.flatnonzero(~taken)
    if len(left) == 0:
        return none
    there = box[left].astype(np.float64)
    middle, sides = (there[:, :2] + there[:, 2:]) / 2, np.maximum(there[:, 2:] - there[:, :2], 1.0)
    x, y = (last[who, axis, None] - middle[:, axis] for axis in (0, 1))
    apart = (x * x + y * y) / (reach * reach)[:, None]
    near = apart <= CLEAR * CLEAR
    one, place = np.nonzero(near & (near.sum(axis=1) == 1)[:, None] & (near.sum(axis=0) == 1)[None, :])
    unlike = np.abs(np.log(sides[place] / np.maximum(side[who[one]], 1.0))).max(axis=1, initial=0.0)
    good = (apart[one, place] <= 1.0) & (unlike <= np.log(ALIKE))
    return who[one[good]], left[place[good]]


def find_again(
    forecast: NDArray[np.float32], lost: NDArray[np.bool_], box: NDArray[np.float32], match: Int, farthest: float
) -> tuple[Int, Int]:
    """Which of the ``lost`` (n,) are where a free detection is, and these: beyond the gate, yet of one place and size.

    And no farther from their forecast than ``farthest`` sizes.
    ``forecast`` (n, 4) and ``box`` (m, 4) px, ``match`` (n or more,) the detections that are taken, -1 for none.
    """
    there = sharers(forecast, box, lost, match, HALF)
    who = np.flatnonzero(there >= 0)
    if len(who) == 0:
        return who, who
    wanted = np.bincount(there[who], minlength=len(box)) + np.bincount(match[match >= 0], minlength=len(box))
    who = who[wanted[there[who]] == 1]
    here, found = forecast[who].astype(np.float64), box[there[who]].astype(np.float64)
    both = np.minimum(here[:, 2:], found[:, 2:]) - np.maximum(here[:, :2], found[:, :2])
    side = [np.maximum(each[:, 2:] - each[:, :2], 1.0) for each in (here, found)]
    shared = np.maximum(both, 0.0).prod(axis=1)
    good = shared >= HALF * (side[0].prod(axis=1) + side[1].prod(axis=1) - shared)
    apart = np.hypot(*((here[:, :2] + here[:, 2:] - found[:, :2] - found[:, 2:]) / 2).T)
    good &= apart <= farthest * np.sqrt(side[0].prod(axis=1))
    good &= np.abs(np.log(side[0] / side[1])).max(axis=1, initial=0.0) <= np.log(ALIKE)
    return who[good], there[who[good]]


def begin_anew(mean: Float, cov: Float, last: Float, who: Int, box: NDArray[np.float32], unseen: Float) -> None:
    """Put filters where they were found, going the way that they came from where they were last seen; in place."""
    there = box.astype(np.float64)
    middle = (there[:, :2] + there[:, 2:]) / 2
    speed = np.hypot(last[who, 2], last[who, 3])
    mean[who, :2] = middle
    mean[who, 4:6] = (middle - last[who, :2]) / np.maximum(unseen[who], 1e-6)[:, None]
    mean[who, 6:8] = 0.0
    for c in (0, 6):
        cov[who, c + 1] = cov[who, c + 3] = cov[who, c + 4] = 0.0
        cov[who, c + 2] = np.maximum(cov[who, c + 2], speed**2)
    cov[who, XY] = 0.0
