"""Measure the budgets on this machine, in one run, as ratios where a ratio is what was promised."""

from __future__ import annotations

import argparse
import json
import os
import platform
import subprocess
import sys
import time
from collections.abc import Callable, Generator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
from rich import box
from rich.console import Console
from rich.table import Table

from drover.bench.made_up import many_tracks, truth_from
from drover.bench.points import measure_points
from drover.core.count.lines import count_crossings
from drover.core.count.paths import prepare_paths
from drover.core.detect.detector import Detector
from drover.core.detect_pass import detect_clip
from drover.core.doubt.moments import find_moments
from drover.core.examples import example
from drover.core.footage.prefetch import prefetched_frames
from drover.core.footage.reader import ClipReader
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.inspect import FrameProbe, clean_again
from drover.core.kernels import warm_kernels
from drover.core.recipe import CountSettings, LineSettings, Recipe, ScoreSettings, read_recipe, with_value
from drover.core.run import run_clip
from drover.core.run_files import versions
from drover.core.score.spans import score_result
from drover.core.simulate.boxes import flickering, simulate_boxes, together
from drover.core.track.measured_pace import resolve_track
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections

__all__ = ["main"]

Figures = dict[str, Any]


def _seconds(work: Callable[[], Any], *, times: int = 1) -> float:
    """Best of several runs."""
    best = float("inf")
    for _ in range(times):
        start = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - start)
    return best


