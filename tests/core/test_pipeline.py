"""Fingerprints, the store, and the whole run on the short example."""

from __future__ import annotations

import json

import numpy as np
import pytest
from builders import crossings_of

from drawn import draw_clip
from drover.core.bodies.settle import settle
from drover.core.detect.box_choice import take_rows
from drover.core.detect_pass import detect_clip
from drover.core.footage.reader import ClipReader
from drover.core.footage_types import ClipInfo
from drover.core.graph import Call, Subject, keys_of, run_stage
from drover.core.live import LIVE_STAGES, LiveRun
from drover.core.recipe import DetectSettings, Recipe, ScoreSettings, with_value
from drover.core.result_store import ResultStore
from drover.core.run import run_clip
from drover.core.run_files import write_run
from drover.core.score.spans import score_boxes, score_result
from drover.core.survey.resolve import resolve_detect
from drover.core.track.pace import USUAL, with_pace
from drover.core.track_rows import only_frames
from drover.core.types import TrackState


def keys(clip, recipe: Recipe) -> tuple[str, str, str]:
    keys = keys_of(Subject(clip), recipe)
    return keys["detect"], keys["edits"], keys["count"]


@pytest.mark.parametrize(
    ("path", "value", "changed"),
    [
        ("detect.background.threshold", 30.0, (True, True, True)),
        ("track.match.gate", 4.0, (False, True, True)),
        ("count.line", [{"name": "Ford", "points": [[0.1, 0.1], [0.2, 0.9]]}], (False, False, True)),
        ("score.least_overlap", 0.6, (False, False, False)),
    ],
)
def test_a_setting_changes_its_stage_and_those_after_it_only(short_info, path, value, changed):
    before, after = keys(short_info, Recipe()), keys(short_info, with_value(Recipe(), path, value))
    assert tuple(a != b for a, b in zip(before, after, strict=True)) == changed


@pytest.fixture(scope="module")
def small(tmp_path_factory) -> ClipInfo:
    """One square that passes, 192 by 120 px."""
    with ClipReader(draw_clip(tmp_path_factory.mktemp("small") / "small.mp4")) as reader:
        return reader.info


@pytest.fixture(scope="module")
def part(short_info):
    """Two seconds of the short example."""
    return detect_clip(short_info, Recipe().detect, span=(100, 150))


def test_a_known_result_comes_from_the_store_with_everything_in_it(small, tmp_path):
    store = ResultStore(tmp_path / "store")
    steps = []
    first = detect_clip(small, DetectSettings(), key="pass", store=store, on_progress=steps.append)
    again = detect_clip(small, DetectSettings(), key="pass", store=store, cancelled=lambda: True)
    assert again.finished
    for name in ("frame_start", "box", "confidence", "area", "run_start", "runs"):
        assert np.array_equal(getattr(first.detections, name), getattr(again.detections, name))
    assert np.array_equal(first.histogram, again.histogram)
    assert len(first.checkpoints) == len(again.checkpoints) > 10
    assert len(first.detections) > 50
    assert steps[-1].done == steps[-1].total == 100


def test_stepped_live_the_stages_do_what_they_do_over_the_clip(short_info, short_clip, short_run):
    """The same boxes, the same identities once they are believed, the same crossings where nothing is joined."""
    recipe = with_value(short_run.recipe, "track.after.join", False)
    for name, value in (("fill_gaps", False), ("drop_flicker", False), ("least_travel", 0.0)):
        recipe = with_value(recipe, f"track.after.{name}", value)
    for name in ("gather", "drop_sparks", "drop_weather"):
        recipe = with_value(recipe, f"detect.bodies.{name}", False)
    recipe = recipe.model_copy(update={"detect": resolve_detect(recipe.detect, None)})
    # Live, nothing is known before: neither the empty scene nor how abruptly things change their way and boxes jitter.
    recipe = with_value(recipe, "detect.background.known_start", False)
    recipe = recipe.model_copy(update={"track": with_pace(recipe.track, USUAL)})
    made = run_stage("count", Subject(short_info), recipe)
    found, edited, counted = (made[name].value for name in ("detect", "edits", "count"))
    tracks = edited.tracks
    live, events = LiveRun(recipe, (short_info.width, short_info.height), short_info.rate), []
    with ClipReader(short_clip) as reader:
        for frame in reader.frames():
            step = live.step(frame)
            assert np.array_equal(step.found.box, found.detections.box[found.detections.rows_of(frame.index)])
            rows = tracks.rows_of(frame.index)
            whole = dict(zip(tracks.identity[rows].tolist(), tracks.box[rows].tolist(), strict=True))
            for who, box, state in zip(
                step.rows.identity.tolist(), step.rows.box.tolist(), step.rows.state, strict=True
            ):
                assert state == TrackState.COASTING or whole[who] == box
            events += step.events.crossings
    events += live.finish().crossings
    c = counted.crossings
    assert sorted((n, who, way) for n, who, way, *_ in events) == sorted(
        zip(c.line.tolist(), c.identity.tolist(), c.direction.tolist(), strict=True)
    )
    assert LIVE_STAGES == ("motion", "detect", "track", "count")


