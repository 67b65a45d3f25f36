"""HOTA: detection and association in balance, over nineteen overlap limits.

Luiten, Osep, Dendorfer, Torr, Geiger, Leal-Taixe and Leibe 2021, "HOTA: A Higher Order Metric for Evaluating
Multi-Object Tracking", equations 1 to 9. The assignment is made once a frame, by overlap times how well the two
identities go together over the clip (soft counts); its pairs are then judged at every limit.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.score.pairs import Pairs, assign_pairs

__all__ = ["HotaScore", "hota_score"]

LIMITS = np.arange(1, 20) * 0.05
ROUNDING = 1e-9  # an overlap this little under a limit reaches it

Float = NDArray[np.float64]
Int = NDArray[np.int64]


@dataclass(frozen=True)
class HotaScore:
    """Fractions, averaged over the overlap limits 0.05 to 0.95."""

    hota: float
    deta: float
    assa: float
    loca: float


def hota_score(pairs: Pairs) -> HotaScore:
    """HOTA with its parts: detection, association and localisation accuracy."""
    key = pairs.truth_id[pairs.truth] * max(1, pairs.track_count) + pairs.track_id[pairs.track]
    alone = np.bincount(pairs.truth_id), np.bincount(pairs.track_id)
    either = alone[0][pairs.truth_id[pairs.truth]] + alone[1][pairs.track_id[pairs.track]]
    together = _summed(key, _soft_shares(pairs))
    chosen = assign_pairs(pairs, pairs.overlap * together / (either - together))
    _, whose = np.unique(key[chosen], return_inverse=True)
    table = np.array([_at_limit(pairs, chosen, whose, either, float(limit)) for limit in LIMITS])
    hota, deta, assa, loca = table.mean(axis=0)
    return HotaScore(float(hota), float(deta), float(assa), float(loca))


def _soft_shares(pairs: Pairs) -> Float:
    """Share of a match in each pair: its overlap against all overlaps that either of its boxes has in the frame."""
    of_truth = np.bincount(pairs.truth, pairs.overlap, len(pairs.truth_id))[pairs.truth]
    of_track = np.bincount(pairs.track, pairs.overlap, len(pairs.track_id))[pairs.track]
    return pairs.overlap / (of_truth + of_track - pairs.overlap)


def _summed(key: Int, value: Float) -> Float:
    """For each pair the sum of the values of all pairs with its key."""
    _, place = np.unique(key, return_inverse=True)
    return np.bincount(place, value).astype(np.float64)[place] if len(key) else np.zeros(0)


def _at_limit(pairs: Pairs, chosen: Int, whose: Int, either: Int, limit: float) -> tuple[float, float, float, float]:
    """HOTA, DetA, AssA and LocA at one limit; LocA is 1 where nothing was found.

    ``whose`` (chosen,) numbers the two identities of each pair that was chosen.
    """
    reached = pairs.overlap[chosen] >= limit - ROUNDING
    right, whose = chosen[reached], whose[reached]
    if len(right) == 0:
        return 0.0, 0.0, 0.0, 1.0
    together = np.bincount(whose)[whose].astype(np.float64)
    assa = float((together / (either[right] - together)).mean())
    deta = len(right) / (len(pairs.truth_id) + len(pairs.track_id) - len(right))
    return float(np.sqrt(deta * assa)), deta, assa, float(pairs.overlap[right].mean())
