"""The graph of stages: what each key depends on, what is taken over, and what a failure leaves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import crossings_of, truth_of

from drover.core.errors import Cancelled, DroverError
from drover.core.footage_types import ClipInfo
from drover.core.graph import STAGES, Call, Result, Subject, keys_of, run_stage
from drover.core.recipe import Recipe, is_auto, value_of, with_value
from drover.core.setting_info import settings_of
from drover.core.types import Detections

CLIP = ClipInfo("a.mp4", 200, 100, 25.0, np.arange(60) / 25, "abc")
AFTER = {
    "detect": {"motion", "bodies", "detect", "lying", "pace", "track", "after", "edits", "count", "score", "found"},
    "track": {"track", "after", "edits", "count", "score"},
    "count": {"count", "score"},
    "score": {"score", "found"},
    "words": set(),
    "send": set(),
}


def walking(frames: int = 60) -> Detections:
    """One box that walks to the right."""
    x = 10.0 + 2.5 * np.arange(frames)
    box = np.column_stack([x, np.full(frames, 40), x + 20, np.full(frames, 60)]).astype(np.float32)
    sure = np.ones(frames, np.float32)
    return Detections.from_boxes(np.arange(frames), box, sure, frame_count=frames, size=(200, 100))


BOXES = Recipe().model_copy(update={"detect": Recipe().detect.model_copy(update={"sources": ("boxes",)})})


def changed_stages(before: dict[str, str], after: dict[str, str]) -> set[str]:
    return {name for name in STAGES if before[name] != after[name]}


@pytest.mark.parametrize("path", [path for path, _, _ in settings_of()])
def test_every_setting_changes_its_own_stage_and_those_that_build_on_it(path):
    """Nothing before a setting's stage is ever made again, and nothing after it is taken for up to date."""
    recipe = Recipe()
    value = value_of(recipe, path)
    if isinstance(value, bool):
        other: object = not value
    elif is_auto(value):
        other = 0.5
    elif isinstance(value, (int, float)):
        other = value + 1 if path.endswith("for_width") else value * 0.9 if value > 1 else value / 2 + 0.1
        other = round(other) if isinstance(value, int) else other
    else:
        return
    try:
        changed = with_value(recipe, path, other)
    except DroverError:
        return
    if changed == recipe:
        return
    stages = changed_stages(keys_of(Subject(CLIP), recipe), keys_of(Subject(CLIP), changed))
    expected = AFTER[path.split(".")[0]]
    if path.startswith("detect.bodies"):
        expected = expected - {"motion"}  # the footage is not worked through again
    if path.startswith("detect.boxes"):
        expected = {"boxes"}  # no part in what moves, while boxes are no source
    assert stages == expected


def test_how_the_camera_is_taken_asks_for_the_footage_and_a_thing_to_follow_for_no_detection():
    recipe = Recipe()
    off = changed_stages(
        keys_of(Subject(CLIP), recipe), keys_of(Subject(CLIP), with_value(recipe, "camera.mode", "off"))
    )
    assert off == AFTER["detect"] | {"camera", "boxes"}
    thing = [{"name": "Cart", "time": 1.0, "box": [0.1, 0.1, 0.4, 0.4]}]
    more = with_value(recipe, "follow.thing", thing)
    asked = changed_stages(keys_of(Subject(CLIP), recipe), keys_of(Subject(CLIP), more))
    assert asked == {"follow", "edits", "count", "score"}
    span = keys_of(Subject(CLIP, span=(5, 20)), recipe)
    assert "camera" not in changed_stages(keys_of(Subject(CLIP), recipe), span), "a span has the whole clip's camera"


def test_truth_and_boxes_change_only_what_asks_for_them():
    plain, box = Subject(CLIP), (0.0, 0.0, 9.0, 9.0)
    truth = replace(plain, truth=truth_of([(0, 1, box)], 60), true_crossings=crossings_of([(1, 1)]))
    assert changed_stages(keys_of(plain, Recipe()), keys_of(truth, Recipe())) == {"score", "found"}
    again = replace(plain, truth=truth_of([(0, 1, box)], 60), true_crossings=crossings_of([(1, 1)]))
    assert keys_of(truth, Recipe()) == keys_of(again, Recipe()), "equal tables, equal keys, wherever they lie in memory"
    brought = replace(plain, imported=walking())
    assert changed_stages(keys_of(plain, Recipe()), keys_of(brought, Recipe())) == {"boxes"}
    assert "detect" in changed_stages(keys_of(plain, BOXES), keys_of(brought, BOXES))


def test_what_is_known_is_taken_over_and_only_the_rest_is_made():
    subject = Subject(CLIP, walking())
    first = run_stage("count", subject, BOXES)
    assert list(first) == ["camera", "boxes", "detect", "lying", "pace", "track", "after", "edits", "count"]
    known = {result.key: result for result in first.values()}
    again = run_stage("count", subject, BOXES, known=known)
    assert list(again) == ["count"] and again["count"] is first["count"]
    moved = with_value(BOXES, "track.match.gate", 5.0)
    third = run_stage("count", subject, moved, known=known)
    assert (
        third["detect"] is first["detect"] and third["pace"] is first["pace"] and third["track"] is not first["track"]
    )
    assert all(isinstance(result, Result) and result.seconds >= 0 for result in third.values())


def test_a_stage_that_is_stopped_or_lacks_its_input_says_so():
    with pytest.raises(Cancelled, match="stopped"):
        run_stage("edits", Subject(CLIP, walking()), BOXES, call=Call(cancelled=lambda: True))
    with pytest.raises(DroverError, match="no imported boxes to use"):
        run_stage("edits", Subject(CLIP), BOXES)


@pytest.mark.parametrize("rate", [10.0, 12.5, 50.0, 100.0])
def test_the_same_walks_keep_their_identities_at_any_frame_rate(rate):
    """Two that meet and part, filmed at other rates: two identities, and the way between frames told alike."""
    times = np.arange(int(6 * rate)) / rate
    clip = ClipInfo("a.mp4", 640, 200, rate, times, "abc")
    one, other = 40 + 90 * times, 580 - 90 * times
    x = np.column_stack([one, other]).ravel()
    y = np.tile([60.0, 92.0], len(times))
    box = np.column_stack([x - 15, y - 12, x + 15, y + 12]).astype(np.float32)
    frame = np.repeat(np.arange(len(times)), 2)
    found = Detections.from_boxes(frame, box, np.ones(len(box), np.float32), frame_count=len(times), size=(640, 200))
    line = {"name": "middle", "points": [[0.5, 1.0], [0.5, 0.0]]}
    made = run_stage("count", Subject(clip, found), with_value(BOXES, "count.line", [line]))
    tracks, crossings = made["edits"].value.tracks, made["count"].value.crossings
    assert tracks.paths.identity.tolist() == [1, 2]
    assert sorted(crossings.direction.tolist()) == [-1, 1]
    # The filter lags where a walk begins, not where it crosses: within a tenth of a size of the true moment.
    assert crossings.time == pytest.approx([(320 - 40) / 90, (580 - 320) / 90][::-1], abs=0.05)