def test_a_damaged_store_is_worked_around(small, tmp_path):
    store = ResultStore(tmp_path / "store")
    first = detect_clip(small, DetectSettings(), key="pass", store=store)
    for file in (tmp_path / "store").rglob("*.npy"):
        file.write_bytes(b"\x93NUMPY broken")
    again = detect_clip(small, DetectSettings(), key="pass", store=store)
    assert np.array_equal(first.detections.box, again.detections.box)


def test_bodies_are_made_of_pieces_once_for_each_setting(small, tmp_path, monkeypatch):
    store, made = ResultStore(tmp_path / "store"), []

    def counted(*of, **more):
        made.append(of)
        return settle(*of, **more)

    monkeypatch.setattr("drover.core.graph.settle", counted)
    first = run_stage("bodies", Subject(small), Recipe(), call=Call(store))["bodies"].value
    again = run_stage("bodies", Subject(small), Recipe(), call=Call(store))["bodies"].value
    assert len(made) == 1 and again.said == first.said
    for name in ("frame_start", "box", "confidence", "class_id", "area", "run_start", "runs", "look"):
        assert np.array_equal(getattr(first.detections, name), getattr(again.detections, name))
    run_stage("bodies", Subject(small), with_value(Recipe(), "detect.bodies.gather", False), call=Call(store))
    assert len(made) == 2, "another setting is another result"
    for place in store.folder.iterdir():
        (place / "box.npy").write_bytes(b"\x93NUMPY broken")
    mended = run_stage("bodies", Subject(small), Recipe(), call=Call(store))["bodies"].value
    assert len(made) == 3 and np.array_equal(mended.detections.box, first.detections.box)
    part = Subject(small, span=(20, 60))
    before = sorted(place.name for place in store.folder.iterdir())
    run_stage("bodies", part, Recipe(), call=Call(store))
    assert sorted(place.name for place in store.folder.iterdir()) == before, "a span is kept nowhere"


def test_the_store_forgets_the_oldest_when_full(tmp_path):
    store = ResultStore(tmp_path / "store", most_bytes=250_000)
    for k in range(4):
        store.save(f"key{k}", {"column": np.zeros(12_000)}, {})
    assert store.load("key3") is not None
    assert sum(store.load(f"key{k}") is not None for k in range(4)) == 2


def test_the_short_example_is_tracked_and_counted_well(short_run):
    score = short_run.score
    assert score is not None
    assert score.counts is not None
    assert score.identity.idf1 >= 0.75
    assert score.counts.count_error <= 1
    assert score.counts.true_total == 7


def test_a_result_of_part_of_the_clip_is_scored_over_that_part(short_run):
    from drover.core.examples import example
    from drover.core.formats.box_rows import read_truth

    truth = read_truth(example("gap-short").truth)
    half = 125
    rows = int(short_run.tracks.frame_start[half])
    from dataclasses import replace

    columns = ("identity", "box", "state", "detection", "confidence", "class_id", "distance")
    part = replace(
        short_run.tracks,
        frame_start=short_run.tracks.frame_start[: half + 1],
        **{name: getattr(short_run.tracks, name)[:rows] for name in columns},
    )
    late = crossings_of([(1, 1)] * 3)
    none, known = late.take(late.frame < 0), late.take(late.frame >= 0)
    score = score_result(part, truth, ScoreSettings(), crossings=none, true_crossings=known)
    considered = int(truth.consider[: int(truth.frame_start[half])].sum())
    assert score.clear.tp + score.clear.fn == considered


