"""Settings of Track."""

from __future__ import annotations

from drover.core.settings.base import Settings, dial

__all__ = ["LifeSettings", "MatchSettings", "MotionSettings", "TrackSettings"]


class MotionSettings(Settings):
    """The motion filter: constant velocity, with room for change."""

    jumpiness: float = dial(
        0.5,
        0.01,
        50.0,
        "px/frame²",
        "How abruptly animals change speed. Higher turns faster and coasts less surely.",
        0.05,
    )
    box_noise: float = dial(
        2.5, 0.1, 200.0, "px", "How much a detected box jitters. Higher smooths more and lags more.", 0.1
    )
    size_noise: float = dial(0.5, 0.01, 50.0, "px/frame", "How fast a box may change its width and height.", 0.1)
    size_doubt: float = dial(
        5.0,
        0.0,
        50.0,
        "×",
        "How much less a box is trusted whose size jumps, as when two animals melt into one. 0 trusts all alike.",
        0.5,
    )


class MatchSettings(Settings):
    """Which detection may continue which track, and what it costs."""

    gate: float = dial(
        8.0, 0.5, 20.0, "σ", "Largest distance between forecast and detection, in standard deviations.", 0.1
    )
    overlap_weight: float = dial(
        0.3, 0.0, 1.0, "fraction", "Share of the cost that comes from overlap; the rest is distance.", 0.05
    )


class LifeSettings(Settings):
    """When a track is born, believed and given up."""

    hits_to_confirm: int = dial(8, 1, 100, "frames", "Frames a new track must be seen before it is believed.", 1)
    longest_gap: float = dial(2.0, 0.0, 60.0, "s", "Longest time an animal may stay unseen and keep its identity.", 0.1)


class TrackSettings(Settings):
    """Track: detections linked into identities."""

    motion: MotionSettings = MotionSettings()
    match: MatchSettings = MatchSettings()
    life: LifeSettings = LifeSettings()
