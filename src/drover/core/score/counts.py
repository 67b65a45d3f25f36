"""Counts held against true counts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from drover.core.types import Crossings

__all__ = ["CountScore", "count_score"]


@dataclass(frozen=True)
class CountScore:
    """Error summed over lines and directions, each identity once a direction; and the true total."""

    count_error: int
    true_total: int


def count_score(crossings: Crossings, truth: Crossings) -> CountScore:
    """Count error: lines are matched by name; a line that only one side has counts in full."""
    error = total = 0
    for name in dict.fromkeys((*truth.line_names, *crossings.line_names)):
        for direction in (1, -1):
            true, counted = _identities(truth, name, direction), _identities(crossings, name, direction)
            error += abs(true - counted)
            total += true
    return CountScore(error, total)


def _identities(crossings: Crossings, name: str, direction: int) -> int:
    if name not in crossings.line_names:
        return 0
    rows = (crossings.line == crossings.line_names.index(name)) & (crossings.direction == direction)
    return len(np.unique(crossings.identity[rows]))
