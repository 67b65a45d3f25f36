"""Moments: places in the result that deserve a look, found without any truth and ranked by how much they do.

Each kind has a score between 0 and 1, for how likely such a thing goes with a wrong identity, raised when a
crossing of a line hangs on it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import overload

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.both_cores import at_once
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
    usual_sizes,
)
from drover.core.types import Crossings, Tracks

__all__ = ["KINDS", "Moment", "Moments", "find_moments"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
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


@dataclass(frozen=True, eq=False)
class Moments(Sequence[Moment]):
    """Moments in columns, the most doubtful first; each is made into a :class:`Moment` when it is asked for.

    ``frames`` (n, 3) int64 as ``frame``, ``first`` and ``last`` of a moment; ``kind`` (n,) places in ``kinds``;
    ``score`` (n,) float64; ``identities`` (n, 2) int64, 0 for none; ``counted`` (n,) bool.
    """

    frames: Int
    kind: Int
    score: Float
    identities: Int
    counted: NDArray[np.bool_]
    kinds: tuple[str, ...]

    def __len__(self) -> int:
        return len(self.score)

    @overload
    def __getitem__(self, place: int) -> Moment: ...
    @overload
    def __getitem__(self, place: slice) -> Moments: ...
    def __getitem__(self, place: int | slice) -> Moment | Moments:
        if isinstance(place, slice):
            frames, kind, score = self.frames[place], self.kind[place], self.score[place]
            return Moments(frames, kind, score, self.identities[place], self.counted[place], self.kinds)
        frame, first, last = self.frames[place].tolist()
        who = tuple(one for one in self.identities[place].tolist() if one > 0)
        kind = self.kinds[int(self.kind[place])]
        return Moment(frame, first, last, kind, float(self.score[place]), who, bool(self.counted[place]))


def find_moments(
    tracks: Tracks,
    times: Float,
    crossings: Crossings | None = None,
    *,
    look: NDArray[np.uint8] | None = None,
    exits: tuple[Points, ...] = (),
) -> Moments:
    """All moments of a result, the most doubtful first.

    ``look`` (detections, 32) is how each detection looks, where anybody looked; in ``exits``, polygons in fractions,
    births and ends are in order.
    """
    if len(tracks) == 0:
        none = np.zeros(0, np.int64)
        return Moments(np.zeros((0, 3), np.int64), none, np.zeros(0), np.zeros((0, 2), np.int64), none > 0, ())
    _ = tracks.paths, tracks.frame  # made once, before two threads ask for them
    usual = usual_sizes(tracks)
    met, parts = at_once(lambda: meetings(tracks, times), lambda: [
        long_gaps(tracks, times, usual), *odd_ends(tracks, exits, usual), close_calls(tracks),
            *jumps(tracks, times, usual),
        shared_blobs(tracks, times),
    ])  # fmt: skip
    parts.append(met)
    if look is not None and len(look):
        parts.append(changed_looks(tracks, look))
    kept = _strongest(parts, times)
    counted = _counted(kept, crossings, times)
    score = np.where(counted, np.minimum(1.0, kept.score + COUNTS), kept.score)
    who, frame = kept.identities, kept.frames[:, 0]
    order = np.lexsort((who[:, 1], who[:, 0], frame, -score))
    return Moments(kept.frames[order], kept.kind[order], score[order], who[order], counted[order], kept.kinds)


def _strongest(parts: list[Found], times: Float) -> Moments:
    """Moments that share an identity and are close in time are one: the strongest.

    Kept ones of an identity are at least ``NEAR`` apart, so each stretch of that length holds one at most.
    """
    kind = np.repeat(np.arange(len(parts)), [len(part.score) for part in parts])
    score = np.concatenate([part.score for part in parts])
    place, who = np.concatenate([part.frames for part in parts]), np.concatenate([part.identities for part in parts])
    now = times[place[:, 0]]
    cells = np.floor(now / NEAR).astype(np.int64) + 1
    key = who * (int(cells.max(initial=0)) + 2) + cells[:, None]
    known = np.unique(key)
    kept = choose_strongest(np.argsort(-score, kind="stable"), now, who, key, known, np.searchsorted(known, key))
    kinds = tuple(part.kind for part in parts)
    return Moments(place[kept], kind[kept], score[kept], who[kept], np.zeros(len(kept), np.bool_), kinds)


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


def _counted(moments: Moments, crossings: Crossings | None, times: Float) -> NDArray[np.bool_]:
    """Of each moment, whether one of its identities crosses a line within a second of it."""
    out = np.zeros(len(moments), np.bool_)
    if crossings is None or len(crossings) == 0:
        return out
    # One identity after the other on one axis of time, so far apart that nobody's seconds reach another's.
    apart = float(times[-1] - times[0]) + 4.0
    when = np.sort(crossings.identity * apart + crossings.time)
    for slot in range(2):
        who = moments.identities[:, slot]
        now = who * apart + times[moments.frames[:, 0]]
        at = np.searchsorted(when, now)
        for near in (np.maximum(at - 1, 0), np.minimum(at, len(when) - 1)):
            out |= (who > 0) & (np.abs(when[near] - now) < 1.0)
    return out
