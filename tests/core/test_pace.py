"""Pace on auto: ways that change are told from boxes that jitter, and from boxes that lean."""

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
from drover.core.track import measured_pace as measuring
from drover.core.track.foresight import LATE, LOST, SETTLED, SPANS, WIDE, foreseen
from drover.core.track.measured_pace import (
    JITTERS,
    JUMPS,
    best_noises,
    measured_pace,
    pace_of,
    resolve_track,
    sightings,
)
from drover.core.track.pace import OF_BOXES, USUAL, Pace, with_pace
from drover.core.track.tracker import Tracker
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections, TrackState

STIFF = float(JUMPS[0])
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


def as_boxes(found: Detections) -> Detections:
    """The same of another detector, that shows no outlines."""
    return replace(found, runs=found.runs[:0], run_start=np.zeros(len(found) + 1, np.int64))


def swinging(k: int, times: np.ndarray) -> np.ndarray:
    """A box that leans to and fro twice a second, as limbs swing."""
    return 3.0 * np.sin(2 * np.pi * 2.0 * times + k)


def test_boxes_that_lean_and_come_back_make_the_filter_stiff():
    found, times = walkers(swinging)
    assert measured_pace(found, times, RATE).jumpiness < 2 * STIFF


@pytest.mark.parametrize("rate", [12.5, 25.0, 50.0])
@pytest.mark.parametrize(("push", "jitter"), [(0.4, 2.0), (0.1, 0.8), (1.2, 4.0)])
def test_what_drove_a_path_is_told_from_it_at_any_frame_rate(push, jitter, rate):
    """White acceleration of 50 px bodies, seen with white jitter; both come out as they were put in."""
    rng, count, frames, fine = np.random.default_rng(3), 12, round(8 * rate), 10
    t = 25.0 / rate / fine
    speed = np.cumsum(rng.normal(0, push * np.sqrt(t), (count, frames * fine, 2)), axis=1)
    middle = np.cumsum(speed * t, axis=1)[:, ::fine] + rng.normal(0, jitter, (count, frames, 2))
    when = np.tile(np.arange(frames) * 25.0 / rate, count)
    sides = np.full((count * frames, 2), SIZE)
    likely, _ = foreseen(np.arange(count + 1) * frames, middle.reshape(-1, 2), sides, when, JUMPS, JITTERS)
    found = best_noises(likely)
    assert found == (pytest.approx(push, rel=0.3), pytest.approx(jitter, rel=0.15))


@pytest.mark.parametrize("sigma", [0.75, 3.0])
def test_jitter_beyond_the_usual_is_half_believed_and_less_makes_no_filter_surer(sigma):
    """At 50 px of size. What jitters less: both noises are raised alike, so that the filter's gains stay."""
    found, times = walkers(lambda k, times: 0 * times, count=8)
    off = np.random.default_rng(1).normal(0, sigma, (len(found), 2)).astype(np.float32)
    found = replace(found, box=found.box + np.tile(off, 2))
    for made, usual in (
        (measured_pace(found, times, RATE), USUAL.box_noise),
        (measured_pace(as_boxes(found), times, RATE), OF_BOXES),
    ):
        assert made.box_noise == pytest.approx(max(usual, np.sqrt(sigma * usual)), rel=0.1)
        raised = STIFF * max(1.0, usual / sigma)
        near = raised > 0.23 and made.jumpiness == USUAL.jumpiness
        assert near or made.jumpiness == pytest.approx(raised, rel=0.15)


@pytest.mark.parametrize("rate", [12.5, 50.0])
def test_boxes_that_lean_do_so_at_any_frame_rate(rate):
    found, times = walkers(swinging, frames=round(8 * rate), rate=rate)
    assert measured_pace(found, times, rate).jumpiness < 2 * STIFF


@pytest.mark.parametrize(("found", "taken"), [(0.2, 0.2), (0.3, USUAL.jumpiness), (0.9, USUAL.jumpiness), (1.2, 1.2)])
def test_a_jumpiness_of_about_the_usual_is_the_usual(found, taken, monkeypatch):
    walk, times = walkers(swinging)
    monkeypatch.setattr(measuring, "best_noises", lambda likely: (found, USUAL.box_noise))
    made = measured_pace(walk, times, RATE)
    assert (made.jumpiness, made.box_noise) == (taken, USUAL.box_noise)
    monkeypatch.setattr(measuring, "best_noises", lambda likely: (1.5, 0.4))
    assert measured_pace(walk, times, RATE).jumpiness == JUMPS[-1], "raised together, but not beyond what is sought"


def test_too_little_to_tell_takes_the_usual():
    found, times = walkers(swinging, count=1, frames=30)
    assert measured_pace(found, times, RATE) == USUAL
    none = Detections.from_boxes(
        np.zeros(0, np.int64), np.zeros((0, 4), np.float32), np.zeros(0, np.float32), frame_count=50, size=(64, 64)
    )
    assert measured_pace(none, np.arange(50) / RATE, RATE) == Pace(USUAL.jumpiness, OF_BOXES)


