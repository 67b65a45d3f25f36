"""What is said of a stage's result: nothing yet, up to date, being worked on, or made for other settings."""

from __future__ import annotations

__all__ = ["StageState", "stage_state"]


class StageState:
    """States of a stage's result."""

    EMPTY = "empty"
    FRESH = "up to date"
    WORKING = "working"
    STALE = "stale"


def stage_state(fresh: bool, busy: bool, any_result: bool) -> str:
    """State of a result that belongs to what is asked for, or is being made, or is there at all."""
    if fresh:
        return StageState.FRESH
    if busy:
        return StageState.WORKING
    return StageState.STALE if any_result else StageState.EMPTY
