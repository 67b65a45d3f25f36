"""Corrections by hand: what each does to hand-made tracks, and that it holds whatever the numbers of a run are."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import box_at, tracks_of, walk_rows
from hypothesis import given, settings
from hypothesis import strategies as st

from drover.core.edits.apply import apply_edits
from drover.core.edits.edit import Edit, digest_of, read_edits, write_edits
from drover.core.edits.making import box_edit, cut_edit, drop_edit, fill_edit, join_edit, said_edit, swap_edit
from drover.core.errors import DroverError
from drover.core.track_rows import with_rows, without_rows
from drover.core.types import Tracks, TrackState

FRAMES = 100
TIMES = np.arange(FRAMES) / 25.0


def two_that_meet(swapped: bool = True) -> Tracks:
    """A goes right along y 30, B left along y 40; numbers 1 and 2, which change over at frame 50 where ``swapped``."""
    rows = []
    for frame in range(FRAMES):
        other = swapped and frame >= 50
        rows.append((frame, 2 if other else 1, box_at(frame, 30)))
        rows.append((frame, 1 if other else 2, box_at(FRAMES - frame, 40)))
    return tracks_of(rows, FRAMES)


def one_in_two(first_past: int = 40, second_first: int = 50) -> Tracks:
    """One body, 1 up to a frame and 5 from another, and a bystander 3."""
    rows = walk_rows(1, [(f, 30.0) for f in range(first_past)])
    rows += walk_rows(5, [(f, 30.0) for f in range(second_first, FRAMES)], second_first)
    return tracks_of(rows + walk_rows(3, [(50.0, 80.0)] * FRAMES), FRAMES)


def ways(tracks: Tracks) -> set[tuple[tuple[int, float], ...]]:
    """The ways of all identities, whatever they are called."""
    out = set()
    for who in np.unique(tracks.identity):
        rows = tracks.path_of(int(who))
        out.add(tuple(zip(tracks.frame[rows].tolist(), tracks.box[rows, 3].tolist(), strict=True)))
    return out


def renumbered(tracks: Tracks, order: list[int]) -> Tracks:
    """The same tracks as another run would number them."""
    number = {who: order[k] for k, who in enumerate(np.unique(tracks.identity).tolist())}
    identity = np.array([number[who] for who in tracks.identity.tolist()], np.int32)
    columns = {"box": tracks.box, "state": tracks.state, "detection": tracks.detection, "confidence": tracks.confidence,
               "class_id": tracks.class_id, "distance": tracks.distance}  # fmt: skip
    return with_rows(tracks, tracks.frame, identity, columns)


def test_two_that_swapped_are_put_right() -> None:
    made = apply_edits(two_that_meet(), TIMES, (swap_edit(two_that_meet(), TIMES, 1, 2, 50),))
    assert ways(made.tracks) == ways(two_that_meet(swapped=False))
    assert made.notes is not None
    assert made.notes[0].fits and made.notes[0].changed
    assert made.notes[0].identities == (1, 2)


def test_what_is_right_already_is_left_alone() -> None:
    edit = swap_edit(two_that_meet(), TIMES, 1, 2, 50)
    made = apply_edits(two_that_meet(swapped=False), TIMES, (edit,))
    assert ways(made.tracks) == ways(two_that_meet(swapped=False))
    assert made.notes is not None
    assert made.notes[0].fits and not made.notes[0].changed


def test_two_pieces_are_joined_and_the_gap_drawn() -> None:
    tracks = one_in_two()
    made = apply_edits(tracks, TIMES, (join_edit(tracks, TIMES, 5, 1),)).tracks
    assert np.unique(made.identity).tolist() == [1, 3]
    assert len(made.path_of(1)) == 90
    filled = apply_edits(made, TIMES, (fill_edit(made, TIMES, 1, 20),)).tracks
    path = filled.path_of(1)
    assert filled.frame[path].tolist() == list(range(FRAMES))
    between = path[40:50]
    np.testing.assert_allclose(filled.box[between, 0], np.arange(40, 50) - 5.0, atol=1e-4)
    assert (filled.state[between] == TrackState.COASTING).all()


@given(st.permutations([1, 2, 3]), st.integers(30, 45), st.integers(46, 60), st.floats(-1.0, 1.0))
@settings(max_examples=25, deadline=None)
def test_a_join_holds_after_linking_otherwise(order: list[int], past: int, first: int, shift: float) -> None:
    """Another run breaks it elsewhere, boxes move a little, numbers are others: the same two pieces are one."""
    tracks = one_in_two()
    edit = join_edit(tracks, TIMES, 1, 5)
    again = renumbered(one_in_two(past, first), order)
    again = replace(again, box=again.box + np.float32(shift))
    made = apply_edits(again, TIMES, (edit,))
    assert len(np.unique(made.tracks.identity)) == 2
    assert {len(made.tracks.path_of(int(who))) for who in np.unique(made.tracks.identity)} == {
        past + FRAMES - first,
        FRAMES,
    }


def test_a_cut_and_a_drop() -> None:
    tracks = two_that_meet(swapped=False)
    cut = apply_edits(tracks, TIMES, (cut_edit(tracks, TIMES, 1, 30),)).tracks
    assert sorted(len(cut.path_of(who)) for who in (1, 2, 3)) == [30, 70, 100]
    assert cut.frame[cut.path_of(3)].tolist() == list(range(30, FRAMES))
    gone = apply_edits(tracks, TIMES, (drop_edit(tracks, TIMES, 2),))
    assert np.unique(gone.tracks.identity).tolist() == [1]
    again = apply_edits(gone.tracks, TIMES, (drop_edit(tracks, TIMES, 2),))
    assert again.notes is not None
    assert not again.notes[0].fits
    assert "nothing is at its place" in again.notes[0].words
    assert ways(again.tracks) == ways(gone.tracks)


def test_a_box_is_drawn_moved_and_filled_between() -> None:
    tracks = one_in_two()
    new = box_edit(tracks, TIMES, None, 10, np.array([60, 60, 70, 70]))
    made = apply_edits(tracks, TIMES, (new,)).tracks
    (who,) = set(np.unique(made.identity)) - {1, 3, 5}
    later = box_edit(made, TIMES, int(who), 20, np.array([70, 60, 80, 70]))
    edits = (new, later)
    made = apply_edits(tracks, TIMES, edits).tracks
    edits = (*edits, fill_edit(made, TIMES, int(who), 10))
    made = apply_edits(tracks, TIMES, edits).tracks
    path = made.path_of(int(who))
    assert made.frame[path].tolist() == list(range(10, 21))
    np.testing.assert_allclose(made.box[path, 0], np.arange(60, 71), atol=1e-3)
    moved = box_edit(made, TIMES, 3, 40, np.array([40, 40, 52, 52]))
    made = apply_edits(tracks, TIMES, (*edits, moved)).tracks
    row = made.path_of(3)[40]
    np.testing.assert_allclose(made.box[row], [40, 40, 52, 52], atol=1e-3)
    assert len(made.path_of(3)) == FRAMES


def test_a_box_that_was_added_cuts_an_identity_that_is_elsewhere_then() -> None:
    """Drawn for 2, which begins at frame 50; linked otherwise 1 goes on as that body, and would be at two places."""
    first = walk_rows(1, [(f, 30.0) for f in range(50)])
    second = [(80.0 - f / 10, 80.0) for f in range(50, FRAMES)]
    tracks = tracks_of(first + walk_rows(2, second, 50), FRAMES)
    edit = box_edit(tracks, TIMES, 2, 40, np.array(box_at(76, 80)))
    right = apply_edits(tracks, TIMES, (edit,)).tracks
    assert right.frame[right.path_of(2)].tolist() == list(range(40, FRAMES))
    made = apply_edits(tracks_of(first + walk_rows(1, second, 50), FRAMES), TIMES, (edit,))
    assert ways(made.tracks) == ways(right)
    assert made.notes is not None
    assert "cut in two" in made.notes[0].words


def two_abreast(second: tuple[int, int]) -> Tracks:
    """A along y 30, not seen from frame 40 to 60, number 1; B beside it along y 41, numbered ``second`` before and
    after frame 50: where these are not (2, 2) the number of A goes on as B or the other way round.
    """
    rows = []
    for frame in range(FRAMES):
        late = frame >= 50
        if not 40 <= frame <= 60:
            rows.append((frame, 1 if not late or second[1] != 1 else 7, box_at(frame, 30)))
        rows.append((frame, second[late], box_at(frame, 41)))
    return tracks_of(rows, FRAMES)


@given(st.sampled_from([(2, 2), (2, 1), (2, 6), (8, 8)]), st.floats(-0.5, 0.5))
@settings(max_examples=12, deadline=None)
def test_a_box_remembers_who_was_who_round_it(second: tuple[int, int], shift: float) -> None:
    """Linked otherwise A's number goes on as B, or B has two: with the box both are whole again."""
    tracks = two_abreast((2, 2))
    edit = box_edit(tracks, TIMES, 1, 50, np.array(box_at(50, 30)))
    assert len(edit.hold) == 4
    again = two_abreast(second)
    again = replace(again, box=again.box + np.float32(shift))
    made = apply_edits(again, TIMES, (edit,))
    assert made.notes is not None
    assert made.notes[0].fits
    whole = sorted(len(made.tracks.path_of(int(who))) for who in np.unique(made.tracks.identity))
    assert whole == [FRAMES, FRAMES]
    for who in np.unique(made.tracks.identity):  # each keeps to its own height
        assert np.ptp(made.tracks.box[made.tracks.path_of(int(who)), 3]) < 1.0


