"""What is said of each stage, by which results are fresh, what work goes on and what there is to be seen."""

from __future__ import annotations

import pytest

from drover.app.stage_state import StageState, state_of

ALL = {"detect", "edits", "score"}
EMPTY, FRESH, WORKING, STALE = StageState.EMPTY, StageState.FRESH, StageState.WORKING, StageState.STALE


@pytest.mark.parametrize(
    ("fresh", "busy", "told"),
    [  # Detect, Track, Count, Score
        (ALL, set(), [FRESH, FRESH, FRESH, FRESH]),
        (set(), set(), [STALE, STALE, STALE, STALE]),
        (set(), {"detect"}, [WORKING, WORKING, WORKING, WORKING]),
        # A new gate: what was found is still right, all after it is being made.
        ({"detect"}, {"link"}, [FRESH, WORKING, WORKING, WORKING]),
        ({"detect"}, set(), [FRESH, STALE, STALE, STALE]),
        # Linked, and only the score is behind.
        ({"detect", "edits"}, {"score"}, [FRESH, FRESH, FRESH, WORKING]),
        ({"detect", "edits"}, set(), [FRESH, FRESH, FRESH, STALE]),
        # Tracks and score of other detections are not up to date, though their own keys are.
        ({"edits", "score"}, set(), [STALE, STALE, STALE, STALE]),
    ],
)
def test_a_stage_is_fresh_only_where_all_before_it_are(fresh, busy, told):
    stages = "detect", "track", "count", "score"
    assert [state_of(stage, fresh.__contains__, busy, there=True, truth=True) for stage in stages] == told
    without = [state_of(stage, fresh.__contains__, busy, there=True, truth=False) for stage in stages]
    assert without == [*told[:3], EMPTY]
    nothing = [state_of(stage, fresh.__contains__, busy, there=False, truth=True) for stage in stages]
    assert nothing == [EMPTY if one == STALE else one for one in told]
