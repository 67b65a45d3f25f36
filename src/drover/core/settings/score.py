"""Settings of Score."""

from __future__ import annotations

from drover.core.settings.base import Settings, dial

__all__ = ["ScoreSettings"]


class ScoreSettings(Settings):
    """Score: the result held against the truth."""

    least_overlap: float = dial(
        0.5, 0.05, 0.95, "fraction", "Overlap from which a box counts as the true box found.", 0.05
    )