class _Decoding:
    """Decoding of the demo alone, against which other work is measured: right before it and right after.

    A machine may change its speed by half from one minute to the next, so two figures of a run are no ratio.
    """

    def __init__(self, figures: Figures) -> None:
        self.figures = figures
        self._speeds = [self._speed()]

    def _speed(self, frames: int = 400) -> float:
        start = time.perf_counter()
        for _ in islice(prefetched_frames(example("gap").clip), frames):
            pass
        return frames / (time.perf_counter() - start)

    def against(self, key: str, speed: Callable[[], float], *, times: int = 3) -> None:
        """Note the best speed of some work, frames/s, and the middle one of its ratios to decoding."""
        speeds, ratios = list[float](), list[float]()
        for _ in range(times):
            before, made, after = self._speed(), speed(), self._speed()
            self._speeds += [before, after]
            speeds.append(made)
            ratios.append(2 * made / (before + after))
        self.figures[key] = max(speeds)
        self.figures[f"{key}_of_decode"] = sorted(ratios)[len(ratios) // 2]
        self.figures["decode_fps"] = max(self._speeds)


def _whole_clip(figures: Figures, decoding: _Decoding) -> None:
    chosen = example("gap")
    recipe = read_recipe(chosen.recipe)
    with ClipReader(chosen.clip) as reader:
        clip = reader.info
    truth = read_truth(chosen.truth, frame_count=clip.frame_count)
    true_crossings = read_crossings(chosen.crossings)

    decoding.against("pipeline_fps", lambda: clip.frame_count / _seconds(lambda: run_clip(clip, recipe)))
    detect = detect_clip(clip, recipe.detect)
    taken = resolve_track(recipe.track, detect.detections, clip.times, clip.rate)  # known by then, as in the window
    link = _seconds(lambda: link_detections(detect.detections, clip.times, clip.rate, taken), times=3)
    tracks = link_detections(detect.detections, clip.times, clip.rate, taken)
    paths = {"foot": prepare_paths(tracks)}
    recount = _seconds(lambda: count_crossings(tracks, clip.times, recipe.count, paths=paths), times=20)
    score = _seconds(lambda: score_result(tracks, truth, recipe.score, true_crossings=true_crossings), times=3)
    figures |= {
        "relink_demo_s": link,
        "recount_demo_ms": 1000 * recount,
        "score_demo_s": score,
    }
    figures["detect_fps"] = max(_detect_speeds(str(chosen.clip), recipe))
    bare = with_value(with_value(recipe, "detect.light.follow", False), "detect.shadow.mode", "off")
    mixture = _detect_speeds(str(chosen.clip), with_value(bare, "detect.background.model", "mixture"))
    decoding.against("mixture_fps", lambda: next(mixture))
    mixture.close()
    figures["dial_to_picture_ms"] = _dial(str(chosen.clip), detect, recipe)


def _detect_speeds(path: str, recipe: Recipe, times: int = 3) -> Generator[float]:
    """Frames/s of Detect alone, on 200 decoded frames of the demo, each time that it is asked for."""
    frames = []
    for frame in islice(prefetched_frames(path, start=300), 260):
        _ = frame.chroma
        frames.append(frame)
    for _ in range(times):
        detector = Detector(recipe.detect, (1280, 720))
        for frame in frames[:60]:
            detector.step(frame)
        start = time.perf_counter()
        for frame in frames[60:]:
            detector.step(frame)
        yield 200 / (time.perf_counter() - start)


def _dial(path: str, detect: Any, recipe: Recipe) -> float:
    """From a new threshold to the new mask of the frame on screen, without drawing."""
    probe = FrameProbe(path, detect, recipe.detect)
    pictures = probe.pictures(700)
    moved = with_value(recipe, "detect.background.noise_threshold", 12.0).detect
    best = _seconds(lambda: clean_again(pictures, moved), times=10)
    probe.close()
    return 1000 * best


def _window(figures: Figures) -> None:
    """From a handle being moved to the new mask painted, in the real window, off screen."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from drover.bench.in_window import dial_to_screen, export_speed, line_to_screen, relink_to_screen

    figures["dial_to_screen_ms"] = 1000 * dial_to_screen()
    figures["relink_to_screen_s"] = relink_to_screen()
    figures["line_to_screen_ms"] = 1000 * line_to_screen()
    figures["export_speed"] = export_speed()


def _made_up(figures: Figures, decoding: _Decoding) -> None:
    for name, objects, flickers, frames in (("50", 50, 0, 1500), ("1000", 1000, 0, 300), ("clutter", 50, 1000, 300)):
        found, _ = simulate_boxes(objects, frames)
        if flickers:
            found = together(found, flickering(frames, flickers))
        work = _linking(found)
        decoding.against(f"relink_{name}_fps", lambda work=work, frames=frames: frames / _seconds(work))
    half = simulate_boxes(50, 150)[0]
    figures["clutter_growth"] = _growth(half)
    rows = many_tracks(1000, 1000)
    paths = {"foot": prepare_paths(rows)}
    times = np.arange(1000) / 25
    settings = CountSettings(line=(LineSettings(name="Gap", points=((0.5, 0.9), (0.5, 0.1))),))
    count_crossings(rows, times, settings, paths=paths)
    figures["recount_million_ms"] = 1000 * _seconds(
        lambda: count_crossings(rows, times, settings, paths=paths), times=10
    )
    small = many_tracks(50, 1500)
    truth = truth_from(small)
    figures["score_1500x50_s"] = _seconds(lambda: score_result(small, truth, ScoreSettings()), times=2)


def _linking(found: Detections) -> Callable[[], object]:
    """What links boxes, finishes them and finds their moments; how they move is known by then, as in the window."""
    times = np.arange(found.frame_count) / 25
    taken = resolve_track(Recipe().track, found, times, 25.0)
    return lambda: find_moments(link_detections(found, times, 25.0, taken), times)


def _growth(found: Detections) -> float:
    """By how much more the time grows than the clutter, from 300 to 600 false boxes a frame; 1 is linear."""
    few, many = (
        _seconds(_linking(together(found, flickering(found.frame_count, a_frame))), times=2) for a_frame in (300, 600)
    )
    return many / few / 2


def _start(figures: Figures) -> None:
    """From the program's start, as a user types it, to the first frame of the demo's short clip painted, off screen."""
    figures["start_s"] = _seconds(
        lambda: subprocess.run(
            [sys.executable, "-c", _STARTS, str(example("gap-short").clip)], check=True,
            env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
        ),
        times=3,
    )  # fmt: skip


_STARTS = """
import gc, os, sys
gc.disable()  # as the program does before it loads anything
from drover.cli.entry import main
from drover.app.field.view import Field
paint = Field.paintEvent
def painted(self, event):
    paint(self, event)
    if self.pictures.frame is not None:
        os._exit(0)
Field.paintEvent = painted
sys.argv = ["drover", "open", sys.argv[1]]
main()
"""


@dataclass(frozen=True)
class _Row:
    """One figure as it is printed: words, unit, and the least or most that was promised.

    ``of_decode`` promises are multiples of the speed of decoding right before and after.
    """

    words: str
    unit: str
    least: float | None = None
    most: float | None = None
    of_decode: float | None = None

    def told(self, value: float, ratio: float | None) -> tuple[str, str, str]:
        """What was measured, what was promised, and whether it is held; empty where nothing was promised."""
        measured, words, held = f"{value:.4g}", "", True
        if self.of_decode is not None and ratio is not None:
            measured, words, held = (
                f"{value:.4g} ({ratio:.3g} ×)",
                f"≥ {self.of_decode:g} × decode",
                ratio >= self.of_decode,
            )
        elif self.least is not None:
            words, held = f"≥ {self.least:g}", value >= self.least
        elif self.most is not None:
            words, held = f"≤ {self.most:g}", value <= self.most
        return measured, words, "" if not words else "met" if held else "NOT MET"


_ROWS = {
    "decode_fps": _Row("decode alone", "frames/s"),
    "pipeline_fps": _Row("whole pipeline", "frames/s", of_decode=0.5),
    "relink_demo_s": _Row("re-link the demo", "s", most=0.3),
    "recount_demo_ms": _Row("recount the demo after a line moves", "ms", most=10),
    "score_demo_s": _Row("score the demo", "s"),
    "detect_fps": _Row("Detect alone, default recipe", "frames/s"),
    "mixture_fps": _Row("mixture, clean-up and components alone", "frames/s", of_decode=0.35),
    "dial_to_picture_ms": _Row("threshold to new mask, 1280 × 720", "ms", most=50),
    "dial_to_screen_ms": _Row("threshold handle to painted field, in the window", "ms", most=50),
    "relink_to_screen_s": _Row("gate handle to the demo linked and painted", "s", most=0.3),
    "line_to_screen_ms": _Row("a line dragged: one move recounted and painted, in the window", "ms", most=50),
    "relink_50_fps": _Row("re-link 50 objects, moments included", "frames/s", of_decode=10),
    "relink_1000_fps": _Row("re-link 1,000 objects, moments included", "frames/s", of_decode=0.7),
    "relink_clutter_fps": _Row("re-link 50 among 1,000 flickering boxes, moments included", "frames/s", of_decode=0.35),
    "clutter_growth": _Row("growth of that from 300 to 600 flickering boxes, 1 is linear", "ratio", most=1.3),
    "recount_million_ms": _Row("recount a million track rows", "ms", most=10),
    "score_1500x50_s": _Row("score 1500 frames × 50 objects", "s", most=0.3),
    "export_speed": _Row("the demo written as a video with its overlays", "× real time", least=3.0),
    "camera_fps": _Row("the camera followed, 1280 × 720", "frames/s", least=150),
    "segment_ratio": _Row("segment test against least eigenvalue", "× as fast", least=10),
    "follow_fps": _Row("one thing followed, 1280 × 720", "frames/s", least=60),
    "start_s": _Row("start to first frame, kernels warm", "s", most=1.5),
}


def _printed(figures: Figures) -> None:
    table = Table("work", "measured", "unit", "promised", "", box=box.SIMPLE_HEAD)
    for key, row in _ROWS.items():
        measured, promised, held = row.told(figures[key], figures.get(f"{key}_of_decode"))
        table.add_row(row.words, measured, row.unit, promised, held)
    Console(highlight=False, markup=False).print(table)


def main() -> None:
    """Run all measurements, print each with its promise as met or not, and write them as JSON."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench", description=main.__doc__)
    parser.add_argument("--out", type=Path, default=Path("bench-out/bench.json"), help="JSON file to write")
    out = parser.parse_args().out
    warm_kernels()
    figures: Figures = {}
    decoding = _Decoding(figures)
    _whole_clip(figures, decoding)
    _window(figures)
    _made_up(figures, decoding)
    figures |= measure_points()
    _start(figures)
    _printed(figures)
    out.parent.mkdir(parents=True, exist_ok=True)
    facts = {"machine": platform.machine(), "cores": os.cpu_count(), "versions": versions()}
    out.write_text(json.dumps({"figures": figures, **facts}, indent=2) + "\n", encoding="utf-8")
    print(f"written to {out}")


if __name__ == "__main__":
    main()
