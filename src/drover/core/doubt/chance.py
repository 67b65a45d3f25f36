"""The chance that an identity is wrong at a moment, from all that is known of it.

Logistic regression (Cox 1958, "The regression analysis of binary sequences"), fitted to drawn scenes with their exact
truth by ``python -m drover.bench.doubt --fit``; docs/doubt.md says how well it holds on scenes that were held back.
"""

from __future__ import annotations

import json
from importlib import resources

import numpy as np
from numpy.typing import NDArray

__all__ = ["ERRORS_PER_DOUBT", "FALSE_BY_DOUBT", "FARTHEST", "MISSED_PER_CROSSING", "chance_of"]

Float = NDArray[np.float64]
_NUMBERS = ("nothing", "errors_per_doubt", "false_by_doubt", "missed_per_crossing")
FARTHEST = 4.0  # spreads from the middle beyond which evidence counts no more


def _fitted() -> tuple[Float, Float, Float, dict[str, float]]:
    table = json.loads(resources.files("drover").joinpath("data/doubt.json").read_text(encoding="utf-8"))
    rows = np.array([table["evidence"][name] for name in table["evidence"]], np.float64)
    return rows[:, 0], rows[:, 1], rows[:, 2], {name: float(table[name]) for name in _NUMBERS}


_MIDDLE, _SPREAD, _WEIGHT, _FITTED = _fitted()
ERRORS_PER_DOUBT = _FITTED["errors_per_doubt"]  # several moments may be about one error
FALSE_BY_DOUBT = _FITTED["false_by_doubt"]  # chance of a crossing to be false, for the square of the doubt about it
MISSED_PER_CROSSING = _FITTED["missed_per_crossing"]


def chance_of(evidence: Float) -> Float:
    """Of each row of evidence (n, all kinds of it) the chance, (n,) 0..1."""
    odds = np.clip((evidence - _MIDDLE) / _SPREAD, -FARTHEST, FARTHEST) @ _WEIGHT + _FITTED["nothing"]
    return 1.0 / (1.0 + np.exp(-odds))
