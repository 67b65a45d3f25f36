"""Measure the budgets on this machine, in one run, as ratios where a ratio is what was promised."""

from __future__ import annotations

import argparse
import json
import os
import platform
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from rich import box
from rich.console import Console
from rich.table import Table

from drover.bench.made_up import many_tracks
from drover.core.count.lines import count_crossings
from drover.core.count.paths import prepare_paths
from drover.core.detect.detector import Detector
from drover.core.detect_pass import detect_clip
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
from drover.core.simulate.boxes import simulate_boxes
from drover.core.track.whole_clip import link_detections

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


def _whole_clip(figures: Figures) -> None:
    chosen = example("gap")
    recipe = read_recipe(chosen.recipe)
    with ClipReader(chosen.clip) as reader:
        clip = reader.info
    truth = read_truth(chosen.truth, frame_count=clip.frame_count)
    true_crossings = read_crossings(chosen.crossings)

    def decode() -> None:
        for _ in prefetched_frames(chosen.clip):
            pass

    def pipeline() -> None:
        run_clip(clip, recipe)

    decode_fps = clip.frame_count / _seconds(decode, times=2)
    whole_fps = clip.frame_count / _seconds(pipeline, times=2)
    detect = detect_clip(clip, recipe.detect)
    link = _seconds(lambda: link_detections(detect.detections, clip.times, clip.rate, recipe.track), times=3)
    tracks = link_detections(detect.detections, clip.times, clip.rate, recipe.track)
    paths = {"foot": prepare_paths(tracks)}
    recount = _seconds(lambda: count_crossings(tracks, clip.times, recipe.count, paths=paths), times=20)
    score = _seconds(lambda: score_result(tracks, truth, recipe.score, true_crossings=true_crossings), times=3)
    figures |= {
        "decode_fps": decode_fps,
        "pipeline_fps": whole_fps,
        "pipeline_of_decode": whole_fps / decode_fps,
        "relink_demo_s": link,
        "relink_demo_fps": clip.frame_count / link,
        "recount_demo_ms": 1000 * recount,
        "score_demo_s": score,
    }
    figures["detect_fps"] = _detect_speed(str(chosen.clip), recipe)
    bare = with_value(with_value(recipe, "detect.light.follow", False), "detect.shadow.mode", "off")
    figures["mixture_fps"] = _detect_speed(str(chosen.clip), with_value(bare, "detect.background.model", "mixture"))
    figures["dial_to_picture_ms"] = _dial(str(chosen.clip), detect, recipe)


def _detect_speed(path: str, recipe: Recipe) -> float:
    """Frames/s of Detect alone, on 200 decoded frames of the demo."""
    frames = []
    for frame in prefetched_frames(path, start=300):
        _ = frame.chroma
        frames.append(frame)
        if len(frames) == 260:
            break
    detector = Detector(recipe.detect, (1280, 720))
    for frame in frames[:60]:
        detector.step(frame)
    start = time.perf_counter()
    for frame in frames[60:]:
        detector.step(frame)
    return 200 / (time.perf_counter() - start)


def _dial(path: str, detect: Any, recipe: Recipe) -> float:
    """From a new threshold to the new mask of the frame on screen, without drawing."""
    probe = FrameProbe(path, detect, recipe.detect)
    pictures = probe.pictures(700)
    moved = with_value(recipe, "detect.background.threshold", 33.0).detect
    best = _seconds(lambda: clean_again(pictures, moved), times=10)
    probe.close()
    return 1000 * best


def _window(figures: Figures) -> None:
    """From a handle being moved to the new mask painted, in the real window, off screen."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from drover.bench.in_window import dial_to_screen, line_to_screen, relink_to_screen

    figures["dial_to_screen_ms"] = 1000 * dial_to_screen()
    figures["relink_to_screen_s"] = relink_to_screen()
    figures["line_to_screen_ms"] = 1000 * line_to_screen()


def _made_up(figures: Figures) -> None:
    line = LineSettings(name="Gap", points=((0.5, 0.9), (0.5, 0.1)))
    for objects, frames in ((50, 1500), (1000, 60)):
        found, _ = simulate_boxes(objects, frames)
        times = np.arange(frames) / 25
        spent = _seconds(lambda found=found, times=times: link_detections(found, times, 25.0, Recipe().track))
        figures[f"relink_{objects}_fps"] = frames / spent
    rows = many_tracks(1000, 1000)
    paths = {"foot": prepare_paths(rows)}
    times = np.arange(1000) / 25
    settings = CountSettings(line=(line,))
    count_crossings(rows, times, settings, paths=paths)
    figures["recount_million_ms"] = 1000 * _seconds(
        lambda: count_crossings(rows, times, settings, paths=paths), times=10
    )
    from drover.bench.made_up import truth_from

    small = many_tracks(50, 1500)
    truth = truth_from(small)
    figures["score_1500x50_s"] = _seconds(lambda: score_result(small, truth, ScoreSettings()), times=2)


_WORDS = {
    "decode_fps": ("decode alone", "frames/s", ""),
    "pipeline_fps": ("whole pipeline", "frames/s", "≥ 60"),
    "pipeline_of_decode": ("whole pipeline over decode alone", "ratio", "≥ 0.33"),
    "relink_demo_s": ("re-link the demo", "s", "≤ 1"),
    "relink_demo_fps": ("re-link the demo", "frames/s", ""),
    "recount_demo_ms": ("recount the demo after a line moves", "ms", "≤ 20"),
    "score_demo_s": ("score the demo", "s", ""),
    "detect_fps": ("Detect alone, default recipe", "frames/s", ""),
    "mixture_fps": ("mixture, clean-up and components alone", "frames/s", "≥ 150"),
    "dial_to_picture_ms": ("threshold to new mask, 1280 × 720", "ms", "≤ 50"),
    "dial_to_screen_ms": ("threshold handle to painted field, in the window", "ms", "≤ 50"),
    "relink_to_screen_s": ("gate handle to the demo linked and painted", "s", "≤ 0.3"),
    "line_to_screen_ms": ("a line dragged: one move recounted and painted, in the window", "ms", "≤ 50"),
    "relink_50_fps": ("re-link 50 objects", "frames/s", "≥ 5000"),
    "relink_1000_fps": ("re-link 1000 objects", "frames/s", "≥ 300"),
    "recount_million_ms": ("recount a million track rows", "ms", "≤ 10"),
    "score_1500x50_s": ("score 1500 frames × 50 objects", "s", "≤ 0.3"),
}


def main() -> None:
    """Run all measurements, print them and write them as JSON."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench", description=main.__doc__)
    parser.add_argument("--out", type=Path, default=Path("bench-out/bench.json"), help="JSON file to write")
    out = parser.parse_args().out
    warm_kernels()
    figures: Figures = {}
    _whole_clip(figures)
    _window(figures)
    _made_up(figures)
    table = Table("work", "measured", "unit", "promised", box=box.SIMPLE_HEAD)
    for key, value in figures.items():
        words, unit, promise = _WORDS[key]
        table.add_row(words, f"{value:.4g}", unit, promise)
    Console(highlight=False).print(table)
    out.parent.mkdir(parents=True, exist_ok=True)
    facts = {"machine": platform.machine(), "cores": os.cpu_count(), "versions": versions()}
    out.write_text(json.dumps({"figures": figures, **facts}, indent=2) + "\n", encoding="utf-8")
    print(f"written to {out}")


if __name__ == "__main__":
    main()