def test_a_box_goes_straight_as_far_as_when_it_was_drawn() -> None:
    """Linked otherwise something as big as two is found in between; it gives way, and what came before does not."""
    path = [(float(f), 30.0) for f in range(FRAMES)]
    rows = [*walk_rows(1, path[:40]), *walk_rows(1, path[61:], 61)]
    edit = box_edit(tracks_of(rows, FRAMES), TIMES, 1, 45, np.array(box_at(45, 30)))
    assert edit.way == (TIMES[39], TIMES[61])
    both = [(f, 1, (f - 5.0, 25.0, f + 5.0, 47.0)) for f in range(40, 61)]
    made = apply_edits(tracks_of(rows + both, FRAMES), TIMES, (edit,)).tracks
    path_of = made.path_of(1)
    assert made.frame[path_of].tolist() == list(range(FRAMES))
    np.testing.assert_allclose(made.box[path_of], [box_at(f, 30) for f in range(FRAMES)], atol=0.01)


def test_a_class_and_a_name() -> None:
    tracks = two_that_meet(swapped=False)
    said = (said_edit(tracks, TIMES, 2, 10, "class", "ewe"), said_edit(tracks, TIMES, 1, 10, "name", "Old one"))
    made = apply_edits(renumbered(tracks, [2, 1]), TIMES, said)
    assert made.tracks.class_names == ("object", "ewe")
    assert made.tracks.class_of_identity[1] == 1
    assert made.names == {2: "Old one"}


