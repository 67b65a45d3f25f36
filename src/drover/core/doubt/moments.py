"""Moments: places in the result that deserve a look, found without any truth, the most doubtful first.

What is odd is found kind by kind; what is odd about the same identities at the same time is one moment. All that is
known of it together gives the chance that the identities are wrong there.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import overload

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.both_cores import each_of
from drover.core.doubt.chance import chance_of
from drover.core.doubt.futures import FUTURES, Futures
from drover.core.doubt.kinds import (
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
from drover.core.ordering import order_of
from drover.core.settings.base import Points
from drover.core.types import LOOK, Crossings, Tracks

__all__ = ["EVIDENCE", "KINDS", "Moment", "Moments", "evidence_of", "find_moments"]

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
NEAR = 0.6  # s: what is odd of one identity nearer than this is one moment
LONGEST = 1.0  # s on either side of where to look that one moment reaches
_ENDS = np.array([{"begin": 1, "end": 2}.get(kind, 0) for kind in KINDS])
EVIDENCE = (*KINDS, *(f"mainly {kind}" for kind in KINDS), "how many", *FUTURES)


@dataclass(frozen=True)
class Moment:
    """A place worth a look.

    ``frame`` is where to look, ``first`` and ``last`` frame what it is about; ``identities`` those concerned;
    ``kind`` a key of :data:`KINDS`; ``doubt`` 0..1 the chance that an identity is wrong there; ``counted`` whether a
    crossing hangs on it.
    """

    frame: int
    first: int
    last: int
    kind: str
    doubt: float
    identities: tuple[int, ...]
    counted: bool = False

    @property
    def words(self) -> str:
        """What it is, in plain words."""
        who = " and ".join(str(identity) for identity in self.identities[:3])
        return f"{KINDS[self.kind]}: {who}" + (", and a count hangs on it" if self.counted else "")


@dataclass(frozen=True, eq=False)
class Moments(Sequence[Moment]):
    """Moments in columns, the most doubtful first; each is made into a :class:`Moment` when it is asked for.

    ``frames`` (n, 3) int64 as ``frame``, ``first`` and ``last`` of a moment; ``kind`` (n,) places in :data:`KINDS`;
    ``doubt`` (n,) float64; ``identities`` (n, 2) int64, 0 for none; ``counted`` (n,) bool.
    """

    frames: Int
    kind: Int
    doubt: Float
    identities: Int
    counted: NDArray[np.bool_]

    @staticmethod
    def none() -> Moments:
        """No moments."""
        none = np.zeros(0, np.int64)
        return Moments(np.zeros((0, 3), np.int64), none, np.zeros(0), np.zeros((0, 2), np.int64), none > 0)

    def __len__(self) -> int:
        return len(self.doubt)

    @overload
    def __getitem__(self, place: int) -> Moment: ...
    @overload
    def __getitem__(self, place: slice) -> Moments: ...
    def __getitem__(self, place: int | slice) -> Moment | Moments:
        if isinstance(place, slice):
            frames, kind, doubt = self.frames[place], self.kind[place], self.doubt[place]
            return Moments(frames, kind, doubt, self.identities[place], self.counted[place])
        frame, first, last = self.frames[place].tolist()
        who = tuple(one for one in self.identities[place].tolist() if one > 0)
        kind = tuple(KINDS)[int(self.kind[place])]
        return Moment(frame, first, last, kind, float(self.doubt[place]), who, bool(self.counted[place]))


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
    moments, evidence = evidence_of(tracks, times, crossings, look=look, exits=exits)
    doubt = chance_of(evidence)
    order = np.lexsort((moments.identities[:, 1], moments.identities[:, 0], moments.frames[:, 0], -doubt))
    return Moments(
        moments.frames[order], moments.kind[order], doubt[order], moments.identities[order], moments.counted[order]
    )


def evidence_of(
    tracks: Tracks,
    times: Float,
    crossings: Crossings | None = None,
    *,
    look: NDArray[np.uint8] | None = None,
    exits: tuple[Points, ...] = (),
) -> tuple[Moments, Float]:
    """The moments of a result with no doubt yet, and what is known of each, (moments, len(EVIDENCE))."""
    if len(tracks) == 0:
        return Moments.none(), np.zeros((0, len(EVIDENCE)))
    _ = tracks.paths, tracks.frame  # made once, before two threads ask for them
    usual = usual_sizes(tracks)
    met, jumped, gaps, ends, close, shared = each_of(  # the longest first
        lambda: [meetings(tracks, times)],
        lambda: [*jumps(tracks, times, usual)],
        lambda: [long_gaps(tracks, times, usual)],
        lambda: [*odd_ends(tracks, exits, usual)],
        lambda: [close_calls(tracks)],
        lambda: [shared_blobs(tracks, times)],
    )
    parts = [*gaps, *ends, *close, *jumped, *shared, *met]
    if look is not None and len(look):
        parts.append(changed_looks(tracks, look))
    looks = np.zeros((0, LOOK), np.uint8) if look is None else look
    futures = Futures(tracks, times, looks, usual)
    moments, strengths = _as_moments(parts, times, futures.rivals)
    future = futures.evidence(moments.frames, moments.identities, _ENDS[moments.kind])
    counted = _counted(moments, crossings, times)
    made = Moments(moments.frames, moments.kind, moments.doubt, moments.identities, counted)
    return made, np.concatenate([strengths, future], axis=1)


def _as_moments(parts: list[Found], times: Float, rivals_of: Callable[[Int, Int, Int], Int]) -> tuple[Moments, Float]:
    """What is odd of the same identities, or of two beside each other, at the same time is one moment.

    It is told by the strongest of it.

    Beside the moments how strong each kind of it is, which of them is the strongest, and of how much it consists.
    """
    kinds = tuple(KINDS)
    kind = np.repeat([kinds.index(part.kind) for part in parts], [len(part.score) for part in parts])
    score = np.concatenate([part.score for part in parts])
    frames, who = np.concatenate([part.frames for part in parts]), np.concatenate([part.identities for part in parts])
    now = times[frames[:, 0]]
    begin, end = np.maximum(times[frames[:, 1]], now - LONGEST), np.minimum(times[frames[:, 2]], now + LONGEST)
    concerned = rivals_of(frames[:, 0], who, _ENDS[kind])
    names, dense = np.unique(concerned, return_inverse=True)
    dense = dense.reshape(who.shape)
    order = order_of(dense.ravel())
    start = np.searchsorted(dense.ravel()[order], np.arange(len(names) + 1))
    real = concerned > 0
    owner = take_together(
        np.argsort(-score, kind="stable"),
        begin,
        end,
        dense,
        real,
        start.astype(np.int64),
        (order // 2).astype(np.int64),
    )
    kept = np.flatnonzero(owner == np.arange(len(owner)))
    place = np.searchsorted(kept, owner)
    strengths = np.zeros((len(kept), 2 * len(kinds) + 1))
    np.maximum.at(strengths, (place, kind), score)
    strengths[np.arange(len(kept)), len(kinds) + kind[kept]] = 1.0
    strengths[:, -1] = np.log1p(np.bincount(place, minlength=len(kept)))
    first, last = frames[kept, 1].copy(), frames[kept, 2].copy()
    np.minimum.at(first, place, np.maximum(frames[:, 1], frames[kept[place], 1]))
    np.maximum.at(last, place, np.minimum(frames[:, 2], frames[kept[place], 2]))
    whole = np.column_stack([frames[kept, 0], first, last])
    return Moments(whole, kind[kept], np.zeros(len(kept)), who[kept], np.zeros(len(kept), np.bool_)), strengths


@njit(cache=True, nogil=True)
def take_together(
    order: Int, begin: Float, end: Float, who: Int, real: NDArray[np.bool_], start: Int, item: Int
) -> Int:  # pragma: no cover
    """The moment that each odd thing belongs to, taken in ``order``: the first of an identity of its own near in time.

    ``begin``, ``end`` s; ``who`` (n, 2) identities from 0, ``real`` which of them are; the things of identity ``p`` are
    ``item[start[p]:start[p + 1]]``.
    """
    owner = np.full(order.shape[0], -1, np.int64)
    for n in order:
        if owner[n] >= 0:
            continue
        owner[n] = n
        for slot in range(2):
            if not real[n, slot]:
                continue
            p = who[n, slot]
            for k in range(start[p], start[p + 1]):
                q = item[k]
                if owner[q] < 0 and begin[q] <= end[n] + NEAR and end[q] >= begin[n] - NEAR:
                    owner[q] = n
    return owner


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
