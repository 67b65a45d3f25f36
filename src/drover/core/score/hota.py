"""HOTA: detection and association in balance, over nineteen overlap limits.

Luiten, Osep, Dendorfer, Torr, Geiger, Leal-Taixe and Leibe 2021, "HOTA: A Higher Order Metric for Evaluating
Multi-Object Tracking", equations 1 to 9.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from drover.core.score.pairs import Pairs, assign_pairs

__all__ = ["HotaScore", "hota_score"]

LIMITS = np.arange(1, 20) * 0.05
MOST_CELLS = 4_000_000  # identities by identities that are counted in a table


@dataclass(frozen=True)
class HotaScore:
    """Fractions, averaged over the overlap limits 0.05 to 0.95."""

    hota: float
    deta: float
    assa: float
    loca: float


def hota_score(pairs: Pairs) -> HotaScore:
    """HOTA with its parts: detection, association and localisation accuracy."""
    table = np.array([_at_limit(pairs, float(limit)) for limit in LIMITS])
    hota, deta, assa, loca = table.mean(axis=0)
    return HotaScore(float(hota), float(deta), float(assa), float(loca))


def _at_limit(pairs: Pairs, limit: float) -> tuple[float, float, float, float]:
    """HOTA, DetA, AssA and LocA at one limit; LocA is 1 where nothing was found."""
    close = pairs.at_least(limit)
    if len(close.truth) == 0:
        return 0.0, 0.0, 0.0, 1.0
    truth_boxes, track_boxes = np.bincount(pairs.truth_id), np.bincount(pairs.track_id)
    ids = close.truth_id[close.truth], close.track_id[close.track]
    # Equation 8: most matches first, then those whose identities agree most over the clip, then overlap.
    best = _agreement(ids[0], ids[1], truth_boxes, track_boxes)
    chosen = assign_pairs(close, 1e5 + best + 1e-5 * close.overlap)
    agreement = _agreement(ids[0][chosen], ids[1][chosen], truth_boxes, track_boxes)
    tp = len(chosen)
    deta = tp / (len(pairs.truth_id) + len(pairs.track_id) - tp)
    assa = float(agreement.mean())
    return float(np.sqrt(deta * assa)), deta, assa, float(close.overlap[chosen].mean())


def _agreement(truth: np.ndarray, track: np.ndarray, truth_boxes: np.ndarray, track_boxes: np.ndarray) -> np.ndarray:
    """For each pair: boxes in which its two identities meet, over boxes in which either appears (equation 2)."""
    key = truth * len(track_boxes) + track
    cells = len(truth_boxes) * len(track_boxes)
    if cells <= MOST_CELLS:
        together = np.bincount(key, minlength=cells)[key]
    else:
        _, place, count = np.unique(key, return_inverse=True, return_counts=True)
        together = count[place]
    return together / (truth_boxes[truth] + track_boxes[track] - together)