def test_what_makes_no_sense_is_refused_in_a_line() -> None:
    tracks = two_that_meet()
    for wrong in (
        lambda: join_edit(tracks, TIMES, 1, 2), lambda: join_edit(tracks, TIMES, 1, 1),
        lambda: cut_edit(tracks, TIMES, 1, 0),
        lambda: drop_edit(tracks, TIMES, 9), lambda: fill_edit(tracks, TIMES, 1, 0),
    ):  # fmt: skip
        with pytest.raises(DroverError) as caught:
            wrong()
        assert "\n" not in str(caught.value)
    for line in (
        '{"kind": "drop"}', "[]", '{"kind": "box", "at": 1, "box": [0.5, 0.5, 0.4, 0.6]}',
        '{"kind": "box", "at": NaN, "box": [0, 0, 1, 1]}', '{"kind": "melt", "at": 1}',
        '{"kind": "colour", "at": 1, "text": "red", "places": [{"time": 1, "box": [0, 0, 1, 1]}]}',
        '{"kind": "drop", "at": 1, "hold": [{"time": 1, "box": [0, 0, 1, 1]}], "places": []}',
        '{"kind": "box", "at": 1, "box": [0, 0, 1, 1], "way": [2, 3]}',
        '{"kind": "class", "at": 1, "text": "", "places": [{"time": 1, "box": [0, 0, 1, 1]}]}',
    ):  # fmt: skip
        with pytest.raises(DroverError, match="line 1: is no correction"):
            read_edits(line)


