"""Jumpiness on auto: what bends paths by change of way is told from boxes that lean."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.detect.result import DetectResult
from drover.core.footage_types import ClipInfo
from drover.core.graph import Result, Subject, keys_of, run_stage
from drover.core.recipe import Recipe, TrackSettings, with_value
from drover.core.track import pace
from drover.core.track.pace import STIFF, bends, jumpiness_of, pace_of, resolve_track, with_pace
from drover.core.track.tracker import EVEN, Tracker
from drover.core.track.whole_clip import fold_tracks, link_detections
from drover.core.types import Detections, TrackState

SIZE, RATE = 50.0, 25.0


def walkers(way, *, count=6, frames=200, rate=RATE) -> tuple[Detections, np.ndarray]:
    """Boxes of 50 px on ``count`` paths far apart; ``way`` (walker, times) gives the offset of the middle, px."""
    times = np.arange(frames) / rate
    x = np.stack([200 + 3 * times * RATE + way(k, times) for k in range(count)], axis=1)
    y = np.broadcast_to(200.0 + 300.0 * np.arange(count), x.shape)
    box = np.stack([x - SIZE / 2, y - SIZE / 2, x + SIZE / 2, y + SIZE / 2], axis=2).reshape(-1, 4)
    frame = np.repeat(np.arange(frames), count)
    ones = np.ones(len(frame), np.float32)
    found = Detections.from_boxes(frame, box.astype(np.float32), ones, frame_count=frames, size=(4000, 4000))
    runs = np.array([[y, x1, x2] for x1, _, x2, y in np.rint(box).astype(np.int16).tolist()], np.int16)
    return replace(found, runs=runs, run_start=np.arange(len(runs) + 1)), times  # as found by motion: with outlines


def swinging(k: int, times: np.ndarray) -> np.ndarray:
    """A box that leans to and fro twice a second, as limbs swing."""
    return 3.0 * np.sin(2 * np.pi * 2.0 * times + k)


def turning(k: int, times: np.ndarray) -> np.ndarray:
    """White acceleration: the speed walks at random, half a pixel a frame in every frame."""
    speed = np.cumsum(np.random.default_rng(k).normal(0, 0.5, len(times)))
    return np.cumsum(speed)


def test_boxes_that_lean_and_come_back_make_the_filter_stiff():
    found, times = walkers(swinging)
    assert jumpiness_of(found, times, RATE) == STIFF


def test_ways_that_change_at_random_keep_the_usual_jumpiness():
    found, times = walkers(turning)
    assert jumpiness_of(found, times, RATE) == pytest.approx(EVEN, abs=0.1)


@pytest.mark.parametrize("rate", [12.5, 50.0])
def test_the_frame_rate_changes_nothing_of_that(rate):
    found, times = walkers(swinging, frames=round(8 * rate), rate=rate)
    assert jumpiness_of(found, times, rate) == STIFF


def test_bends_of_white_acceleration_say_its_strength_over_either_time():
    """The speed changes by half a pixel a frame in every frame: q is 0.5 over either time."""
    found, times = walkers(turning, count=8, frames=400)
    tracks = fold_tracks(found, times, RATE, with_value(Recipe(), "track.motion.jumpiness", 1.0).track)
    short, long = (size.reshape(-1, 2)[:, 0] for size in bends(tracks, found, times))
    assert np.sqrt(np.mean(short**2)) == pytest.approx(0.5, rel=0.15)
    assert np.sqrt(np.mean(long**2)) == pytest.approx(0.5, rel=0.3)


def test_too_little_to_tell_takes_the_usual():
    found, times = walkers(swinging, count=1, frames=30)
    assert jumpiness_of(found, times, RATE) == EVEN
    none = Detections.from_boxes(
        np.zeros(0, np.int64), np.zeros((0, 4), np.float32), np.zeros(0, np.float32), frame_count=50, size=(64, 64)
    )
    assert jumpiness_of(none, np.arange(50) / RATE, RATE) == EVEN


def test_only_a_whole_clip_of_outlines_is_measured_and_only_where_it_is_on_auto(monkeypatch):
    found, times = walkers(swinging)
    asked = []
    monkeypatch.setattr(pace, "jumpiness_of", lambda *given: asked.append(given) or 0.3)
    assert pace_of(found, times, RATE, whole=False) == EVEN, "a clip that is still read is not measured"
    boxes = replace(found, runs=found.runs[:0], run_start=np.zeros(len(found) + 1, np.int64))
    assert resolve_track(TrackSettings(), boxes, times, RATE).motion.jumpiness == EVEN, "boxes of another detector"
    given = with_value(Recipe(), "track.motion.jumpiness", 0.9).track
    assert resolve_track(given, found, times, RATE) is given and with_pace(given, 0.2) is given
    assert not asked
    assert resolve_track(TrackSettings(), found, times, RATE).motion.jumpiness == 0.3


def test_a_clip_is_measured_once_however_often_it_is_linked_anew(monkeypatch):
    found, times = walkers(swinging)
    asked = []
    monkeypatch.setattr(pace, "jumpiness_of", lambda *given: asked.append(given) or 0.3)
    clip = ClipInfo("swing.mp4", *found.size, RATE, times, "swing")
    here = DetectResult(found, np.zeros(256, np.int64), (), 1.0, len(times))
    recipe, known = Recipe(), {}
    for gate in (5.0, 7.0, 9.0):
        recipe = with_value(recipe, "track.match.gate", gate)
        known[keys_of(Subject(clip), recipe)["detect"]] = Result("detect", "", here)
        made = run_stage("after", Subject(clip), recipe, known=known)
        known |= {result.key: result for result in made.values() if result.key}
        assert made["track"].value.taken.motion.jumpiness == 0.3
        assert made["track"].value.taken.match.gate == gate
    assert len(asked) == 1
    set_ = with_value(recipe, "track.motion.jumpiness", 2.0)
    assert "pace" not in run_stage("after", Subject(clip), set_, known=known)
    cut = replace(here, cuts=(len(times) // 2,))
    known[keys_of(Subject(clip), recipe)["detect"]] = Result("detect", "", cut)
    run_stage("pace", Subject(clip), recipe, known={k: v for k, v in known.items() if v.stage == "detect"})
    assert float(np.diff(asked[-1][1]).max()) > 1000, "no path goes on through a cut"


def test_a_clip_on_auto_is_linked_as_with_what_was_measured_and_live_as_usual():
    found, times = walkers(swinging)
    auto = link_detections(found, times, RATE, TrackSettings())
    same = link_detections(found, times, RATE, with_value(Recipe(), "track.motion.jumpiness", STIFF).track)
    assert np.array_equal(auto.box, same.box) and np.array_equal(auto.identity, same.identity)
    live = Tracker(TrackSettings(), found.size, RATE)
    usual = Tracker(with_value(Recipe(), "track.motion.jumpiness", EVEN).track, found.size, RATE)
    assert live._jumpiness == usual._jumpiness


# --- what is looked at, and what of it counts ---------------------------------------------------------------------


@given(st.integers(0, 10_000))
def test_bends_are_those_of_three_whole_boxes_of_ones_own_seen_one_after_the_other(seed):
    """Against a twin that goes through every three rows of every path."""
    rng, frames, count = np.random.default_rng(seed), 60, 3
    start, side = rng.uniform(5, 60, (count, 1, 2)), rng.uniform(8, 40, (count, 1, 1))
    middle = start + np.cumsum(rng.normal(0, 2, (count, frames, 2)), axis=1)
    box = np.concatenate([middle - side / 2, middle + side / 2], axis=2).astype(np.float32)
    seen = rng.random((count, frames)) < 0.97
    frame, who = np.nonzero(seen.T)
    found = Detections.from_boxes(
        frame, box[who, frame], np.ones(len(frame), np.float32), frame_count=frames, size=(90, 90)
    )
    rows = [(int(f), int(w) + 1, tuple(box[w, f].tolist())) for f, w in zip(frame, who, strict=True)]
    tracks = tracks_of(rows, frames, state={row[:2]: int(rng.random() < 0.95) for row in rows})
    # Two of one path may have been given one box of another's; some rows are of no box at all.
    link = np.where(rng.random(len(rows)) < 0.03, -1, np.arange(len(rows)))
    link = np.where(rng.random(len(rows)) < 0.03, rng.integers(0, len(rows), len(rows)), link).astype(np.int32)
    tracks, times = replace(tracks, detection=link), np.arange(frames) / 10.0
    made = bends(tracks, found, times)
    for step, got in zip((2, 8), made, strict=True):
        told = []
        place = {(int(tracks.identity[k]), int(tracks.frame[k])): k for k in range(len(rows))}
        for k in tracks.paths.row.tolist():
            between = [place.get((int(tracks.identity[k]), int(tracks.frame[k]) + j)) for j in range(2 * step + 1)]
            three = between[::step]
            if None in between or not all(counts(tracks, link, found, row) for row in three):
                continue
            a, b, c = (found.box[link[row]].astype(np.float64) for row in three)
            bend = [abs((a[j] + a[j + 2] + c[j] + c[j + 2]) / 2 - (b[j] + b[j + 2])) for j in range(2)]
            size = np.sqrt((b[2] - b[0]) * (b[3] - b[1]))
            scale = np.sqrt(np.clip(size / 50.0, 0.2, 5.0))
            told += [value / scale * np.sqrt(1.5 / (step * 0.1 * 25.0) ** 3) for value in bend]
        assert got == pytest.approx(told, rel=1e-6, abs=1e-9)


def counts(tracks, link, found, row) -> bool:
    """Whether a row was seen, believed, by a box that no other row has and that touches no edge of the picture."""
    if link[row] < 0 or tracks.state[row] != TrackState.CONFIRMED or (link == link[row]).sum() != 1:
        return False
    x1, y1, x2, y2 = found.box[link[row]].tolist()
    return x1 > 2 and y1 > 2 and x2 < 88 and y2 < 88


@pytest.mark.parametrize(("frames", "each"), [(3, 1), (40, 2), (900, 2), (900, 40), (6000, 40), (6000, 400)])
def test_a_long_clip_is_looked_at_in_few_stretches_spread_from_its_first_frame_to_its_last(frames, each, monkeypatch):
    looked = []
    monkeypatch.setattr(pace, "_linked", lambda found, times, rate, first, past: looked.append((first, past)))
    box = np.tile(np.array([[10, 10, 20, 20]], np.float32), (frames * each, 1))
    frame = np.repeat(np.arange(frames), each)
    found = Detections.from_boxes(frame, box, np.ones(len(frame), np.float32), frame_count=frames, size=(64, 64))
    pace._looks(found, np.arange(frames) / RATE, RATE)
    lengths = {past - first for first, past in looked}
    assert len(lengths) == 1 and 1 <= len(looked) <= 4
    assert looked[0][0] == 0 and all(a < b for a, b in zip(looked, looked[1:], strict=False))
    assert max(past for _, past in looked) <= frames
    if len(looked) > 1:
        assert looked[-1][1] == frames and lengths == {150}, "six seconds each"
    total = sum(past - first for first, past in looked)
    wanted = min(frames, round(12_000 / each))
    assert total <= max(150, wanted) and total >= min(frames, 150, wanted)


def test_a_clip_of_two_frames_is_not_looked_at():
    found, times = walkers(swinging, frames=2)
    assert pace._looks(found, times, RATE) == [] and jumpiness_of(found, times, RATE) == EVEN


def test_the_wildest_bends_weigh_as_much_as_the_rest_of_them():
    """Two in a hundred are lost links: however far they leap, they are cut down to what lies below them."""
    size = np.r_[np.full(98, 2.0), np.full(2, 1e6)]
    assert pace._spread(size) == pytest.approx(2.0, rel=0.01)
    assert pace._spread(np.array([3.0, 4.0] * 50)) == pytest.approx(np.sqrt(12.5))


@pytest.mark.parametrize(
    ("ratio", "taken"), [(1.0, EVEN), (2.0, EVEN), (2.2, EVEN / 1.1**8), (4.0, STIFF), (100.0, STIFF)]
)
def test_beyond_twice_the_filter_gets_stiffer_by_the_eighth_power_and_never_stiffer_than_its_least(
    ratio, taken, monkeypatch
):
    found, times = walkers(swinging, frames=40)
    monkeypatch.setattr(pace, "bends", lambda *_: (np.full(60, ratio), np.full(60, 1.0)))
    assert jumpiness_of(found, times, RATE) == pytest.approx(max(taken, STIFF), abs=1e-3)
