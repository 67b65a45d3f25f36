"""Identity scores: IDF1, IDP, IDR.

Ristani, Solera, Zou, Cucchiara and Tomasi 2016, "Performance Measures and a Data Set for Multi-Target,
Multi-Camera Tracking", section 2: one tracked identity to one true identity over the whole clip, such that
most boxes agree.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from drover.core.assignment import solve_assignment
from drover.core.score.pairs import Pairs

__all__ = ["IdentityScore", "identity_score"]


@dataclass(frozen=True)
class IdentityScore:
    """Boxes that agree under the best identity assignment, and all true and tracked boxes."""

    agreeing: int
    true_boxes: int
    tracked_boxes: int

    @property
    def idf1(self) -> float:
        """Share of agreeing boxes among all, true and tracked."""
        total = self.true_boxes + self.tracked_boxes
        return 2 * self.agreeing / total if total else 0.0

    @property
    def idp(self) -> float:
        """Share of tracked boxes that agree."""
        return self.agreeing / self.tracked_boxes if self.tracked_boxes else 0.0

    @property
    def idr(self) -> float:
        """Share of true boxes that agree."""
        return self.agreeing / self.true_boxes if self.true_boxes else 0.0


def identity_score(pairs: Pairs, least_overlap: float) -> IdentityScore:
    """Identity scores of a clip; boxes agree when they overlap at least ``least_overlap`` (fraction)."""
    close = pairs.at_least(least_overlap)
    shared = np.zeros((pairs.truth_count, pairs.track_count))
    np.add.at(shared, (pairs.truth_id[close.truth], pairs.track_id[close.track]), 1)
    rows, columns = solve_assignment(shared, maximize=True)
    return IdentityScore(int(shared[rows, columns].sum()), len(pairs.truth_id), len(pairs.track_id))