def test_lines_come_back_as_they_were() -> None:
    tracks = two_that_meet()
    edits = (swap_edit(tracks, TIMES, 1, 2, 50), said_edit(tracks, TIMES, 1, 10, "name", "Old one"))
    assert read_edits(write_edits(edits)) == edits
    assert digest_of(edits) != digest_of(edits[:1])
    assert digest_of(()) == ""


@given(st.lists(st.tuples(st.sampled_from(["swap", "cut", "drop", "join"]), st.integers(1, 4), st.integers(1, 4),
                          st.integers(1, FRAMES - 1)), max_size=6), st.integers(0, 3))  # fmt: skip
@settings(max_examples=40, deadline=None)
def test_nobody_is_ever_in_two_places(steps: list[tuple[str, int, int, int]], gap: int) -> None:
    """Whatever is corrected, an identity has one box a frame, and no box is there that was not, or was drawn."""
    tracks = without_rows(two_that_meet(), np.arange(2 * FRAMES) % 7 < gap)
    before = {(f, *box) for f, box in zip(tracks.frame.tolist(), tracks.box.tolist(), strict=True)}
    edits: tuple[Edit, ...] = ()
    make = {"swap": swap_edit, "cut": lambda t, s, a, _, f: cut_edit(t, s, a, f),
            "drop": lambda t, s, a, *_: drop_edit(t, s, a),
            "join": lambda t, s, a, b, _: join_edit(t, s, a, b)}  # fmt: skip
    made = tracks
    for kind, a, b, frame in steps:
        try:
            edits = (*edits, make[kind](made, TIMES, a, b, frame))
        except DroverError:
            continue
        made = apply_edits(tracks, TIMES, edits).tracks
    key = made.frame * 1000 + made.identity
    assert len(np.unique(key)) == len(key)
    assert {(f, *box) for f, box in zip(made.frame.tolist(), made.box.tolist(), strict=True)} <= before


# --- what a correction does at its edges --------------------------------------------------------------------------


def note_of(tracks: Tracks, *edits: Edit):
    made = apply_edits(tracks, TIMES, edits)
    assert made.notes is not None
    return made, made.notes[-1]


def test_what_began_early_goes_over_whole_and_what_is_left_over_but_unseen_goes() -> None:
    """Linked otherwise 5 begins at 45, five frames before the join was made: all of it belongs to 1."""
    tracks = one_in_two(40, 50)
    edit = join_edit(tracks, TIMES, 1, 5)
    again = one_in_two(40, 45)
    made, _ = note_of(again, edit)
    assert made.tracks.frame[made.tracks.path_of(1)].tolist() == [*range(40), *range(45, FRAMES)]
    assert np.unique(made.tracks.identity).tolist() == [1, 3]
    # 1 coasted on for five frames, unseen: nobody keeps these.
    rows = walk_rows(1, [(f, 30.0) for f in range(45)]) + walk_rows(5, [(f, 30.0) for f in range(45, FRAMES)], 45)
    state = {(f, 1): int(TrackState.COASTING if f >= 40 else TrackState.CONFIRMED) for f in range(45)}
    state |= {(f, 5): int(TrackState.CONFIRMED) for f in range(45, FRAMES)}
    coasting = tracks_of(rows, FRAMES, state=state)
    made, _ = note_of(coasting, edit.model_copy(update={"at": float(TIMES[40])}))
    assert np.unique(made.tracks.identity).tolist() == [1]


def test_a_cut_that_has_nothing_to_cut_says_why() -> None:
    tracks = two_that_meet(swapped=False)
    edit = cut_edit(tracks, TIMES, 1, 30)
    late = without_rows(tracks, (tracks.identity == 1) & (tracks.frame < 30))
    made, note = note_of(late, edit)
    assert not note.fits and "nothing is at its place" in note.words
    parted = replace(tracks, identity=np.where((tracks.identity == 1) & (tracks.frame >= 30), 9, tracks.identity))
    made, note = note_of(parted, edit)
    assert note.fits and not note.changed and note.words == "they are two without it"
    assert note.identities == (1, 9) and ways(made.tracks) == ways(parted)


