"""Names of the scenes, known without what it takes to draw them."""

from __future__ import annotations

__all__ = ["SCENE_NAMES"]

SCENE_NAMES = (
    "gap", "gap-short", "noon", "squall", "rest", "far", "crossing", "canopy", "ewe-and-lamb", "muster", "slow-camera",
)  # fmt: skip
