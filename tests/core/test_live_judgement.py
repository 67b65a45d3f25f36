"""What is judged live, ever anew: the scene and its noise, and who is an object."""

from __future__ import annotations

import threading
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import drover.core.live_survey as live_survey
from drover.core.count.live import LiveCount, LiveRows
from drover.core.footage_types import Frame
from drover.core.live import LiveRun
from drover.core.live_session.object_rows import ObjectRows
from drover.core.live_survey import LiveSurvey
from drover.core.recipe import Recipe, with_value
from drover.core.settings.count import CountSettings, LineSettings
from drover.core.settings.track import AfterSettings
from drover.core.survey.resolve import resolve_detect
from drover.core.survey.survey import survey_of
from drover.core.track.live_objects import LiveObjects
from drover.core.track.rows import NewestRows
from drover.core.types import TrackState

RATE = 10.0
SHAPE = (96, 160)


# --- the scene ------------------------------------------------------------------------------------------------


def frame_at(time: float, *, noise: float = 2.0, seed: int = 1, tint: float = 12.0, put=None, shape=SHAPE) -> Frame:
    """A textured ground with noise, and ``put(picture)`` on it."""
    rng = np.random.default_rng([seed, round(1000 * time)])
    blocks = np.random.default_rng(seed).uniform(70, 150, (shape[0] // 8, shape[1] // 8))
    picture = np.kron(blocks, np.ones((8, 8)))
    if put is not None:
        put(picture)
    grey = np.clip(np.rint(picture + rng.normal(0, noise, shape)), 0, 255).astype(np.uint8)
    colour = 128.0 + tint + rng.normal(0, 0.8, (2, shape[0] // 2, shape[1] // 2))
    chroma = np.clip(np.rint(colour), 0, 255).astype(np.uint8)
    return Frame(round(time * RATE), time, lambda: grey, lambda: grey[..., None].repeat(3, axis=2), lambda: chroma)


def taken(monkeypatch, seconds: float, **more) -> tuple[list[np.ndarray], list[float]]:
    """Times of the pictures of each survey, and when each was to hold."""
    looked: list[np.ndarray] = []
    monkeypatch.setattr(live_survey, "survey_of", lambda samples: looked.append(samples.time))
    survey, held = LiveSurvey(**more), []
    for k in range(round(seconds * RATE)):
        waiting = survey._made is not None
        survey.due(k / RATE)
        if waiting and survey._made is None:
            held.append(k / RATE)
        survey.note(frame_at(k / RATE, shape=(16, 16)))
    survey.close()
    return looked, held


def test_the_first_seconds_are_surveyed_then_twice_as_long_and_then_the_last_minute_again_and_again(monkeypatch):
    looked, held = taken(monkeypatch, 200.0)
    assert len(looked) == len(held)
    assert held == pytest.approx([after + 3.0 for after in (4, 8, 16, 32, 64, 128, 192)])
    for times in looked:
        assert 31 <= len(times) <= 34 and times[-1] - times[0] <= 67.0
        assert min(abs(times[-1] + 3.0 - when) for when in held) <= 2.1
        apart = np.diff(times)
        assert apart.max() <= 2.1 * apart.min() + 0.1  # spread evenly over what is looked back on
    assert looked[0][0] == 0.0 and looked[4][0] <= 2.0 and looked[6][0] > 120.0


def test_a_camera_of_few_pictures_is_surveyed_once_there_are_enough_and_large_ones_are_fewer(monkeypatch):
    looked: list[int] = []
    monkeypatch.setattr(live_survey, "survey_of", lambda samples: looked.append(len(samples.time)))
    slow = LiveSurvey()
    for k in range(12):
        slow.note(frame_at(float(k), shape=(16, 16)))
    slow.due(20.0)  # waits for it
    slow.close()
    assert looked == [8]
    monkeypatch.setattr(live_survey, "MEMORY", 16 * 16 * 3 // 2 * 14)
    looks, _ = taken(monkeypatch, 70.0)
    assert all(13 <= len(times) <= 16 for times in looks) and looks[-1][-1] - looks[-1][0] > 50.0


def test_another_scene_is_looked_at_anew(monkeypatch):
    looked: list[np.ndarray] = []
    monkeypatch.setattr(live_survey, "survey_of", lambda samples: looked.append(samples.time))
    survey = LiveSurvey()
    for k in range(135):  # till the second one is to hold, which waits for it
        if k == 55:
            survey.begin_anew()
        survey.due(k / RATE)
        survey.note(frame_at(k / RATE, shape=(16, 16)))
    survey.close()
    assert [round(float(times[-1]), 1) for times in looked] == [4.0, 9.5]
    assert looked[1][0] == 5.5


def run_over(recipe: Recipe, seconds: float, made) -> tuple[LiveRun, list]:
    run = LiveRun(recipe, SHAPE[::-1], RATE)
    steps = [run.step(made(k / RATE)) for k in range(round(seconds * RATE))]
    run.finish()
    return run, steps


def test_live_the_noise_is_that_of_the_last_minute_and_what_is_on_auto_follows():
    """Night falls: the picture grows noisy and loses its colour."""
    falls = lambda time: frame_at(time, noise=2.0 if time < 5 else 7.0, tint=12.0 if time < 5 else 0.0)  # noqa: E731
    by_day, _ = run_over(Recipe(), 7.5, falls)
    assert by_day.taken.background.look_at == "colour" and "The footage has colour." in by_day.said
    assert float(np.median(by_day._detector._detector.model.noise())) == pytest.approx(2.0, rel=0.15)
    by_night, steps = run_over(Recipe(), 40.0, falls)
    assert by_night.taken.background.look_at == "grey" and "The footage is grey." in by_night.said
    assert float(np.median(by_night._detector._detector.model.noise())) == pytest.approx(7.0, rel=0.2)
    assert sum(len(step.found.box) for step in steps[-40:]) < 10
    by_day, _ = run_over(Recipe(), 36.0, lambda time: frame_at(time, tint=0.0 if time < 5 else 12.0))
    assert by_day.taken.background.look_at == "colour" and by_day._detector._detector._colour is not None


def test_live_one_odd_survey_decides_nothing_but_two_in_a_row_do(monkeypatch):
    told = iter([False, True, False, True, True, True])
    monkeypatch.setattr(live_survey, "survey_of", lambda samples: replace(survey_of(samples), grey=next(told)))
    run, held = LiveRun(Recipe(), SHAPE[::-1], RATE), []
    for k in range(0, 1400, 3):
        run.step(frame_at(k / RATE))
        if k / RATE in (7.5, 11.4, 20.1, 36.0, 67.5, 132.0):
            held.append(run.taken.background.look_at)
    run.finish()
    assert held == ["colour"] * 4 + ["grey"] * 2


def test_live_one_who_stands_there_from_the_start_leaves_no_ghost_and_others_are_found():
    """He is there for 1.5 s: learnt as ground in the first of them, and known for what he is later."""

    def put(time):
        def on(picture):
            if time < 1.5:
                picture[20:50, 20:40] = 230
            x = round(8 * (time - 8))
            picture[60:80, max(x, 0) : max(x + 14, 0)] = 230

        return on

    made = lambda time: frame_at(time, put=put(time))  # noqa: E731
    _, steps = run_over(Recipe(), 20.0, made)
    late = [step.found.box for step in steps[80:]]
    assert all((box[:, 1] > 55).all() for box in late), "nobody is where he stood"
    assert sum(len(box) == 1 for box in late[10:100]) >= 85


def test_the_same_footage_gives_the_same_live_however_fast_it_comes(monkeypatch):
    ready = threading.Event()

    def slowly(samples):
        ready.wait(0.3)
        return survey_of(samples)

    put = lambda time: lambda picture: picture.__setitem__((slice(40, 60), slice(round(9 * time), None)), 220)  # noqa: E731
    made = lambda time: frame_at(time, noise=4.0, put=put(time))  # noqa: E731
    _, quick = run_over(Recipe(), 14.0, made)
    monkeypatch.setattr(live_survey, "survey_of", slowly)
    _, slow = run_over(Recipe(), 14.0, made)
    for one, other in zip(quick, slow, strict=True):
        assert np.array_equal(one.found.box, other.found.box)
        assert np.array_equal(one.rows.identity, other.rows.identity)


def test_where_nothing_is_left_to_the_footage_nothing_is_surveyed():
    recipe = with_value(Recipe(), "detect.background.known_start", False)
    for name, value in (("background.weak_share", 0.7), ("background.look_at", "grey"), ("shadow.mode", "off")):
        recipe = with_value(recipe, f"detect.{name}", value)
    recipe = recipe.model_copy(update={"detect": resolve_detect(recipe.detect, None)})
    run, _ = run_over(recipe, 9.0, frame_at)
    assert run.said == () and run.taken == recipe.detect
    assert run_over(with_value(recipe, "detect.shadow.mode", "auto"), 9.0, frame_at)[0].said


# --- who is an object -----------------------------------------------------------------------------------------


def rows_at(*known: tuple[int, float, float, float], state: int = TrackState.CONFIRMED) -> NewestRows:
    """Rows of one frame: identity, middle x and y px, confidence; bodies are 20 px."""
    box = np.array([[x - 10, y - 10, x + 10, y + 10] for _, x, y, _ in known], np.float32).reshape(-1, 4)
    n = len(known)
    return NewestRows(
        np.array([who for who, *_ in known], np.int32), box, np.full(n, state, np.int8), np.zeros(n, np.int16), box,
        np.array([sure for *_, sure in known], np.float32),
    )  # fmt: skip


def test_who_walks_is_counted_who_stands_is_shown_and_what_flickers_is_neither():
    rng, judge = np.random.default_rng(3), LiveObjects(AfterSettings(), 2.0)
    shown, counted = {1: 0, 2: 0, 3: 0}, {1: 0, 2: 0, 3: 0}
    for k in range(250):
        leap = rng.uniform(-12, 12, 2)
        known = [(1, 20.0 + 2 * k, 50.0, 0.75), (2, 300.0, 200.0, 0.75)]
        if k % 2 or k == 0:
            at = 400 + leap[0], 50 + leap[1]
        rows = rows_at(*known, (3, *at, 0.54))
        rows.state[2] = TrackState.CONFIRMED if k % 2 else TrackState.COASTING
        judged = judge.step(k / 25, rows)
        for (who, *_), is_shown, is_counted in zip([*known, (3,)], judged.shown, judged.counted, strict=True):
            shown[who] += is_shown
            counted[who] += is_counted
    assert shown[1] > 230 and counted[1] > 220
    assert shown[2] > 230 and counted[2] == 0
    assert shown[3] == counted[3] == 0
    assert judge.total == 1


def test_who_was_counted_is_so_while_he_stands_and_is_forgotten_with_all_that_was_kept_of_him():
    judge = LiveObjects(AfterSettings(), 2.0)
    for k in range(2_000):
        who = 2 + k // 100
        judged = judge.step(
            k / 25, rows_at((1, 20.0 + min(2 * k, 80), 50.0, 0.75), (who, 3.0 * (k % 100), 200.0, 0.75))
        )
        assert k < 40 or judged.counted[0], "he came 80 px in the first seconds, and has stood since"
        assert len(judge._frames) <= 252
    for k in range(2_000, 2_100):
        judge.step(k / 25, rows_at())
    assert judge.total == 21
    assert not (judge._seen or judge._travelled or judge._steady or judge._counted)


def test_where_all_is_asked_for_all_is_counted_at_once():
    judge = LiveObjects(AfterSettings(least_travel=0.0, drop_flicker=False), 2.0)
    assert judge.step(0.0, rows_at((1, 20.0, 20.0, 0.5))).counted.all()
    travels = LiveObjects(AfterSettings(drop_flicker=False), 2.0)
    judged = [travels.step(k / 25, rows_at((1, 20.0 + k, 20.0, 0.5))) for k in range(100)]
    assert not judged[15].counted.any() and judged[-1].counted.all()


@given(st.integers(0, 40), st.booleans())
def test_nothing_is_told_of_one_who_is_no_object_and_all_of_one_who_turns_out_to_be_one(known_from, ever):
    """Over at 0.8 s of 1.6; known for an object later or earlier, or never."""
    settings = CountSettings(line=(LineSettings(name="Gap", points=((0.5, 1.0), (0.5, 0.0)), dead_band=0.0),))
    counter, told = LiveCount(settings, (100, 100), forget_after=1.0), []
    for k in range(40):
        box = np.array([[7.0 + 2 * k, 40, 13.0 + 2 * k, 60]], np.float32)
        known = np.array([ever and k >= known_from])
        rows = LiveRows(np.array([1]), box, np.ones(1, np.int8), np.zeros(1, np.int16), is_object=known)
        told += [(k, one) for one in counter.step(k / 25, rows).crossings]
    told += [(40, one) for one in counter.finish().crossings]
    assert counter.rows_kept == 0
    if not ever or known_from == 40:
        assert told == []
        return
    ((when, one),) = told
    assert one.time == pytest.approx(20 / 25) and one.direction == 1
    assert when >= known_from


def test_rows_of_one_who_turns_out_to_be_an_object_are_kept_from_the_first_and_of_others_none():
    kept, out = ObjectRows(), []
    for k in range(1_500):
        box = np.array([[k, 0, k + 10, 20], [5, 5, 9, 9]], np.float32)
        state = np.array([TrackState.COASTING if k == 3 else TrackState.CONFIRMED] * 2, np.int8)
        rows = LiveRows(np.array([1, 2]), box, state, np.zeros(2, np.int16), is_object=np.array([k >= 20, False]))
        out += kept.step(k, rows if k < 400 else rows.of(np.array([True, False])))
    assert [row.frame for row in out] == list(range(1_500)) and {row.identity for row in out} == {1}
    assert [row.frame for row in out if not row.seen] == [3]
    assert out[7].box == (7.0, 0.0, 17.0, 20.0)
    assert not kept._held, "who never was one is let go of"