def test_a_run_writes_its_files_with_the_columns_and_keys_promised(short_run, tmp_path):
    files = {path.name: path for path in write_run(short_run, tmp_path / "out")}
    heads = {name: path.read_text().splitlines()[0] for name, path in files.items() if name.endswith(".csv")}
    rows = "frame,id,left,top,width,height,confidence,x,y,z"
    assert heads == {
        "detections.csv": rows,
        "tracks.csv": rows,
        "crossings.csv": "line,identity,class,frame,time,direction,x,y",
        "zones.csv": "zone,identity,class,enter,leave,dwell,enter_frame,leave_frame,entered,left",
        "intervals.csv": "start,end,line,class,forward,back,forward_so_far,back_so_far",
        "alarms.csv": "kind,place,identity,frame,time,value,limit",
        "counts.csv": "line,class,forward,back,net,passages,identities_forward,identities_back",
    }
    facts = json.loads(files["run.json"].read_text())
    assert {"versions", "recipe", "frames", "seconds"} <= set(facts)
    assert facts["frames"] == 250
    # What was on auto is there as it was taken, so that a run can be repeated exactly.
    assert facts["recipe"]["track"]["motion"]["jumpiness"] == "auto"
    assert facts["track_as_taken"]["motion"]["jumpiness"] > 0
    assert facts["detect_as_taken"]["background"]["weak_share"] > 0
    assert {"camera", "detect", "track", "count", "score"} == set(facts["seconds"])
    score = json.loads(files["score.json"].read_text())
    fractions = ["hota", "deta", "assa", "loca", "mota", "motp", "idf1", "idp", "idr", "precision", "recall"]
    whole = [
        "tp",
        "fp",
        "fn",
        "id_switches",
        "fragmentations",
        "mostly_tracked",
        "partly_tracked",
        "mostly_lost",
        "count_error",
        "true_total",
    ]
    assert set(score) == {*fractions, *whole}
    assert all(isinstance(score[key], float) for key in fractions)
    assert all(isinstance(score[key], int) for key in whole)


def test_a_span_finds_the_same_animals_as_the_whole_clip_and_nothing_outside(part, short_run):
    assert part.finished and part.span == (100, 150)
    counts = np.diff(part.detections.frame_start)
    assert counts[:100].sum() == counts[150:].sum() == 0
    assert part.frames_read < 100  # the span and the warm-up before it, not the clip
    whole = np.diff(short_run.detect.detections.frame_start)
    assert abs(int(counts[110:150].sum()) - int(whole[110:150].sum())) <= 0.1 * whole[110:150].sum()


def test_a_span_is_scored_on_its_own_frames(part, short_run, short_truth):
    inside = score_boxes(part.detections, short_truth, ScoreSettings(), span=(100, 150))
    true_rows = int(short_truth.consider[short_truth.rows_of(100).start : short_truth.rows_of(149).stop].sum())
    assert inside.found + len(inside.misses) == true_rows
    assert inside.f1 > 0.8
    held = only_frames(short_run.tracks, (100, 150))
    score = score_result(held, short_truth, ScoreSettings(), span=(100, 150))
    assert score.clear.recall > 0.8


def test_both_kinds_of_detections_together_are_linked(short_info, short_run, filled_store):
    found = short_run.detect.detections
    half = take_rows(found, np.arange(len(found)) % 2 == 0)
    recipe = with_value(short_run.recipe, "detect.sources", ["boxes", "motion"])
    both = run_clip(short_info, recipe, detections=half, store=filled_store)
    assert len(both.detect.detections) == pytest.approx(len(found), rel=0.02)
    alone = run_clip(short_info, short_run.recipe, detections=half)
    assert len(alone.detect.detections) == len(half)
