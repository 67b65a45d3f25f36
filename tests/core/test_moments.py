"""Moments found without truth, and why a link was made; cases are made by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from drover.core.doubt.moments import EVIDENCE, KINDS, evidence_of, find_moments
from drover.core.doubt.true_errors import hits_of, true_errors
from drover.core.errors import Cancelled
from drover.core.recipe import Recipe, TrackSettings, with_value
from drover.core.track.candidates import TERMS
from drover.core.track.evidence import chi_square_share, noise_check
from drover.core.track.explain import explain_frame
from drover.core.track.whole_clip import fold_tracks, link_detections
from drover.core.types import Crossings, Detections, Truth

RATE, SIZE = 25.0, (640, 480)


def found(frames: list[list[tuple[float, float]]], side: float = 20.0) -> Detections:
    """Boxes of one size by their middles."""
    rows = [(f, x, y) for f, part in enumerate(frames) for x, y in part]
    table = np.array(rows, float).reshape(-1, 3)
    half = side / 2
    box = np.column_stack([table[:, 1] - half, table[:, 2] - half, table[:, 1] + half, table[:, 2] + half])
    return Detections.from_boxes(
        table[:, 0].astype(np.int64), box.astype(np.float32), np.ones(len(table), np.float32),
        frame_count=len(frames), size=SIZE,
    )  # fmt: skip


def linked(boxes: Detections, settings: TrackSettings | None = None):
    times = np.arange(boxes.frame_count) / RATE
    return link_detections(boxes, times, RATE, settings or TrackSettings()), times


def checked(boxes: Detections, jumpiness: float = 0.5, *, on_auto: bool = False) -> str:
    settings = with_value(Recipe(), "track.motion.jumpiness", jumpiness).track
    tracks, times = linked(boxes, settings)
    folded = fold_tracks(boxes, times, RATE, settings)
    return noise_check(tracks, boxes, times, linked=folded, on_auto=on_auto).words


def test_a_hidden_stretch_and_a_birth_in_the_open_are_moments_and_a_plain_walk_is_none():
    plain, times = linked(found([[(5 + 4 * k, 200)] for k in range(160)]))
    assert len(find_moments(plain, times)) == 0
    gone = linked(found([[] if 50 <= k < 75 else [(5 + 4 * k, 200)] for k in range(160)]))[0]
    told = find_moments(gone, times)
    assert [m.kind for m in told] == ["gap"]
    assert (told[0].first, told[0].frame, told[0].identities) == (49, 75, (1,))
    born = linked(found([[] if k < 40 else [(300 + 2 * k, 200)] for k in range(100)]))[0]
    assert ("begin", 40) in [(m.kind, m.frame) for m in find_moments(born, np.arange(100) / RATE)]


def test_a_moment_on_which_a_count_hangs_says_so():
    both = found(
        [[p for p in ((5 + 4 * k, 100), (5 + 4 * k, 300)) if not (50 <= k < 70)] for k in range(150)]
    )  # both are hidden at once
    tracks, times = linked(both)
    none = np.zeros(1, np.int16)
    crossing = Crossings(
        line=none, identity=np.array([2], np.int32), class_id=none, frame=np.array([72]), time=np.array([2.85]),
        direction=np.array([1], np.int8), x=np.zeros(1, np.float32), y=np.zeros(1, np.float32),
        seen=np.ones(1, np.bool_), line_names=("Gap",),
    )  # fmt: skip
    told = [m for m in find_moments(tracks, times, crossing) if m.kind == "gap"]
    counted = {m.identities: m for m in told}
    assert counted[(2,)].counted and not counted[(1,)].counted
    assert counted[(2,)].words == "long gap: 2, and a count hangs on it"


def test_moments_are_held_against_true_errors():
    """One animal that the result calls 1 and, from frame 30 on, 2."""
    times = np.arange(60) / RATE
    box = np.tile(np.array([100, 100, 140, 140], np.float32), (60, 1))
    start = np.arange(61)
    truth = Truth(
        start, np.ones(60, np.int32), box, np.ones(60, np.bool_), np.zeros(60, np.int16), np.ones(60, np.float32)
    )
    tracks, _ = linked(found([[(120, 120)]] * 60, side=40))
    swapped = replace(tracks, identity=np.where(np.arange(60) < 30, 1, 2).astype(np.int32))
    (error,) = true_errors(swapped, truth, times)
    assert (error.kind, error.frames, error.numbers) == ("change", (29, 30), {1, 2})
    moments = find_moments(swapped, times)
    assert len(moments) == 1  # where one ends another begins: one event
    assert hits_of(moments, (error,), times).all()
    blinked = replace(tracks, identity=np.where(np.arange(60) == 30, 2, 1).astype(np.int32))
    assert not any(error.kind == "change" for error in true_errors(blinked, truth, times))
    away = replace(tracks, box=tracks.box + np.float32(200))
    (nobody,) = true_errors(away, truth, times)
    assert (nobody.kind, nobody.frames, nobody.numbers) == ("nobody", (0, 59), {1})


def test_the_other_future_tells_two_that_swapped_from_two_that_passed():
    """Two that cross straight on, and the same with their numbers changed over where they meet."""
    times = np.arange(100) / RATE
    tracks, _ = linked(found([[(100 + 4 * k, 200 + k), (500 - 4 * k, 300 - k)] for k in range(100)]))
    late = tracks.frame >= 50
    swapped = replace(tracks, identity=np.where(late, 3 - tracks.identity, tracks.identity).astype(np.int32))
    order = np.lexsort((swapped.identity, swapped.frame))
    swapped = replace(swapped, identity=swapped.identity[order], box=swapped.box[order])
    gain = EVIDENCE.index("turn gain")
    of_right, of_wrong = (evidence_of(t, times) for t in (tracks, swapped))
    assert of_wrong[1][:, gain].max() > 1.0
    assert of_right[1][:, gain].max(initial=0.0) < 0.5
    assert find_moments(swapped, times)[0].doubt > 2 * max((m.doubt for m in find_moments(tracks, times)), default=0.0)


def test_every_link_can_be_traced_to_its_costs_and_its_runner_up():
    boxes = found([[(50 + 3 * k, 200), (50 + 3 * k, 232)] for k in range(60)])
    tracks, times = linked(boxes)
    notes = {n.identity: n for n in explain_frame(boxes, tracks, times, RATE, TrackSettings(), 40)}
    assert set(notes) == {1, 2}
    first = notes[1]
    row = tracks.rows_of(40).start
    assert first.candidates[0].chosen
    assert first.candidates[0].row == tracks.detection[row]
    assert [(a + b) / 2 for a, b in ((first.box[0], first.box[2]), (first.box[1], first.box[3]))] == pytest.approx(
        [50 + 3 * 40, 200], abs=1.0
    )
    assert first.margin == pytest.approx(float(tracks.margin[row]), rel=1e-4)
    assert set(first.candidates[0].terms) == set(TERMS)
    other = first.candidates[1]
    assert not other.chosen and other.refused
    assert "cheaper than the runner-up" in first.words or "without a rival" in first.words


def test_what_is_beyond_the_gate_is_said_and_a_question_can_be_stopped():
    boxes = found([[(50 + 3 * k, 200)] if k != 40 else [(500, 400)] for k in range(60)])
    tracks, times = linked(boxes)
    note = next(n for n in explain_frame(boxes, tracks, times, RATE, TrackSettings(), 40) if n.identity == 1)
    assert "beyond the gate" in note.candidates[0].refused
    assert note.words.startswith("1 found nothing")

    def stop() -> None:
        raise Cancelled("stopped")

    with pytest.raises(Cancelled, match="stopped"):
        explain_frame(boxes, tracks, times, RATE, TrackSettings(), 40, on_way=stop)


def test_right_noises_give_distances_by_the_chi_square_law_and_a_verdict():
    edges = np.array([0.0, 1.0, 2.0, 50.0])
    # P(chi-square with 2 degrees of freedom < d^2) = 1 - exp(-d^2 / 2).
    assert chi_square_share(edges) == pytest.approx([0.3935, 0.4712, 0.1353], abs=1e-4)
    rng = np.random.default_rng(3)
    loud = found([[(300 + rng.normal(0, 5), 200 + rng.normal(0, 5))] for _ in range(200)])
    assert "raise box noise" in checked(loud)
    still = found([[(300, 200)]] * 200)
    assert "lower jumpiness or box noise" in checked(still)
    swaying = found([[(300 + 60 * np.sin(k / 20), 200)] for k in range(300)])
    assert "raise jumpiness" in checked(swaying, jumpiness=0.01)
    assert "kept stiff against it" in checked(swaying, jumpiness=0.01, on_auto=True)
    assert set(KINDS) >= {"gap", "shared", "margin", "begin", "end"}


@pytest.mark.parametrize(
    "frames",
    [
        [[]] * 20,
        [[(100.0, 100.0)] * 3000] * 2,
        [[(100.0, 100.0), (100.0, 100.0)]] * 30,
    ],
)
def test_hostile_detections_leave_a_sound_table(frames):
    tracks, times = linked(found(frames))
    assert np.isfinite(tracks.box).all()
    assert all(np.isfinite(m.doubt) for m in find_moments(tracks, times))


def test_a_ten_minute_hole_and_boxes_without_size_do_no_harm():
    boxes = found([[(100 + k, 100)] for k in range(60)], side=0.0)
    times = np.arange(60) / RATE + np.where(np.arange(60) >= 30, 600.0, 0.0)
    tracks = link_detections(boxes, times, RATE, TrackSettings())
    assert np.isfinite(tracks.box).all()
    whole = found([[(100 + k, 100)] for k in range(60)])
    assert link_detections(whole, times, RATE, TrackSettings()).paths.identity.tolist() == [1, 2]


def test_time_stamps_that_go_back_are_taken_as_standing_still():
    boxes = found([[(100 + k, 100)] for k in range(60)])
    times = np.arange(60) / RATE
    times[30:35] -= 1.0
    tracks = link_detections(boxes, times, RATE, TrackSettings())
    assert np.isfinite(tracks.box).all()
    assert tracks.paths.identity.tolist() == [1]
