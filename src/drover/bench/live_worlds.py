"""Untouched defaults live on every world, frame by frame: ``python -m drover.bench.live_worlds``.

Each world is played twice in a row: the first time nothing is known of it, the second time all that a camera in place
knows. Printed beside each other: IDF1 of what is shown, and the count errors, each time.
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from drover.bench.worlds import world_folder
from drover.core.count.live import LiveCrossing, LiveRows
from drover.core.footage.reader import ClipReader
from drover.core.footage_types import ClipInfo
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.live import LiveRun
from drover.core.recipe import Recipe, ScoreSettings, read_recipe
from drover.core.score.spans import score_result
from drover.core.simulate.worlds.casting import Options
from drover.core.simulate.worlds.scenes import WORLDS
from drover.core.types import Crossings, Tracks

__all__ = ["LiveFigures", "main", "measure_live"]

ROUNDS = 2


class LiveFigures(NamedTuple):
    """Of one round: IDF1 of what was shown, count errors, and how many truly crossed."""

    idf1: float
    count_error: int
    true_total: int


def measure_live(name: str, folder: Path) -> list[LiveFigures]:
    """Figures of each round of one world, with no dial touched."""
    recipe = read_recipe(folder / "recipe.toml")
    truth, true_crossings = read_truth(folder / "truth.csv"), read_crossings(folder / "crossings.csv")
    with ClipReader(folder / f"{name}.mp4") as reader:
        clip, rows, crossed = reader.info, *_played(reader, recipe)
    out = []
    for k in range(ROUNDS):
        begun = k * clip.duration
        here = [one._replace(time=one.time - begun) for one in crossed if 0 <= one.time - begun < clip.duration]
        score = score_result(
            _tracks(rows[k], clip), truth, ScoreSettings(), crossings=_crossings(here, recipe, clip),
            true_crossings=true_crossings,
        )  # fmt: skip
        assert score.counts is not None
        out.append(LiveFigures(score.identity.idf1, score.counts.count_error, score.counts.true_total))
    return out


def _played(reader: ClipReader, recipe: Recipe) -> tuple[list[list[LiveRows]], list[LiveCrossing]]:
    """What was shown in each picture of each round, and all crossings."""
    clip = reader.info
    live, crossed = LiveRun(recipe, (clip.width, clip.height), clip.rate), list[LiveCrossing]()
    rows: list[list[LiveRows]] = [[] for _ in range(ROUNDS)]
    for k in range(ROUNDS):
        for frame in reader.frames():
            step = live.step(
                replace(frame, index=frame.index + k * clip.frame_count, time=frame.time + k * clip.duration)
            )
            rows[k].append(step.rows)
            crossed += step.events.crossings
    return rows, [*crossed, *live.finish().crossings]


def _tracks(rows: list[LiveRows], clip: ClipInfo) -> Tracks:
    """Rows of a round's pictures as tracks, in order of identity in each."""
    order = [np.argsort(one.identity) for one in rows]
    identity, box, state, kind = (
        np.concatenate([getattr(one, name)[at] for one, at in zip(rows, order, strict=True)])
        for name in ("identity", "box", "state", "class_id")
    )
    n = len(identity)
    return Tracks(
        frame_start=np.concatenate([[0], np.cumsum([len(at) for at in order])]).astype(np.int64),
        identity=identity, box=box, state=state, detection=np.full(n, -1, np.int32),
        confidence=np.ones(n, np.float32), class_id=kind, distance=np.full(n, np.nan, np.float32),
        nearest_refused=np.zeros(0, np.float32), size=(clip.width, clip.height),
    )  # fmt: skip


def _crossings(told: list[LiveCrossing], recipe: Recipe, clip: ClipInfo) -> Crossings:
    told = sorted(told, key=lambda one: one.time)
    line, identity, direction, time, kind, x, y = (
        np.array([getattr(one, name) for one in told])
        for name in ("line", "identity", "direction", "time", "class_id", "x", "y")
    )
    return Crossings(
        line=line.astype(np.int16), identity=identity.astype(np.int32), class_id=kind.astype(np.int16),
        frame=np.searchsorted(clip.times, time).astype(np.int64), time=time.astype(np.float64),
        direction=direction.astype(np.int8), x=x.astype(np.float32), y=y.astype(np.float32),
        seen=np.ones(len(told), np.bool_), line_names=tuple(one.name for one in recipe.count.line),
    )  # fmt: skip


def _measured(seed: int) -> Iterator[tuple[str, list[LiveFigures]]]:
    for name in WORLDS:
        if not name.startswith("empty"):
            yield name, measure_live(name, world_folder(name, Options(seed=seed)))


def main() -> None:
    """Print the figures of each world, their means and sums."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench.live_worlds", description=main.__doc__)
    parser.add_argument("--seed", type=int, default=27, help="which of the worlds' seeds")
    print("| world | IDF1, first time | count errors | IDF1, second time | count errors |")
    print("| --- | --- | --- | --- | --- |")
    every = []
    for name, rounds in _measured(parser.parse_args().seed):
        every.append(rounds)
        print(f"| {name} | {_row(rounds)} |", flush=True)
    total = [LiveFigures(*(f(values) for f, values in zip((np.mean, sum, sum), zip(*r, strict=True), strict=True)))
             for r in zip(*every, strict=True)]  # fmt: skip
    print(f"| all | {_row(total)} |")


def _row(rounds: list[LiveFigures]) -> str:
    return " | ".join(f"{one.idf1:.3f} | {one.count_error} of {one.true_total}" for one in rounds)


if __name__ == "__main__":
    main()
