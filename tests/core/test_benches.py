"""The benches: what they print of what was measured, worked out by hand, and promises that do not hold are said so."""

from __future__ import annotations

import sys
from contextlib import contextmanager
from types import SimpleNamespace

import numpy as np
import pytest
from builders import crossings_of

from drover.bench import __main__ as speed
from drover.bench import camera, counting, doubt, live, live_worlds, scenes, variants, worlds
from drover.bench.counting import CountRow
from drover.bench.made_up import many_tracks, truth_from
from drover.bench.worlds import WorldFigures
from drover.core.doubt.moments import EVIDENCE, Moments
from drover.core.examples import example
from drover.core.formats.crossing_rows import read_crossings
from drover.core.recipe import ScoreSettings
from drover.core.score.detection import DetectionScore
from drover.core.score.spans import score_result


@pytest.fixture
def page(tmp_path, monkeypatch):
    """Run a bench's main with its page in a folder of the test; the page's lines."""

    def run(bench, *words: str) -> list[str]:
        out = tmp_path / "page.md"
        monkeypatch.setattr(sys, "argv", ["bench", "--out", str(out), *words])
        bench.main()
        return out.read_text(encoding="utf-8").splitlines()

    return run


# --- speed ----------------------------------------------------------------------------------------------------


def test_a_promise_is_met_where_the_figure_reaches_it_and_a_ratio_is_held_against_decoding():
    row = speed._Row
    assert row("w", "s", most=0.3).told(0.3, None) == ("0.3", "≤ 0.3", "met")
    assert row("w", "s", most=0.3).told(0.31, None) == ("0.31", "≤ 0.3", "NOT MET")
    assert row("w", "x", least=3.0).told(2.7, None) == ("2.7", "≥ 3", "NOT MET")
    assert row("w", "frames/s", of_decode=0.7).told(303.2, 0.648) == ("303.2 (0.648 ×)", "≥ 0.7 × decode", "NOT MET")
    assert row("w", "frames/s", of_decode=0.7).told(303.2, 0.7)[2] == "met"
    assert row("w", "s").told(1.5, None) == ("1.5", "", "")


def test_work_is_held_against_decoding_right_beside_it_whatever_the_machine_does(monkeypatch):
    # The machine slows down to half between the first and the second time: the ratio stays, the figure is the best.
    decode = iter([400.0, 400.0, 400.0, 200.0, 200.0, 200.0, 100.0])
    monkeypatch.setattr(speed._Decoding, "_speed", lambda _: next(decode))
    figures, made = {}, iter([200.0, 100.0, 75.0])
    speed._Decoding(figures).against("work", lambda: next(made))
    assert figures["work"] == 200.0
    assert figures["decode_fps"] == 400.0
    assert figures["work_of_decode"] == pytest.approx(0.5)  # the middle one of 0.5, 0.5 and 0.5


def test_every_figure_is_printed_with_its_promise(capsys, monkeypatch):
    monkeypatch.setenv("COLUMNS", "200")
    figures = dict.fromkeys(speed._ROWS, 1.0) | {
        f"{key}_of_decode": 0.4 for key, row in speed._ROWS.items() if row.of_decode is not None
    }
    speed._printed(figures)
    said = capsys.readouterr().out
    assert all(row.words in said for row in speed._ROWS.values())
    promised = [row for row in speed._ROWS.values() if row.least or row.most or row.of_decode]
    assert said.count(" met") + said.count("NOT MET") == len(promised)


def test_made_up_tracks_are_perfect_but_for_three_pixels():
    tracks = many_tracks(8, 40)
    assert score_result(tracks, truth_from(tracks), ScoreSettings()).identity.idf1 == 1.0
    off = np.abs(truth_from(tracks).box - tracks.box)
    assert 0 < off.max() <= 3.0 + 1e-3


# --- accuracy -------------------------------------------------------------------------------------------------


def test_means_worsts_and_errors_of_worlds_leave_out_where_nobody_is(page, monkeypatch):
    made = [
        WorldFigures("pond", 9, 8, 0.90, 0.95, 0.85, 0.05, 0.97, 1, 1, 30, 31),
        WorldFigures("lane", 12, 10, 0.96, 0.97, 0.95, 0.03, 0.90, 2, 2, 70, 72),
        WorldFigures("empty-yard", 0, 0),
    ]
    monkeypatch.setattr(worlds, "measure_worlds", lambda seed: iter(made) if seed == 26 else iter(()))
    lines = page(worlds)
    assert "| pond | 0.900 | 0.950 | 0.850 | 0.05 | 0.970 | 1 | 9 of 8 | 1 of 30 |" in lines
    assert "| empty-yard | | | | | | | 0 of 0 | |" in lines
    assert lines[-5:] == [
        "- mean F1 0.930, promised 0.92: held",
        "- worst F1 0.900, promised 0.80: held",
        "- mean IDF1 0.935, promised 0.93: held",
        "- worst IDF1 0.900, promised 0.80: held",
        "- 3 count errors of 100 crossings, promised 3 %: held",
    ]
    made[0] = WorldFigures("pond", 9, 8, 0.79, 0.95, 0.85, 0.05, 0.79, 1, 2, 30, 31)
    assert [line.endswith("NOT HELD") for line in page(worlds)[-5:]] == [True] * 5


