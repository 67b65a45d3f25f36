"""Names of the scenes, known without what it takes to draw them."""

from __future__ import annotations

__all__ = ["MOVING_NAMES", "SCENE_NAMES", "WORLD_NAMES"]

SCENE_NAMES = (
    "gap", "gap-short", "noon", "squall", "rest", "far", "crossing", "canopy", "ewe-and-lamb", "muster", "slow-camera",
)  # fmt: skip
MOVING_NAMES = ("sway", "drone", "trailer", "brand", "cuts")
WORLD_NAMES = (
    "pond", "hive", "lane", "night", "rain", "yard-lamp", "low", "five", "dusty", "standing", "open-day",
    "long-shadows", "barn-door", "track-road", "empty-water", "empty-noise",
)  # fmt: skip
