"""The chance that an identity is wrong at a moment, from all that is known of it.

Logistic regression (Cox 1958, "The regression analysis of binary sequences"), fitted to drawn scenes with their exact
truth by ``python -m drover.bench.doubt --fit``; docs/doubt.md says how well it holds on scenes that were held back.
"""

from __future__ import annotations

import json
from importlib import resources

import numpy as np
from numpy.typing import NDArray

__all__ = ["ERRORS_PER_DOUBT", "FARTHEST", "chance_of"]

Float = NDArray[np.float64]
FARTHEST = 4.0  # spreads from the middle beyond which evidence counts no more


def _fitted() -> tuple[Float, Float, Float, float, float]:
    table = json.loads(resources.files("drover").joinpath("data/doubt.json").read_text(encoding="utf-8"))
    rows = np.array([table["evidence"][name] for name in table["evidence"]], np.float64)
    return rows[:, 0], rows[:, 1], rows[:, 2], float(table["nothing"]), float(table["errors_per_doubt"])


_MIDDLE, _SPREAD, _WEIGHT, _NOTHING, ERRORS_PER_DOUBT = _fitted()


def chance_of(evidence: Float) -> Float:
    """Of each row of evidence (n, all kinds of it) the chance, (n,) 0..1."""
    odds = np.clip((evidence - _MIDDLE) / _SPREAD, -FARTHEST, FARTHEST) @ _WEIGHT + _NOTHING
    return 1.0 / (1.0 + np.exp(-odds))
