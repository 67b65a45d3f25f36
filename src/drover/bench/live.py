"""A camera for minutes, with all that goes wrong: memory, delays, and the count beside the whole clip's."""

from __future__ import annotations

import argparse
import csv
import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import av
import numpy as np
from rich import box
from rich.console import Console
from rich.table import Table
from scipy.stats import theilslopes

from drover.core.assignment import solve_assignment
from drover.core.examples import example
from drover.core.footage.opened import open_footage
from drover.core.footage.stand_in import fault_of
from drover.core.footage.stream import source_of
from drover.core.footage_types import Frame
from drover.core.formats.crossing_rows import read_crossings
from drover.core.live_session.facts import LiveFacts
from drover.core.live_session.session import LiveSession
from drover.core.recipe import Recipe, read_recipe
from drover.core.run import run_clip
from drover.core.types import Crossings

__all__ = ["main"]

FAULTS = ("late@70+2", "dropped@100+5", "corrupt@130+3", "size@160+6", "clock@200", "cut@230+4", "cut@290+15")
NEAR = 5.0  # s from a fault or a break: what happens there is not asked for
SAME = 1.0  # s by which the times of one crossing may differ
NEVER = 1e6  # s between two that cannot be the same
MOST_RATE = 60.0  # pictures/s that are kept in mind
SETTLED = 60.0  # s after which memory should not grow any more

Crossing = tuple[float, int]


def _memory() -> float:
    """Resident memory of this process, MiB."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 2**20


@dataclass
class _Watched:
    """A live run: its facts, (time, memory) every five seconds, and each recording with when it began, s.

    ``times`` and ``ages`` (pictures,) rise: of each picture the time that the run gave it and the camera's own, s.
    """

    facts: LiveFacts
    memory: np.ndarray
    recordings: dict[Path, float]
    times: np.ndarray
    ages: np.ndarray


@contextmanager
def _camera(clip: Path) -> Iterator[str]:
    """The stand-in, a process of its own as a camera is: its memory is not that of the live run. Gives its address."""
    faults = [word for fault in FAULTS for word in ("--fault", fault)]
    command = [sys.executable, "-c", "from drover.cli.entry import main; main()", "stand-in", str(clip), *faults]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as camera:
        try:
            assert camera.stdout is not None
            yield camera.stdout.readline().split()[-1]
        finally:
            camera.terminate()


def _watch(seconds: float, out: Path) -> _Watched:
    """Run on the demo's clip for so long."""
    chosen, seen = example("gap"), []
    recipe = read_recipe(chosen.recipe)
    known = np.full((int(seconds * MOST_RATE), 2), np.nan)  # of each picture its time and the camera's age
    with _camera(chosen.clip) as address:
        born = time.monotonic()
        session = LiveSession(source_of(address), recipe, out, record=True)
        begun = time.monotonic()

        def stopped() -> bool:
            spent = time.monotonic() - begun
            if not seen or spent - seen[-1][0] >= 5:
                seen.append((spent, _memory()))
            return spent > seconds

        def note(frame: Frame, *_: object) -> None:
            if frame.index < len(known):
                known[frame.index] = frame.time, time.monotonic() - born

        facts = session.run(stopped=stopped, on_step=note)
    there = np.flatnonzero(np.isfinite(known[:, 0]))
    times, ages = known[there].T
    begins = json.loads((out / "live.json").read_text())["recordings"]
    began = {out / name: float(np.interp(number, there, times)) for name, number in begins.items()}
    return _Watched(facts, np.array(seen), began, times, ages)


class _Lost(NamedTuple):
    """``there`` crossings that the whole-clip run finds; when in the clip those were that the live run has not; how
    many the live run has more; how many the truth has, which of them that the whole-clip run finds the live run has
    not, and which the other way round.
    """

    there: int
    lost: list[str]
    more: int
    in_truth: int
    true_lost: list[str]
    true_gained: list[str]


def _lost(watched: _Watched, rows: list[dict[str, str]]) -> _Lost:
    """What the live run missed of what the whole-clip run finds in the recordings, away from the faults and from where
    the clip begins anew.
    """
    chosen = example("gap")
    with open_footage(chosen.clip) as reader:
        round_ = reader.info.duration
    spans = [(fault.at - NEAR, fault.at + fault.lasts + NEAR) for fault in map(fault_of, FAULTS)]

    def aged(when: float) -> float:
        return float(np.interp(when, watched.times, watched.ages))

    def quiet(when: float) -> bool:
        age = aged(when)
        seam = min(age % round_, round_ - age % round_)
        inside = watched.times[0] + NEAR < when < watched.times[-1] - NEAR
        return inside and seam > NEAR and not any(a <= age <= b for a, b in spans)

    def told(crossings: list[Crossing]) -> list[str]:
        return [f"{aged(t) % round_:.2f} s {'forward' if way > 0 else 'back'}" for t, way in crossings if quiet(t)]

    found = _of_recordings(watched.recordings, read_recipe(chosen.recipe))
    live = [(float(row["time"]), int(row["direction"])) for row in rows]
    lost, more = unpaired(found, live)
    truth = _in_live_time(read_crossings(chosen.crossings), round_, watched)
    not_live, not_whole = (unpaired(truth, some)[0] for some in (live, found))
    return _Lost(
        sum(quiet(when) for when, _ in found), told(lost), len(told(more)), len(told(truth)),
        told([one for one in not_live if one not in not_whole]),
        told([one for one in not_whole if one not in not_live]),
    )  # fmt: skip


