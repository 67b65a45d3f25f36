"""What Track is told of how things move in a clip, and what is taken where nobody measured it."""

from __future__ import annotations

from dataclasses import dataclass

from drover.core.recipe import TrackSettings, as_taken, is_auto

__all__ = ["OF_BOXES", "USUAL", "Pace", "left_to_the_clip", "with_pace"]


@dataclass(frozen=True)
class Pace:
    """Every number of Track that may be left to the clip, each by its name there.

    ``jumpiness`` px/frame² and ``box_noise`` px hold at 50 px of size and for frames of 1/25 s; ``gate`` in standard
    deviations, ``farthest`` in sizes, ``hits_to_confirm`` in frames of 1/25 s, ``longest_gap`` and ``join_within`` s.
    """

    jumpiness: float = 0.5
    box_noise: float = 1.5
    gate: float = 7.0
    farthest: float = 1.2
    hits_to_confirm: int = 8
    longest_gap: float = 3.5
    join_within: float = 4.0


USUAL = Pace()  # where nobody has measured, as live
OF_BOXES = 3.0  # px: box noise of another detector's boxes, as usual; no outline ties them to what is there
PARTS = {
    "motion": ("jumpiness", "box_noise"), "match": ("gate", "farthest"), "life": ("hits_to_confirm", "longest_gap"),
    "after": ("join_within",),
}  # fmt: skip


def left_to_the_clip(settings: TrackSettings) -> bool:
    """Whether any of the numbers is on auto."""
    return any(is_auto(getattr(getattr(settings, part), name)) for part, names in PARTS.items() for name in names)


def with_pace(settings: TrackSettings, pace: Pace) -> TrackSettings:
    """The settings with each number that is on auto as given."""
    told = {}
    for part, names in PARTS.items():
        told[part] = getattr(settings, part).model_copy(update={name: getattr(pace, name) for name in names})
    return as_taken(settings, settings.model_copy(update=told))
