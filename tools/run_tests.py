"""The whole suite, three processes at a time: windows and commands, the core without windows, and the core's cameras.

Tests that start large processes of their own come first, while there is little else in memory; half-way through the
core a new process goes on, without what the first one holds.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

TESTS = Path(__file__).resolve().parent.parent / "tests"
ASIDE, AFTER = ("core/test_live_session.py",), ("cli/test_processes.py",)
FIRST = ("core/test_kernels.py", "core/test_batch.py", "cli/test_commands.py", "app/test_asking.py",
         "app/test_contracts.py", "app/test_killed.py", "app/test_batch_window.py")  # fmt: skip
# What tests free goes back to the system at once.
FRUGAL = {"MALLOC_ARENA_MAX": "2", "MALLOC_MMAP_THRESHOLD_": "1048576", "MALLOC_TRIM_THRESHOLD_": "4194304"}
OUTCOME = re.compile(r"(\d+) (passed|failed|skipped|error|errors|xfailed|xpassed)\b")
Part = tuple[str, ...]


def lanes() -> list[list[Part]]:
    """Files of tests, each in one part: the parts that follow each other, and beside them others."""
    names = sorted(str(path.relative_to(TESTS)) for path in TESTS.rglob("test_*.py"))
    names.sort(key=lambda name: FIRST.index(name) if name in FIRST else len(FIRST))
    left = [name for name in names if name not in (*ASIDE, *AFTER)]
    core = [name for name in left if name.startswith("core/")]
    windows = [name for name in left if not name.startswith("core/")]
    middle = len(core) // 2
    return [[tuple(windows)], [tuple(core[:middle]), tuple(core[middle:]), AFTER], [ASIDE]]


def run(part: Part) -> tuple[int, Counter[str]]:
    """Run a part and print what it says: its exit code, and what came of its tests."""
    counts = Counter[str]()
    process = subprocess.Popen(
        [sys.executable, "-m", "pytest", *sys.argv[1:], *(str(TESTS / name) for name in part)],
        env={**os.environ, **FRUGAL, "QT_QPA_PLATFORM": "offscreen"}, cwd=TESTS.parent, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
    )  # fmt: skip
    assert process.stdout is not None
    with process.stdout:
        for line in process.stdout:
            if re.match(r"=* ?\d+ \w+.* in [\d.]+s", line):
                for number, word in OUTCOME.findall(line):
                    counts[word] += int(number)
            else:
                sys.stdout.write(line)
                sys.stdout.flush()
    return process.wait(), counts


def main() -> int:
    """Run all parts at once, and say in one line what came of them."""
    begun, chosen = time.monotonic(), lanes()
    with ThreadPoolExecutor(len(chosen)) as pool:
        ended = [one for lane in pool.map(lambda lane: [run(part) for part in lane], chosen) for one in lane]
    counts, took = sum((counts for _, counts in ended), Counter[str]()), time.monotonic() - begun
    told = ", ".join(f"{number} {word}" for word, number in sorted(counts.items())) or "no test ran"
    print(f"{told} in {took:.2f}s ({int(took) // 60}:{int(took) % 60:02d})")
    return next((code for code, _ in ended if code), 0)


if __name__ == "__main__":
    raise SystemExit(main())