def test_a_variant_may_differ_by_two_in_a_hundred_of_all_counts(page, monkeypatch):
    counted = {320: 24, 1280: 25, 640: 25}  # of each of the four worlds

    def measured(name, folder):
        options = folder
        many = counted[options.width] + (1 if options.rate == 50.0 and name == "lane" else 0)
        many += 3 if options.rate == 12.5 and name == "lane" else 0
        return WorldFigures(name, 5, 5, 0.9, 0.9, 0.9, 0.1, 0.9, 0, 1, 25, many)

    monkeypatch.setattr(variants, "world_folder", lambda name, options: options)
    monkeypatch.setattr(variants, "measure_world", measured)
    assert page(variants)[-5:] == [
        "- as it is: 100 counted",
        "- half the size: 96 counted, 4 % apart: NOT HELD",
        "- twice the size: 100 counted, 0 % apart: held",
        "- 12.5 pictures/s: 103 counted, 3 % apart: NOT HELD",
        "- 50 pictures/s: 101 counted, 1 % apart: held",
    ]


def test_errors_of_detection_are_held_against_the_plain_detector_of_the_same_scene(page, monkeypatch):
    def score(misses, alarms):
        return DetectionScore(90, np.zeros((misses, 5)), np.zeros((alarms, 5)), 0.9)

    table = [("gap", "plain", score(10, 10)), ("gap", "default", score(4, 1)), ("noon", "plain", score(0, 0)),
             ("noon", "own", score(1, 2))]  # fmt: skip
    monkeypatch.setattr(scenes, "detection_table", lambda: iter(table))
    rows = page(scenes)[-4:]
    assert rows[1] == "| gap | default | 0.973 | 0.989 | 0.957 | 0.900 | 4 | 1 | -75 % |"
    assert rows[3].endswith("| 1 | 2 | +200 % |")  # of none: as if it were one


def test_counts_are_told_by_direction_and_errors_added_up_over_the_first_scenes(page, monkeypatch):
    true = crossings_of([(10, 1), (20, 1), (30, -1)])
    rows = [
        CountRow("gap", crossings_of([(10, 1), (20, 1)]), true, true),
        CountRow("noon", crossings_of([]), true, true),  # not of the first
    ]
    monkeypatch.setattr(counting, "counting_table", lambda: iter(rows))
    lines = page(counting)
    assert "| gap | 2, 1 | 2, 0 | 1 | 0 | 1 | 0 | 0 | 2, 1 |" in lines
    assert lines[-1].endswith("together: 1 of 3 true crossings (33.3 %).")


def test_how_far_a_camera_is_off_is_that_of_its_worst_corner():
    aside, twice = np.eye(3), np.diag([2.0, 2.0, 1.0])
    aside[:2, 2] = 3.0, 4.0
    off = camera._off(np.stack([aside, twice]), np.stack([np.eye(3)] * 2), (30, 40))
    assert off == pytest.approx([5.0, 50.0])
    assert camera._promise("so", 1 <= 1) == "- so: held"
    assert camera._promise("so", 2 <= 1) == "- so: NOT HELD"


def held(evidence, hits) -> doubt.Held:
    n = len(evidence)
    none = np.zeros(n, np.int64)
    moments = Moments(np.zeros((n, 3), np.int64), none, np.zeros(n), np.zeros((n, 2), np.int64), none > 0)
    return doubt.Held("made", moments, evidence, hits, np.arange(5) / 25, crossings_of([]), crossings_of([]))


@pytest.fixture
def told_by_one():
    """Moments of which one kind of evidence tells nearly all, and the rest is noise."""
    rng = np.random.default_rng(4)
    evidence = rng.normal(0, 1, (600, len(EVIDENCE)))
    wrong = evidence[:, 3] + rng.normal(0, 0.3, 600) > 1.0
    hits = np.zeros((600, int(wrong.sum())), np.bool_)
    hits[np.flatnonzero(wrong), np.arange(hits.shape[1])] = True
    return held(evidence, hits)


def test_chances_are_fitted_to_the_evidence_that_tells(told_by_one):
    table = doubt.fit([told_by_one])
    weight = {name: of[2] for name, of in table["evidence"].items()}
    strongest = max(weight, key=lambda name: abs(weight[name]))
    assert strongest == EVIDENCE[3] and weight[strongest] > 1.0
    assert all(abs(weight[name]) < 0.25 * weight[strongest] for name in EVIDENCE if name != strongest)
    assert table["errors_per_doubt"] == pytest.approx(1.0, abs=0.05)  # as many as the doubts add up to
    assert (table["false_by_doubt"], table["missed_per_crossing"]) == (0.0, 0.0)


