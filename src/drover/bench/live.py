"""A camera for minutes, with all that goes wrong: memory, delays, and the count beside the whole clip's."""

from __future__ import annotations

import argparse
import csv
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

from drover.core.examples import example
from drover.core.footage.opened import open_footage
from drover.core.footage.stand_in import fault_of
from drover.core.footage.stream import source_of
from drover.core.formats.crossing_rows import read_crossings
from drover.core.live_session.facts import LiveFacts
from drover.core.live_session.session import LiveSession
from drover.core.recipe import read_recipe
from drover.core.run import run_clip

__all__ = ["main"]

FAULTS = ("late@70+2", "dropped@100+5", "corrupt@130+3", "size@160+6", "clock@200", "cut@230+4", "cut@290+15")
NEAR = 5.0  # s from a fault or a break: what happens there is not asked for
SAME = 1.0  # s by which the times of one crossing may differ
SETTLED = 60.0  # s after which memory should not grow any more


def _memory() -> float:
    """Resident memory of this process, MiB."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 2**20


@dataclass
class _Watched:
    """A live run: its facts, (time, memory) every five seconds, and each recording with when it began, s."""

    facts: LiveFacts
    memory: np.ndarray
    recordings: dict[Path, float]


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
    chosen, seen, begins = example("gap"), [], dict[Path, float]()
    recipe = read_recipe(chosen.recipe)
    with _camera(chosen.clip) as address:
        session = LiveSession(source_of(address), recipe, out, record=True)
        begun = time.monotonic()

        def stopped() -> bool:
            spent = time.monotonic() - begun
            if not seen or spent - seen[-1][0] >= 5:
                seen.append((spent, _memory()))
            for path in session.recordings:
                begins.setdefault(path, session.time)
            return spent > seconds

        facts = session.run(stopped=stopped)
    return _Watched(facts, np.array(seen), begins)


class _Lost(NamedTuple):
    """``there`` crossings that the whole-clip run finds; when in the clip those were that the live run has not, and
    which of them the truth has; how many the live run has more."""

    there: int
    lost: list[str]
    true: list[str]
    more: int


def _lost(watched: _Watched, rows: list[dict[str, str]]) -> _Lost:
    """What the live run missed of what the whole-clip run finds in the recordings, away from the faults and from where
    the clip begins anew."""
    chosen = example("gap")
    recipe, live = read_recipe(chosen.recipe), [(float(row["time"]), int(row["direction"])) for row in rows]
    with open_footage(chosen.clip) as reader:
        round_ = reader.info.duration
    found: list[tuple[float, int]] = []
    for path, begin in watched.recordings.items():
        with open_footage(path) as reader:
            clip = reader.info
        crossings = run_clip(clip, recipe).crossings
        found += [(begin + t, d) for t, d in zip(crossings.time.tolist(), crossings.direction.tolist(), strict=True)]
    spans = [(fault.at - NEAR, fault.at + fault.lasts + NEAR) for fault in map(fault_of, FAULTS)]
    end = max((when for when, _ in live), default=0.0)

    def quiet(when: float) -> bool:
        seam = min(when % round_, round_ - when % round_)
        return seam > NEAR and NEAR < when < end - NEAR and not any(a <= when <= b for a, b in spans)

    kept = [one for one in found if quiet(one[0])]
    left, missed = sorted(live), list[tuple[float, int]]()
    for when, way in sorted(kept):
        near = [one for one in left if one[1] == way and abs(one[0] - when) <= SAME]
        if near:
            left.remove(min(near, key=lambda one: abs(one[0] - when)))
        else:
            missed.append((when % round_, way))
    truth = read_crossings(chosen.crossings)
    true = [(t, d) for t, d in missed if np.any((truth.direction == d) & (np.abs(truth.time - t) <= SAME))]
    return _Lost(len(kept), _told(missed), _told(true), sum(quiet(when) for when, _ in left))


def _told(crossings: list[tuple[float, int]]) -> list[str]:
    return [f"{when:.2f} s {'forward' if way > 0 else 'back'}" for when, way in crossings]


def _growth(memory: np.ndarray) -> float:
    """MiB from first to last by the middle of all slopes (Theil 1950, Sen 1968): a decoder more for a while is none."""
    slope = theilslopes(memory[:, 1], memory[:, 0])[0]
    return float(slope * (memory[-1, 0] - memory[0, 0]))


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
    growth = _growth(late) if len(late) > 6 else float("nan")
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
        ("of these lost live", f"{len(found.lost)}", "none"),
        ("when in the clip", ", ".join(found.lost) or "-", ""),
        ("those of them that the truth has", ", ".join(found.true) or "-", ""),
        ("live, and not of these", f"{found.more}", ""),
        ("memory after a minute", f"{late[:3, 1].mean():.0f} MiB", ""),
        ("growth of memory after that", f"{growth:+.1f} MiB", "none"),
    ):
        table.add_row(words, value, promise)
    curve = ", ".join(f"{value:.0f} at {when / 60:.0f} min" for when, value in memory[:: max(1, len(memory) // 10)])
    table.add_row("memory over time, MiB", curve, "")
    Console(highlight=False, markup=False).print(table)


if __name__ == "__main__":
    main()