@pytest.mark.parametrize(("apart", "straight"), [(99, True), (100, True), (101, False)])
def test_from_a_box_drawn_by_hand_it_went_straight_for_four_seconds_at_most(apart: int, straight: bool) -> None:
    count = 140
    times = np.arange(count) / 25.0
    tracks = tracks_of(walk_rows(1, [(float(f), 30.0) for f in range(20)]), count)
    edit = box_edit(tracks, times, 1, 19 + apart, np.array(box_at(19.0 + apart, 30.0)))
    made = apply_edits(tracks, times, (edit,)).tracks
    frames = made.frame[made.path_of(1)].tolist()
    assert frames == ([*range(20 + apart)] if straight else [*range(20), 19 + apart])
    if straight:
        np.testing.assert_allclose(made.box[made.path_of(1), 2], np.arange(20 + apart) + 5.0, atol=1e-3)


def test_a_box_after_the_last_frame_has_no_frame_and_one_just_after_it_has_the_last() -> None:
    tracks = one_in_two()
    edit = box_edit(tracks, TIMES, None, FRAMES - 1, np.array(box_at(70, 70)))
    for late, fits in ((0.9, True), (1.1, False)):
        made, note = note_of(tracks, edit.model_copy(update={"at": float(TIMES[-1]) + late}))
        assert note.fits == fits
        assert (len(np.unique(made.tracks.identity)) == 4) == fits
    assert note.words.startswith("the clip ends before ")


def test_a_gap_that_another_run_closed_needs_no_filling() -> None:
    whole = one_in_two()
    holed = without_rows(whole, (whole.identity == 3) & (whole.frame >= 20) & (whole.frame < 30))
    edit = fill_edit(holed, TIMES, 3, 25)
    made, note = note_of(holed, edit)
    assert note.fits and note.changed and len(made.tracks.path_of(3)) == FRAMES
    _, note = note_of(whole, edit)
    assert note.fits and not note.changed and note.words == "there is no gap any more"


def test_a_name_is_taken_away_again_and_a_colour_is_another_matter() -> None:
    tracks = two_that_meet(swapped=False)
    said = [said_edit(tracks, TIMES, 1, 10, "name", "Old one"), said_edit(tracks, TIMES, 1, 10, "colour", "#336699"),
            said_edit(tracks, TIMES, 1, 10, "name", "")]  # fmt: skip
    made = apply_edits(tracks, TIMES, tuple(said[:2]))
    assert (made.names, made.colours) == ({1: "Old one"}, {1: "#336699"})
    made = apply_edits(tracks, TIMES, tuple(said))
    assert (made.names, made.colours) == ({}, {1: "#336699"})


def test_corrections_of_a_clip_without_frames_fit_nowhere() -> None:
    edit = said_edit(two_that_meet(), TIMES, 1, 10, "name", "Old one")
    made = apply_edits(tracks_of([], 0), np.zeros(0), (edit, edit))
    assert [(note.fits, note.words) for note in made.notes or ()] == [(False, "the clip has no frames")] * 2


@pytest.mark.parametrize(
    ("kind", "allowed"), [("same", {2, 4}), ("apart", {2}), ("drop", {2}), ("class", {1}), ("name", {1}),
                          ("colour", {1}), ("box", {0, 1}), ("fill", {2}), ("right", {1, 2}), ("unsure", {1, 2})]
)  # fmt: skip
def test_each_kind_of_correction_has_the_places_that_it_is_about(kind: str, allowed: set[int]) -> None:
    place = '{"time": 1.0, "box": [0.1, 0.1, 0.2, 0.2]}'
    more = (
        ', "text": "#336699"'
        if kind in ("class", "name", "colour")
        else ', "box": [0, 0, 1, 1]'
        if kind == "box"
        else ""
    )
    for count in range(6):
        line = f'{{"kind": "{kind}", "at": 1.0, "places": [{", ".join([place] * count)}]{more}}}'
        if count in allowed:
            assert len(read_edits(line)[0].places) == count
        else:
            with pytest.raises(DroverError, match="line 1: is no correction"):
                read_edits(line)
