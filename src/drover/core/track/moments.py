"""Moments: places in the result that deserve a look, found without any truth and ranked by how much they do.

Each kind has a score between 0 and 1, for how likely such a thing goes with a wrong identity, raised when a
crossing of a line hangs on it.
"""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.settings.base import Points
from drover.core.track.doubts import (
    Found,
    changed_looks,
    close_calls,
    jumps,
    long_gaps,
    meetings,
    odd_ends,
    shared_blobs,
)
from drover.core.types import Crossings, Tracks

__all__ = ["KINDS", "Moment", "find_moments"]

Float = NDArray[np.float64]
KINDS = {
    "gap": "long gap",
    "shared": "two in one blob",
    "meet": "two pass through each other",
    "margin": "close call between two",
    "begin": "begins away from the edge",
    "end": "ends away from the edge",
    "size": "sudden change of size",
    "speed": "sudden change of speed",
    "look": "sudden change of look",
}
NEAR = 0.6  # s: moments of one identity nearer than this are one
COUNTS = 0.25  # what a crossing within a second adds to a moment's score


@dataclass(frozen=True)
class Moment:
    """A place worth a look.

    ``frame`` is where to look, ``first`` and ``last`` frame what it is about; ``identities`` those concerned;
    ``kind`` a key of :data:`KINDS`; ``score`` 0..1; ``counted`` whether a crossing hangs on it.
    """

    frame: int
    first: int
    last: int
    kind: str
    score: float
    identities: tuple[int, ...]
    counted: bool = False

    @property
    def doubt(self) -> float:
        """The score without what was added because a crossing hangs on it."""
        return self.score - COUNTS if self.counted else self.score

    @property
    def words(self) -> str:
        """What it is, in plain words."""
        who = " and ".join(str(identity) for identity in self.identities[:3])
        return f"{KINDS[self.kind]}: {who}" + (", and a count hangs on it" if self.counted else "")


def find_moments(
    tracks: Tracks,
    times: Float,
    crossings: Crossings | None = None,
    *,
    look: NDArray[np.uint8] | None = None,
    exits: tuple[Points, ...] = (),
) -> tuple[Moment, ...]:
    """All moments of a result, the most doubtful first.

    ``look`` (detections, 32) is how each detection looks, where anybody looked; in ``exits``, polygons in fractions,
    births and ends are in order.
    """
    if len(tracks) == 0:
        return ()
    parts = [
        long_gaps(tracks, times), *odd_ends(tracks, exits), close_calls(tracks), *jumps(tracks, times),
        shared_blobs(tracks, times), meetings(tracks, times),
    ]  # fmt: skip
    if look is not None and len(look):
        parts.append(changed_looks(tracks, look))
    counted = _crossing_times(crossings)
    moments = [_with_count(moment, counted, times) for moment in _strongest(parts, times)]
    return tuple(sorted(moments, key=lambda m: (-m.score, m.frame, m.identities)))


def _strongest(parts: list[Found], times: Float) -> list[Moment]:
    """Moments that share an identity and are close in time are one: the strongest.

    Kept ones of an identity are at least ``NEAR`` apart, so each stretch of that length holds one at most.
    """
    sizes = [len(part.score) for part in parts]
    kind = np.repeat(np.arange(len(parts)), sizes)
    score = np.concatenate([part.score for part in parts])
    place, who = np.concatenate([part.frames for part in parts]), np.concatenate([part.identities for part in parts])
    now = times[place[:, 0]]
    cells = np.floor(now / NEAR).astype(np.int64) + 1
    key = who * (int(cells.max(initial=0)) + 2) + cells[:, None]
    known = np.unique(key)
    kept = choose_strongest(np.argsort(-score, kind="stable"), now, who, key, known, np.searchsorted(known, key))
    return [
        Moment(frame, first, last, parts[n].kind, value, tuple(one for one in identities if one > 0))
        for (frame, first, last), n, value, identities in zip(
            place[kept].tolist(), kind[kept].tolist(), score[kept].tolist(), who[kept].tolist(), strict=True
        )
    ]


@njit(cache=True, nogil=True)
def choose_strongest(
    order: NDArray[np.int64],
    now: Float,
    who: NDArray[np.int64],
    key: NDArray[np.int64],
    known: NDArray[np.int64],
    at: NDArray[np.int64],
) -> NDArray[np.int64]:  # pragma: no cover
    """Which moments are kept, taken in ``order``: those with no kept one of an identity of theirs within ``NEAR`` s.

    ``key`` (moments, 2) is identity and stretch of time as one number, ``known`` all of them, ``at`` their places.
    """
    taken = np.full(known.shape[0], -np.inf)
    out = np.empty(order.shape[0], np.int64)
    count = 0
    for n in order:
        free = True
        for slot in range(who.shape[1]):
            if who[n, slot] <= 0:
                continue
            for step in range(-1, 2):
                place = at[n, slot] + step
                if 0 <= place < known.shape[0] and known[place] == key[n, slot] + step:
                    free &= abs(taken[place] - now[n]) >= NEAR
        if not free:
            continue
        for slot in range(who.shape[1]):
            if who[n, slot] > 0:
                taken[at[n, slot]] = now[n]
        out[count] = n
        count += 1
    return out[:count].copy()


def _crossing_times(crossings: Crossings | None) -> dict[int, list[float]]:
    """Times of the crossings of each identity, rising."""
    out: dict[int, list[float]] = {}
    if crossings is not None:
        order = np.argsort(crossings.time, kind="stable")
        for who, when in zip(crossings.identity[order].tolist(), crossings.time[order].tolist(), strict=True):
            out.setdefault(who, []).append(when)
    return out


def _with_count(moment: Moment, counted: dict[int, list[float]], times: Float) -> Moment:
    now = float(times[moment.frame])
    for identity in moment.identities:
        mine = counted.get(identity, [])
        at = bisect_left(mine, now)
        if any(abs(mine[k] - now) < 1.0 for k in (at - 1, at) if 0 <= k < len(mine)):
            score = min(1.0, moment.score + COUNTS)
            return Moment(moment.frame, moment.first, moment.last, moment.kind, score, moment.identities, True)
    return moment