def test_errors_met_are_those_of_the_moments_looked_at_first(monkeypatch):
    evidence = np.zeros((30, len(EVIDENCE)))
    evidence[:, 0] = np.arange(30)
    hits = np.zeros((30, 2), np.bool_)
    hits[29, 0] = hits[5, 1] = True  # the most doubtful one, and one far down
    monkeypatch.setattr(doubt, "chance_of", lambda given: given[:, 0] / 30)
    lines, words = doubt._reach_rows([held(evidence, hits)])
    assert lines[-1] == "| made | 2 | 30 | 10 | 1 | 2 |"
    assert words.startswith("- 1 of 2 errors (50 %)") and words.endswith("NOT HELD")
    table = doubt._reliability_rows([held(evidence, hits)])
    assert sum(int(line.split("|")[2]) for line in table[2:-2]) == 30
    last = next(line for line in table if line.startswith("| 80 to 100 %"))
    assert last.startswith("| 80 to 100 % | 6 | 88 % | 17 % |")  # 24 to 29 of 30, one of them wrong


@pytest.mark.parametrize(("true", "inside"), [([(10, 1), (20, 1)], True), ([(10, 1)] * 9, False)])
def test_bounds_hold_where_every_total_lies_inside(true, inside):
    here = held(np.zeros((0, len(EVIDENCE))), np.zeros((0, 0), np.bool_))
    here = doubt.Held(here.name, here.moments, here.evidence, here.hits, np.arange(50) / 25,
                      crossings_of([(10, 1), (20, 1)]), crossings_of(true))  # fmt: skip
    lines, words = doubt._bound_rows([here])
    assert lines[-1].endswith("|  |") is inside
    assert f"hold on {int(inside)} of 1 scenes" in words


# --- live -----------------------------------------------------------------------------------------------------


def test_what_a_live_run_lost_is_asked_away_from_faults_and_where_the_clip_begins_anew(monkeypatch, tmp_path):
    found = {"one": [(12.0, 1), (12.9, 1), (40.0, 1), (45.0, -1), (58.0, 1)], "two": [(2.0, 1), (10.0, 1)]}

    @contextmanager
    def opened(path):
        yield SimpleNamespace(info=SimpleNamespace(duration=60.0, name=path.name))

    def ran(clip, _):
        rows = found[clip.name]
        return SimpleNamespace(
            crossings=SimpleNamespace(time=np.array([t for t, _ in rows]), direction=np.array([d for _, d in rows]))
        )

    monkeypatch.setattr(live, "open_footage", opened)
    monkeypatch.setattr(live, "run_clip", ran)
    monkeypatch.setattr(live, "FAULTS", ("cut@80+4",))
    times = np.arange(0.0, 115.0, 0.04)  # the camera had played for 3 s when the run began
    recordings = {tmp_path / "one": 0.0, tmp_path / "two": 90.0}
    watched = live._Watched(None, np.zeros((0, 2)), recordings, times, times + 3.0)
    rows = [
        {"time": str(when), "direction": str(way)}
        # 12.9 has the one at 12.6, so 12 the one before; 40 the wrong way, 92 lost; 58 is where the clip begins anew.
        for when, way in ((11.3, 1), (12.6, 1), (40.0, -1), (45.2, -1), (58.0, 1), (100.0, 1), (112.0, 1))
    ]
    # Each was played twice: 35.4 is the one lost at 92 s of the run, and 43 the one that only the live run has at 40 s.
    truth = SimpleNamespace(time=np.array([35.4, 43.0, 49.0]), direction=np.array([1, -1, 1]))
    monkeypatch.setattr(live, "read_crossings", lambda _: truth)
    lost = live._lost(watched, rows)
    assert lost.there == 6 and lost.lost == ["43.00 s forward", "35.00 s forward"] and lost.more == 1
    assert lost.in_truth == 6 and lost.true_lost == ["35.40 s forward"] and lost.true_gained == ["43.00 s back"]


def test_memory_that_comes_and_goes_within_a_minute_is_no_growth():
    time = np.arange(60.0, 600.0, 5.0)
    saw = 400.0 + 40.0 * (time % 60.0) / 60.0
    assert live._growth(np.column_stack([time, saw])) == 0.0
    assert live._growth(np.column_stack([time, saw + time / 60.0])) == pytest.approx(535.0 / 60.0)


def test_a_world_played_live_twice_is_scored_each_time(monkeypatch, capsys):
    """The demo's short clip stands for a world: on it live finds nearly all, against its own truth."""
    folder = example("gap-short").clip.parent
    rounds = live_worlds.measure_live("gap-short", folder)
    crossed = len(read_crossings(folder / "crossings.csv"))
    assert [one.true_total for one in rounds] == [crossed] * 2
    assert all(0.6 < one.idf1 <= 1.0 and one.count_error <= 2 for one in rounds)
    monkeypatch.setattr("sys.argv", ["live_worlds"])
    monkeypatch.setattr(live_worlds, "_measured", lambda _: iter([("a", rounds), ("b", rounds)]))
    live_worlds.main()
    last = capsys.readouterr().out.splitlines()[-1]
    errors = [2 * one.count_error for one in rounds]
    assert last == (
        f"| all | {rounds[0].idf1:.3f} | {errors[0]} of {2 * crossed} | "
        f"{rounds[1].idf1:.3f} | {errors[1]} of {2 * crossed} |"
    )
