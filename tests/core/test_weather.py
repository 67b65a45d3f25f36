"""Snow told from bodies: what drifts all over the picture goes; runners on a road and a queue in a lane stay."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import runs_of

from drover.core.bodies.cleared import without_flakes
from drover.core.bodies.settle import GENEROUS, settle
from drover.core.bodies.weather import weather_in
from drover.core.recipe import BodySettings
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections

RATE, FRAMES, SIZE = 25.0, 125, (640, 360)
TIMES = np.arange(FRAMES) / RATE
WALKERS = 3
Rows = list[tuple[int, tuple[float, float, float, float]]]


def table(rows: Rows) -> Detections:
    rows = sorted(rows, key=lambda row: row[0])
    frame, box = np.array([row[0] for row in rows]), np.array([row[1] for row in rows], np.float32)
    return Detections.from_boxes(frame, box, np.full(len(rows), 0.9, np.float32), frame_count=FRAMES, size=SIZE)


def walkers(tall: float = 60.0) -> Rows:
    """Three that walk to the right, one above the other."""
    out = []
    for f in range(FRAMES):
        for k in range(WALKERS):
            x, foot = 30.0 + 4.0 * f + 20 * k, 100.0 + 110 * k
            out.append((f, (x, foot - tall, x + 0.4 * tall, foot)))
    return out


def flakes(way: tuple[float, float] = (1.0, 5.0), side: float = 6.0, across: float = 1.0, each: int = 2) -> Rows:
    """A new one each few pictures, from the edge that ``way`` px a picture comes from, over a share of that edge."""
    rng, out = np.random.default_rng(5), []
    for born in range(-70, FRAMES, each):
        edge = rng.uniform(0, across)
        x, y = (edge * SIZE[0], 0.0) if way[1] > 0 else (0.0, edge * SIZE[1])
        for f in range(max(born, 0), FRAMES):
            at = x + way[0] * (f - born), y + way[1] * (f - born)
            if 0 <= at[0] < SIZE[0] - side and 0 <= at[1] < SIZE[1] - side:
                out.append((f, (at[0], at[1], at[0] + side, at[1] + side)))
    return out


def settled(rows: Rows, **more) -> tuple[Detections, list[str]]:
    said: list[str] = []
    return settle(table(rows), TIMES, RATE, BodySettings(**more), tell=said.append), said


def small(found: Detections) -> int:
    return int((found.box[:, 3] - found.box[:, 1] < 15).sum())


def test_snow_goes_walkers_stay_and_it_is_said():
    found, said = settled(walkers() + flakes())
    assert small(found) < 0.01 * len(flakes())
    tall = found.box[:, 3] - found.box[:, 1]
    assert (tall > 50).sum() > 0.95 * WALKERS * FRAMES
    assert len(said) == 1 and "drift one way" in said[0] and "drop_weather" in said[0]


def test_snow_stays_where_it_is_asked_for():
    found, said = settled(walkers() + flakes(), drop_weather=False)
    assert small(found) > 0.8 * len(flakes()) and said == []


@pytest.mark.parametrize(
    "rows",
    [
        pytest.param(flakes(), id="nothing larger is there to tell them from"),
        pytest.param(walkers(tall=14.0) + flakes(), id="bodies are hardly larger"),
        pytest.param(walkers() + flakes((5.0, 0.0)), id="runners along a road, from side to side"),
        pytest.param(walkers() + flakes(across=0.1), id="a queue that comes down one lane"),
        pytest.param(walkers() + flakes(each=12), id="few"),
        pytest.param(walkers() + flakes((0.0, 5.0)) + flakes((6.0, 0.0)), id="two ways"),
    ],
)
def test_what_is_no_weather_stays(rows: Rows):
    found, said = settled(rows)
    assert said == []
    assert len(found) > 0.8 * len(rows)


def test_a_body_that_a_flake_falls_before_stays():
    """One blob is linked to the flake while it is before the body: it is as large as the body is."""
    found = table(walkers() + flakes())
    tracks = link_detections(found, TIMES, RATE, GENEROUS)
    tall = found.box[:, 3] - found.box[:, 1]
    taken = tracks.detection.copy()
    flake = np.flatnonzero((tracks.frame == 60) & (taken >= 0) & (tall[taken] < 15))[0]
    body = next(k for k in range(*found.frame_start[60:62]) if tall[k] > 50)
    taken[flake] = body
    weather = weather_in(replace(tracks, detection=taken), found)
    assert weather is not None and not weather.rows[body]
    assert weather.rows[tall < 15].mean() > 0.95 and not weather.rows[tall > 15].any()
    assert 15 < weather.least_body < 40


def test_flakes_beside_a_body_are_cut_from_its_outline():
    """By hand: a body of 20 x 40 px, flakes of 4 x 4 px left and below it; legs as large as they may be stay."""
    body, legs, left, below = (30, 10, 50, 50), (30, 52, 50, 60), (10, 20, 14, 24), (40, 70, 44, 74)
    runs = np.array(runs_of(body, legs, left, below), np.int16)
    found = Detections.from_boxes(
        np.zeros(1, np.int64), np.array([[10, 10, 50, 74]], np.float32), np.ones(1, np.float32),
        frame_count=1, size=SIZE,
    )  # fmt: skip
    found = replace(found, runs=runs, run_start=np.array([0, len(runs)]), area=np.array([992.0], np.float32))
    cut = without_flakes(found, 8.0)
    assert cut.box.tolist() == [[30, 10, 50, 60]]
    assert cut.area.tolist() == [20 * 40 + 20 * 8]
    assert cut.runs.tolist() == [list(run) for run in runs_of(body, legs)] and cut.run_start.tolist() == [0, 48]
    assert without_flakes(found, 2.0) is found
    # Of flakes alone nothing is left to be a body: the row stays as it is.
    assert without_flakes(found, 60.0) is found
