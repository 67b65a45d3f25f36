"""What a motion filter is told of how things move and how boxes jitter, and what is taken where nobody measured it."""

from __future__ import annotations

from dataclasses import dataclass

from drover.core.recipe import TrackSettings, is_auto

__all__ = ["OF_BOXES", "USUAL", "Noises", "left_to_the_clip", "with_noises"]


@dataclass(frozen=True)
class Noises:
    """``jumpiness`` px/frame² and ``box_noise`` px, both at 50 px of size and for frames of 1/25 s."""

    jumpiness: float
    box_noise: float


USUAL = Noises(jumpiness=0.5, box_noise=1.5)  # where nobody has measured, as live
OF_BOXES = 3.0  # px: box noise of another detector's boxes, as usual; no outline ties them to what is there


def left_to_the_clip(settings: TrackSettings) -> bool:
    """Whether any of the noises is on auto."""
    return is_auto(settings.motion.jumpiness) or is_auto(settings.motion.box_noise)


def with_noises(settings: TrackSettings, noises: Noises) -> TrackSettings:
    """The settings with each noise that is on auto as given."""
    motion = settings.motion
    taken = {name: value for name, value in vars(noises).items() if is_auto(getattr(motion, name))}
    return settings.model_copy(update={"motion": motion.model_copy(update=taken)}) if taken else settings