def _of_recordings(recordings: dict[Path, float], recipe: Recipe) -> list[Crossing]:
    """What the whole-clip run finds in the recordings, in the live run's time, s."""
    out: list[Crossing] = []
    for path, begin in recordings.items():
        with open_footage(path) as reader:
            clip = reader.info
        crossings = run_clip(clip, recipe).crossings
        out += zip((crossings.time + begin).tolist(), crossings.direction.tolist(), strict=True)
    return out


def _in_live_time(truth: Crossings, round_: float, watched: _Watched) -> list[Crossing]:
    """The true crossings of each time that the clip is played, when the live run saw them, s."""
    out: list[Crossing] = []
    for played in range(int(watched.ages[-1] // round_) + 1):
        ages = truth.time + played * round_
        seen = (ages >= watched.ages[0]) & (ages <= watched.ages[-1])
        when = np.interp(ages, watched.ages, watched.times)
        out += zip(when[seen].tolist(), truth.direction[seen].tolist(), strict=True)
    return out


def unpaired(some: list[Crossing], others: list[Crossing]) -> tuple[list[Crossing], list[Crossing]]:
    """Which of two lists of crossings, each (s, direction), have none in the other of the same way within ``SAME`` s:
    as many as can be are paired, one to one, and of those ways the one with the least time between them.
    """
    if not some or not others:
        return some, others
    one, other = np.array(some), np.array(others)
    apart = np.abs(one[:, None, 0] - other[None, :, 0])
    apart[(one[:, None, 1] != other[None, :, 1]) | (apart > SAME)] = NEVER
    i, j = solve_assignment(apart)
    paired = apart[i, j] < NEVER
    left = np.setdiff1d(np.arange(len(some)), i[paired])
    over = np.setdiff1d(np.arange(len(others)), j[paired])
    return [some[k] for k in left], [others[k] for k in over]


def _growth(memory: np.ndarray) -> float:
    """MiB from first to last by the middle of all slopes (Theil 1950, Sen 1968), of the least of each minute: what is
    given back within it, as after a survey or by a decoder more, is no growth.
    """
    minute = (memory[:, 0] // 60.0).astype(np.int64)
    least = np.array([memory[minute == m, 1].min() for m in np.unique(minute)])
    return float(theilslopes(least, np.unique(minute))[0] * (np.ptp(memory[:, 0]) / 60.0))


def main() -> None:
    """Run, and print each figure with what was promised."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench.live", description=main.__doc__)
    parser.add_argument("--minutes", type=float, default=10.0)
    seconds = 60 * parser.parse_args().minutes
    av.logging.set_level(None)
    with tempfile.TemporaryDirectory() as folder:
        watched = _watch(seconds, Path(folder))
        facts, memory = watched.facts, watched.memory
        with (Path(folder) / "crossings.csv").open() as file:
            rows = list(csv.DictReader(file))
        found = _lost(watched, rows)
    late = memory[memory[:, 0] > SETTLED]
    growth = _growth(late) if len(late) > 24 else float("nan")
    table = Table("what", "measured", "promised", box=box.SIMPLE_HEAD)
    for words, value, promise in (
        ("pictures", f"{facts.frames}", ""),
        ("a second, in the last minute", f"{facts.rate:.1f}", "25"),
        ("dropped", f"{100 * facts.drop_share:.2f} %", ""),
        ("broken", f"{facts.broken}", ""),
        ("connected again", f"{facts.reconnects}", ""),
        ("clock jumps not believed", f"{facts.clock_jumps}", ""),
        ("sizes seen", f"{facts.sizes_seen}", ""),
        ("arrival to all of a picture written, median, last minute", f"{facts.latency:.0f} ms", ""),
        ("the same, worst in a hundred", f"{facts.latency_worst:.0f} ms", ""),
        ("arrival to a crossing on disk, median", f"{facts.crossing_latency:.0f} ms", "under 200 ms"),
        ("crossings written", f"{len(rows)}", ""),
        (f"crossings of the whole-clip run on its recordings, {NEAR:.0f} s and more from faults", f"{found.there}", ""),
        ("of these not live", f"{len(found.lost)}", ""),
        ("when in the clip", ", ".join(found.lost) or "-", ""),
        ("live, and not of these", f"{found.more}", ""),
        ("true crossings there", f"{found.in_truth}", ""),
        ("of these found by the whole-clip run and lost live", ", ".join(found.true_lost) or "none", "none"),
        ("found live and lost by the whole-clip run", ", ".join(found.true_gained) or "none", ""),
        ("memory after a minute", f"{late[:3, 1].mean():.0f} MiB", ""),
        ("growth of memory after that, by the least of each minute", f"{growth:+.1f} MiB", "none"),
    ):
        table.add_row(words, value, promise)
    curve = ", ".join(f"{value:.0f} at {when / 60:.0f} min" for when, value in memory[:: max(1, len(memory) // 10)])
    table.add_row("memory over time, MiB", curve, "")
    Console(highlight=False, markup=False).print(table)


if __name__ == "__main__":
    main()
