"""Why this link: what is told of a frame's tracks, their candidates and who competes with whom; by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import box_at, tracks_of

from drover.core.recipe import Recipe, TrackSettings, with_value
from drover.core.track.candidates import TERMS
from drover.core.track.explain import MOST_SHOWN, Candidate, LinkNote, _identity, explain_frame, group_of
from drover.core.track.pace import USUAL, with_pace
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections

RATE, SIZE, SIDE = 25.0, (640, 480), 20.0


def found(frames: list[list[tuple[float, float]]]) -> Detections:
    """Boxes of 20 px by their middles."""
    rows = [(f, x, y) for f, part in enumerate(frames) for x, y in part]
    table = np.array(rows, float).reshape(-1, 3)
    box = np.column_stack([table[:, 1:] - SIDE / 2, table[:, 1:] + SIDE / 2]).astype(np.float32)
    return Detections.from_boxes(
        table[:, 0].astype(np.int64), box, np.ones(len(table), np.float32), frame_count=len(frames), size=SIZE
    )


def notes_of(boxes: Detections, frame: int, **dials: object) -> tuple[LinkNote, ...]:
    settings = with_pace(TrackSettings(), USUAL)
    for path, value in dials.items():
        settings = with_value(Recipe(track=settings), "track." + path.replace("__", "."), value).track
    times = np.arange(boxes.frame_count) / RATE
    tracks = link_detections(boxes, times, RATE, settings)
    return explain_frame(boxes, tracks, times, RATE, settings, frame)


def by_identity(notes: tuple[LinkNote, ...]) -> dict[int, LinkNote]:
    assert len({one.identity for one in notes}) == len(notes)
    return {one.identity: one for one in notes}


def standing(*places: tuple[float, float], frames: int = 40) -> list[list[tuple[float, float]]]:
    return [list(places)] * frames


def test_the_nearest_few_detections_are_told_nearest_first_and_named_by_their_row():
    places = [(100.0, 100), (130, 100), (160, 100), (200, 100), (250, 100), (400, 400)]
    boxes = found(standing(*places))
    notes = by_identity(notes_of(boxes, 30))
    first = notes[1]
    assert [one.row for one in first.candidates] == [30 * 6 + k for k in range(MOST_SHOWN)]
    distances = [one.distance for one in first.candidates]
    assert distances == sorted(distances) and distances[0] == pytest.approx(0.0, abs=0.05)
    fourth = [one.row - 30 * 6 for one in notes[4].candidates]  # at 200: itself, then 160, 250 and 130
    assert fourth == [3, 2, 4, 1]
    # Standing still, the filter is as sure across as along: twice as far is twice as many deviations.
    assert distances[2] / distances[1] == pytest.approx(2.0, rel=0.02)


def test_the_gate_is_told_in_pixels_and_a_detection_beyond_it_by_its_distance():
    boxes = found([*standing((100, 100)), [(400, 100)]])
    note = by_identity(notes_of(boxes, 40))[1]
    (only,) = note.candidates
    assert not only.chosen and only.refused.startswith("beyond the gate: ")
    assert only.refused == f"beyond the gate: {only.distance:.1f} σ of {USUAL.gate:.1f}"
    assert note.words == f"1 found nothing: {only.refused}"
    # The gate's half axis is so many deviations: what is that far off lies on it.
    assert 300.0 / only.distance * USUAL.gate == pytest.approx(note.gate[0], rel=0.02)
    wider = by_identity(notes_of(boxes, 40, match__gate=2 * USUAL.gate))[1]
    assert wider.gate == pytest.approx((2 * note.gate[0], 2 * note.gate[1]), rel=1e-6)
    assert note.box == pytest.approx((90, 90, 110, 110), abs=0.5)


def test_who_finds_nothing_says_so_and_who_has_no_rival_too():
    boxes = found([*standing((100, 100)), []])
    note = by_identity(notes_of(boxes, 40))[1]
    assert note.candidates == () and note.words == "1 found nothing: nothing was detected"
    alone = by_identity(notes_of(boxes, 30))[1]
    assert np.isinf(alone.margin) and ", without a rival; most of it from " in alone.words


def test_what_went_to_another_and_what_was_dearer_are_told_apart():
    """Two tracks and one detection between them, nearer to the second; then one track and two detections."""
    two = found([*standing((100, 100), (112, 100)), [(107, 100)]])
    notes = by_identity(notes_of(two, 40))
    assert notes[2].candidates[0].chosen
    assert [one.refused for one in notes[1].candidates] == ["went to another track"]
    one = found([*standing((100, 100)), [(101, 100), (108, 100)]])
    told = by_identity(notes_of(one, 40))[1]
    assert [(c.chosen, c.refused) for c in told.candidates] == [(True, ""), (False, "another was cheaper")]
    assert told.candidates[0].cost < told.candidates[1].cost
    assert f"at cost {told.candidates[0].cost:.2f}" in told.words


def test_the_cost_is_the_weighted_mean_of_its_terms():
    boxes = found([*standing((100, 100)), [(104, 102), (300, 300)]])
    weights = {"distance": 0.9, "overlap": 0.3, "direction": 0.0, "size": 0.6, "look": 0.0}
    dials = {f"match__{name}_weight": value for name, value in weights.items()}
    for one in by_identity(notes_of(boxes, 40, **dials))[1].candidates:
        assert set(one.terms) == set(TERMS)
        mean = sum(weights[name] * one.terms[name] for name in TERMS) / sum(weights.values())
        waited = 0.0 if one.refused else 0.3 * (1 / RATE) / USUAL.longest_gap  # a frame of the longest
        assert one.cost == pytest.approx(mean + waited, abs=1e-3)
        assert all(0.0 <= value <= 1.0 for value in one.terms.values())


def test_a_track_not_yet_believed_has_no_number():
    boxes = found([*standing((100, 100)), *([[(100, 100), (300, 300)]] * 3)])
    notes = notes_of(boxes, 41)
    assert sorted(one.identity for one in notes) == [0, 1]
    young = next(one for one in notes if one.identity == 0)
    assert young.words.startswith("a track not yet believed took a box ")


def test_one_that_coasts_is_named_by_the_row_that_coasts_nearest():
    """Both are unseen in the frame asked for; each note has the number of its own row."""
    gone = [[] if 30 <= k < 34 else [(100.0, 100.0), (300.0, 300.0)] for k in range(60)]
    notes = by_identity(notes_of(found(gone), 31))
    assert notes[1].box[0] == pytest.approx(90, abs=2) and notes[2].box[0] == pytest.approx(290, abs=2)
    half = [[(300.0, 300.0)] if 30 <= k < 34 else [(100.0, 100.0), (300.0, 300.0)] for k in range(60)]
    notes = by_identity(notes_of(found(half), 31))
    assert notes[1].words.startswith("1 found nothing") and notes[2].candidates[0].chosen


def test_one_that_ended_keeps_its_number_and_is_never_called_by_that_of_another():
    """It waits for its gap to run out: it was told as the one that lives on, or, the last of all, as not believed."""
    ended = [[(300.0, 300.0)] if k >= 30 else [(100.0, 100.0), (300.0, 300.0)] for k in range(60)]
    for frame in (30, 45, 59):
        notes = by_identity(notes_of(found(ended), frame))
        assert set(notes) == {1, 2}
        assert notes[1].words.startswith("1 found nothing") and notes[2].candidates[0].chosen
    assert [one.identity for one in notes_of(found([*standing((100, 100)), [], [], []]), 42)] == [1]


def test_two_that_went_out_of_sight_as_one_blob_are_told_by_where_each_should_be():
    """The last that was found of either was found of both: by that alone both were the first of them."""
    rows = [(f, who, box_at(100.0 + 60 * who, 50.0, 20.0)) for f in range(12) for who in (1, 2)]
    tracks = tracks_of(rows, 12)
    blob = np.where(tracks.frame < 10, tracks.frame, -1).astype(np.int32)  # one a frame, then nothing
    tracks, links = replace(tracks, detection=blob), np.arange(2, 10, dtype=np.int32)
    for who in (1, 2):
        box = np.array(box_at(101.0 + 60 * who, 50.0, 20.0), np.float32)
        assert _identity(tracks, tracks.rows_of(11), -1, box, links) == who


def note(identity: int, *rows: int, refused: tuple[int, ...] = (), far: tuple[int, ...] = ()) -> LinkNote:
    within = [Candidate(row, 1.0, {}, 0.1, False, "went to another track") for row in rows]
    beyond = [Candidate(row, 9.0, {}, 0.9, False, "beyond the gate: 9.0 σ of 5.0") for row in refused]
    fast = [Candidate(row, 3.0, {}, 0.5, False, "too far from where its speed could have led") for row in far]
    return LinkNote(identity, (0, 0, 1, 1), (1, 1), (*within, *beyond, *fast), np.inf, "")


def test_all_who_compete_for_a_detection_however_indirectly_are_one_group():
    asked = note(4, 11, 12)
    notes = (note(1, 10, 11), note(2, 10), asked, note(3, 20), note(9, 12, refused=(20,)), note(7, far=(11,)))
    group, rows = group_of(asked, notes)
    assert [one.identity for one in group] == [4, 1, 2, 9], "the one asked for first, the others by number"
    assert rows == (10, 11, 12)
    alone, rows = group_of(notes[5], notes)
    assert [one.identity for one in alone] == [7] and rows == (11,), "what it could not reach is shown all the same"
