"""How far a long work has come, who hears of it, and who may stop it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

__all__ = ["IsCancelled", "OnProgress", "Progress", "never", "quiet"]


@dataclass(frozen=True)
class Progress:
    """How far a stage has come: frames done, of how many, and an estimate of the seconds left."""

    stage: str
    done: int
    total: int
    seconds_left: float


OnProgress = Callable[[Progress], None]
IsCancelled = Callable[[], bool]


def never() -> bool:
    """Nobody stops the work."""
    return False


def quiet(progress: Progress) -> None:
    """Nobody wants to know how far it is."""
    del progress
