"""How far a count may be off: the crossings that may be false, and those that may have been missed.

Each crossing is false with a chance that grows with the doubt about its identity there; what was missed is taken to
come by chance, so many for each that was counted (a Poisson number). Both were fitted to drawn scenes. What nobody
doubts any more, confirmed crossings and moments worked off, makes the bounds narrower.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.count.audit import Audit, verdicts_of
from drover.core.doubt.chance import FALSE_BY_DOUBT, MISSED_PER_CROSSING
from drover.core.doubt.moments import Moments
from drover.core.doubt.review import Worked
from drover.core.types import Crossings

__all__ = ["CountBounds", "all_bounds", "crossing_doubts", "total_distribution"]

Float = NDArray[np.float64]
NEAR = 1.0  # s from a moment of its identity in which a crossing is as doubtful as that
TAIL = 0.05  # chance left out at either end
UNSEEN = 0.15  # doubt about a crossing that nobody saw, at least
STILL_MISSED = 0.25  # of what is missed no moment tells, however many are worked off


@dataclass(frozen=True)
class CountBounds:
    """A total as corrected so far, and between what it surely lies (nine times in ten)."""

    count: int
    low: int
    high: int

    @property
    def words(self) -> str:
        """In words; the total alone where nothing is in doubt."""
        return f"{self.count}" if self.low == self.high else f"{self.count}, surely {self.low} to {self.high}"


def crossing_doubts(crossings: Crossings, moments: Moments, worked: NDArray[np.int8], times: Float) -> Float:
    """The largest doubt left about each crossing's identity within a second of it, (crossings,) 0..1."""
    left = np.where((worked == Worked.OPEN) | (worked == Worked.UNSURE), moments.doubt, 0.0)
    first, last = times[moments.frames[:, 1]] - NEAR, times[moments.frames[:, 2]] + NEAR
    out = np.where(crossings.seen, 0.0, UNSEEN)
    order = np.argsort(first, kind="stable")
    begins = first[order]
    for row in range(len(crossings)):
        when = crossings.time[row]
        near = order[: int(np.searchsorted(begins, when, side="right"))]
        near = near[(last[near] >= when) & (moments.identities[near] == crossings.identity[row]).any(axis=1)]
        out[row] = max(out[row], float(left[near].max(initial=0.0)))
    return out


def all_bounds(
    crossings: Crossings, moments: Moments, worked: NDArray[np.int8], times: Float, audit: Audit
) -> dict[tuple[str, int], CountBounds]:
    """Bounds of every line, by its name, and direction, with what the audit said of its crossings."""
    said = verdicts_of(audit, crossings)
    doubt = crossing_doubts(crossings, moments, worked, times)
    share = max(STILL_MISSED, _share_left(moments, worked))
    out = {}
    for line, name in enumerate(crossings.line_names):
        for direction in (1, -1):
            mine = np.flatnonzero((crossings.line == line) & (crossings.direction == direction)).tolist()
            open_ = [row for row in mine if said[row] is None]
            rejected = sum(said[row] == "rejected" for row in mine)
            added = sum((one.line, one.direction) == (name, direction) for one in audit.missed)
            missed = MISSED_PER_CROSSING * (len(mine) + 1) * share
            out[name, direction] = _bounds(len(mine) - rejected + added, doubt[open_], missed)
    return out


def _bounds(total: int, doubt: Float, missed: float) -> CountBounds:
    low, chance = total_distribution(np.minimum(FALSE_BY_DOUBT * doubt**2, 0.9), missed)
    below = np.cumsum(chance)
    ends = int(np.searchsorted(below, TAIL, side="right")), int(np.searchsorted(below, 1.0 - TAIL, side="left"))
    return CountBounds(total, max(0, total + low + ends[0]), total + low + ends[1])


def _share_left(moments: Moments, worked: NDArray[np.int8]) -> float:
    left = (worked == Worked.OPEN) | (worked == Worked.UNSURE)
    whole = float(moments.doubt.sum())
    return float(moments.doubt[left].sum()) / whole if whole > 0 else 1.0


def total_distribution(false: Float, missed: float) -> tuple[int, Float]:
    """How the true total differs from the one counted: the least difference, and the chance of it and each next one.

    ``false`` (n,) chance of each crossing to be false, ``missed`` the mean number of missed ones.
    """
    chance = np.ones(1)
    for p in false.tolist():
        chance = np.convolve(chance, (p, 1.0 - p)) if p > 0 else np.concatenate([[0.0], chance])
    most = int(missed + 6 * np.sqrt(missed) + 6)
    poisson = np.empty(most + 1)
    poisson[0] = np.exp(-missed)
    for k in range(1, most + 1):
        poisson[k] = poisson[k - 1] * missed / k
    whole = np.convolve(chance, poisson)
    return -len(false), whole / whole.sum()