def test_only_a_whole_clip_is_measured_and_only_what_is_on_auto(monkeypatch):
    found, times = walkers(swinging)
    asked = []
    monkeypatch.setattr(measuring, "measured_pace", lambda *given: asked.append(given) or Pace(0.3, 2.5))
    assert pace_of(found, times, RATE, whole=False) == USUAL, "a clip that is still read is not measured"
    given = with_pace(TrackSettings(), Pace(0.9, 4.0))
    assert resolve_track(given, found, times, RATE) is given
    assert not asked
    half = with_value(Recipe(), "track.motion.jumpiness", 0.9).track
    assert resolve_track(half, found, times, RATE) == with_pace(TrackSettings(), Pace(0.9, 2.5))
    assert resolve_track(TrackSettings(), found, times, RATE) == with_pace(TrackSettings(), Pace(0.3, 2.5))


def test_a_clip_is_measured_once_however_often_it_is_linked_anew(monkeypatch):
    found, times = walkers(swinging)
    asked = []
    monkeypatch.setattr(measuring, "measured_pace", lambda *given: asked.append(given) or Pace(0.3, 2.5))
    clip = ClipInfo("swing.mp4", *found.size, RATE, times, "swing")
    here = DetectResult(found, np.zeros(256, np.int64), (), 1.0, len(times))
    recipe, known = Recipe(), {}
    for gate in (5.0, 7.0, 9.0):
        recipe = with_value(recipe, "track.match.gate", gate)
        known[keys_of(Subject(clip), recipe)["detect"]] = Result("detect", "", here)
        made = run_stage("after", Subject(clip), recipe, known=known)
        known |= {result.key: result for result in made.values() if result.key}
        assert made["track"].value.taken.motion == with_pace(TrackSettings(), Pace(0.3, 2.5)).motion
        assert made["track"].value.taken.match.gate == gate
    assert len(asked) == 1
    set_ = with_value(recipe, "track.motion.jumpiness", 2.0)
    assert "pace" in run_stage("after", Subject(clip), set_, known=known)
    all_set = set_.model_copy(update={"track": with_pace(set_.track, USUAL)})
    assert "pace" not in run_stage("after", Subject(clip), all_set, known=known)
    cut = replace(here, cuts=(len(times) // 2,))
    known[keys_of(Subject(clip), recipe)["detect"]] = Result("detect", "", cut)
    run_stage("pace", Subject(clip), recipe, known={k: v for k, v in known.items() if v.stage == "detect"})
    assert float(np.diff(asked[-1][1]).max()) > 1000, "no path goes on through a cut"


def test_a_clip_on_auto_is_linked_as_with_what_was_measured_and_live_as_usual():
    found, times = walkers(swinging)
    auto = link_detections(found, times, RATE, TrackSettings())
    same = link_detections(found, times, RATE, with_pace(TrackSettings(), measured_pace(found, times, RATE)))
    assert np.array_equal(auto.box, same.box) and np.array_equal(auto.identity, same.identity)
    live = Tracker(TrackSettings(), found.size, RATE)
    assert live.settings == with_pace(TrackSettings(), USUAL)


# --- what is looked at, and what of it counts ---------------------------------------------------------------------


@given(st.integers(0, 10_000))
def test_sightings_are_whole_boxes_of_ones_own_path_after_path(seed):
    """Against a twin that goes through every row of every path."""
    rng, frames, count = np.random.default_rng(seed), 40, 3
    start, side = rng.uniform(5, 60, (count, 1, 2)), rng.uniform(8, 40, (count, 1, 1))
    middle = start + np.cumsum(rng.normal(0, 2, (count, frames, 2)), axis=1)
    box = np.concatenate([middle - side / 2, middle + side / 2], axis=2).astype(np.float32)
    seen = rng.random((count, frames)) < 0.97
    frame, who = np.nonzero(seen.T)
    found = Detections.from_boxes(
        frame, box[who, frame], np.ones(len(frame), np.float32), frame_count=frames, size=(90, 90)
    )
    rows = [(int(f), int(w) + 1, tuple(box[w, f].tolist())) for f, w in zip(frame, who, strict=True)]
    tracks = tracks_of(rows, frames, state={row[:2]: 2 - int(rng.random() < 0.95) for row in rows})
    # Two of one path may have been given one box of another's; some rows are of no box at all.
    link = np.where(rng.random(len(rows)) < 0.03, -1, np.arange(len(rows)))
    link = np.where(rng.random(len(rows)) < 0.03, rng.integers(0, len(rows), len(rows)), link).astype(np.int32)
    tracks, times = replace(tracks, detection=link), np.arange(frames) / 10.0
    begins, places, sides, when = sightings(tracks, found, times)
    told = {int(k): [] for k in np.unique(tracks.identity)}
    for k in tracks.paths.row.tolist():
        if counts(tracks, link, found, k):
            x1, y1, x2, y2 = found.box[link[k]].astype(np.float64).tolist()
            told[int(tracks.identity[k])].append(
                ((x1 + x2) / 2, (y1 + y2) / 2, x2 - x1, y2 - y1, 2.5 * int(tracks.frame[k]))
            )
    got = np.column_stack([places, sides, when])
    paths = [path for path in told.values() if path]
    assert np.diff(begins).tolist() == [len(path) for path in paths]
    assert got.ravel() == pytest.approx(np.concatenate(paths).ravel() if paths else [])


def counts(tracks, link, found, row) -> bool:
    """Whether a row was seen, by a box that no other row has and that touches no edge of the picture."""
    if link[row] < 0 or tracks.state[row] == TrackState.COASTING or (link == link[row]).sum() != 1:
        return False
    x1, y1, x2, y2 = found.box[link[row]].tolist()
    return x1 > 2 and y1 > 2 and x2 < 88 and y2 < 88


@pytest.mark.parametrize(("frames", "each"), [(3, 1), (40, 2), (900, 2), (900, 40), (6000, 40), (6000, 400)])
def test_a_long_clip_is_looked_at_in_few_stretches_spread_from_its_first_frame_to_its_last(frames, each, monkeypatch):
    looked = []
    monkeypatch.setattr(measuring, "_linked", lambda *given: looked.append(given[-2:]))
    box = np.tile(np.array([[10, 10, 20, 20]], np.float32), (frames * each, 1))
    frame = np.repeat(np.arange(frames), each)
    found = Detections.from_boxes(frame, box, np.ones(len(frame), np.float32), frame_count=frames, size=(64, 64))
    measuring._looks(found, np.arange(frames) / RATE, RATE, USUAL)
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
    assert measuring._looks(found, times, RATE, USUAL) == [] and measured_pace(found, times, RATE) == USUAL


# --- how well a filter foresees -----------------------------------------------------------------------------------


@given(st.integers(0, 10_000))
def test_each_forecast_is_that_of_a_kalman_filter_of_matrices(seed):
    """Against a twin with matrices, that looks for what each forecast is judged by among all sightings."""
    rng = np.random.default_rng(seed)
    lengths = rng.integers(1, 40, 3)
    start = np.concatenate([[0], np.cumsum(lengths)])
    when = np.cumsum(rng.choice([0.5, 1.0, 1.0, 2.0, 7.0, 40.0], start[-1]))
    side = rng.uniform(4, 400, (start[-1], 2))
    middle = np.cumsum(rng.normal(0, 3, (start[-1], 2)), axis=0)
    jumps, jitters = np.array([0.06, 1.0]), np.array([0.5, 6.0])
    likely, judged = foreseen(start, middle, side, when, jumps, jitters)
    scale = np.sqrt(np.clip(np.sqrt(side.prod(axis=1)) / 50.0, 0.2, 5.0))
    for a, jump in enumerate(jumps):
        for b, jitter in enumerate(jitters):
            told = [[] for _ in SPANS]
            for begin, end in zip(start, start[1:], strict=False):
                for axis in range(2):
                    state, spread = np.array([middle[begin, axis], 0.0]), None
                    for k in range(begin, end):
                        r = (jitter * scale[k]) ** 2
                        if spread is None:
                            spread = np.diag([r, (0.06 * np.hypot(*side[k])) ** 2])
                        else:
                            state, spread = moved(state, spread, when[k] - when[k - 1], jump * scale[k])
                            gain = spread[:, 0] / (spread[0, 0] + r)
                            state = state + gain * (middle[k, axis] - state[0])
                            spread = spread - np.outer(gain, spread[0])
                        for h, span in enumerate(SPANS):
                            later = [j for j in range(k + 1, end) if when[j] - when[k] >= span - 1e-6]
                            if k - begin < SETTLED or not later:
                                continue
                            wait = when[later[0]] - when[k]
                            if span and wait > LATE * span:
                                continue
                            ahead, about = moved(state, spread, wait, jump * scale[k])
                            v, off = about[0, 0] + r, middle[later[0], axis] - ahead[0]
                            mixed = sum(
                                share * np.exp(-0.5 * off**2 / (v * wide)) / np.sqrt(v * wide)
                                for share, wide in ((1 - LOST, 1.0), (LOST, WIDE))
                            )
                            told[h].append(float(np.log(max(mixed, 1e-300))))
            assert [len(one) for one in told] == judged.tolist()
            plain = all(value > -600 for one in told for value in one)  # else what is likelier is held at a floor
            if plain:
                assert likely[a, b] == pytest.approx(sum(np.mean(one) for one in told if one), rel=1e-6, abs=1e-9)


def moved(state, spread, t, push):
    """State and covariance after a time, with white noise of acceleration."""
    step = np.array([[1.0, t], [0.0, 1.0]])
    noise = push**2 * np.array([[t**3 / 3, t**2 / 2], [t**2 / 2, t]])
    return step @ state, step @ spread @ step.T + noise
