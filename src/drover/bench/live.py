"""A camera for minutes, with all that goes wrong: memory, delays, and the count beside the whole clip's."""

from __future__ import annotations

import argparse
import csv
import os
import tempfile
import time
from pathlib import Path

import av
import numpy as np
from rich import box
from rich.console import Console
from rich.table import Table

from drover.core.examples import example
from drover.core.footage.reader import ClipReader
from drover.core.footage.stand_in import StandIn, fault_of
from drover.core.footage.stream import source_of
from drover.core.live_session.facts import LiveFacts
from drover.core.live_session.session import LiveSession
from drover.core.recipe import read_recipe
from drover.core.run import run_clip

__all__ = ["main"]

FAULTS = ("late@70+2", "dropped@100+5", "corrupt@130+3", "size@160+6", "clock@200", "cut@230+4", "cut@290+15")
SETTLED = 60.0  # s after which memory should not grow any more


def _memory() -> float:
    """Resident memory of this process, MiB."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 2**20


def _watch(seconds: float, out: Path) -> tuple[LiveFacts, np.ndarray]:
    """Run on the demo's clip for so long; the facts, and (time, memory) every five seconds."""
    chosen, seen = example("gap"), []
    recipe = read_recipe(chosen.recipe)
    with StandIn(chosen.clip, faults=tuple(fault_of(text) for text in FAULTS)) as camera:
        session = LiveSession(source_of(camera.address), recipe, out)
        begun = time.monotonic()

        def stopped() -> bool:
            spent = time.monotonic() - begun
            if not seen or spent - seen[-1][0] >= 5:
                seen.append((spent, _memory()))
            return spent > seconds

        facts = session.run(stopped=stopped)
    return facts, np.array(seen)


def _whole(seconds: float) -> float:
    """Crossings that the whole-clip run finds in so much of the clip, played over and over."""
    chosen = example("gap")
    with ClipReader(chosen.clip) as reader:
        clip = reader.info
    run = run_clip(clip, read_recipe(chosen.recipe))
    rounds, rest = divmod(seconds, clip.duration)
    return rounds * len(run.crossings) + int((run.crossings.time < rest).sum())


def main() -> None:
    """Run, and print each figure with what was promised."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench.live", description=main.__doc__)
    parser.add_argument("--minutes", type=float, default=10.0)
    seconds = 60 * parser.parse_args().minutes
    av.logging.set_level(None)
    with tempfile.TemporaryDirectory() as folder:
        facts, memory = _watch(seconds, Path(folder))
        with (Path(folder) / "crossings.csv").open() as file:
            rows = len(list(csv.DictReader(file)))
    expected = _whole(seconds)
    late = memory[memory[:, 0] > SETTLED]
    growth = float(late[-3:, 1].mean() - late[:3, 1].mean()) if len(late) > 6 else float("nan")
    broken = sum(fault_of(text).lasts for text in FAULTS if text.startswith("cut"))
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
        ("crossings written", f"{rows}", ""),
        (f"crossings of the whole-clip run, {broken:.0f} s of breaks included", f"{expected:.0f}", ""),
        ("memory after a minute", f"{late[:3, 1].mean():.0f} MiB", ""),
        ("growth of memory after that", f"{growth:+.1f} MiB", "none"),
    ):
        table.add_row(words, value, promise)
    curve = ", ".join(f"{value:.0f} at {when / 60:.0f} min" for when, value in memory[:: max(1, len(memory) // 10)])
    table.add_row("memory over time, MiB", curve, "")
    Console(highlight=False, markup=False).print(table)


if __name__ == "__main__":
    main()
