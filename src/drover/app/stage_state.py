"""What is said of a stage's result: nothing yet, up to date, being worked on, or made for other settings."""

from __future__ import annotations

from collections.abc import Callable

__all__ = ["StageState", "stage_state", "state_of"]


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


def state_of(stage: str, fresh: Callable[[str], bool], busy: set[str], *, there: bool, truth: bool) -> str:
    """State of what Detect, Track, Count or Score show, by which keys are in force and which work goes on.

    ``busy`` is of "detect", "link" and "score"; ``there`` whether there is anything of the stage to be seen.
    """
    if stage == "detect":
        return stage_state(fresh("detect"), "detect" in busy, there)
    linked = fresh("detect") and fresh("edits")
    if stage != "score":
        return stage_state(linked, bool(busy & {"detect", "link"}), there)
    return stage_state(linked and fresh("score"), bool(busy), there) if truth else StageState.EMPTY
