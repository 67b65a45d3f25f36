"""The whole suite, two processes at a time: windows and commands, the core without windows, and its cameras aside.

Half-way through windows and core a new process goes on, without what the first one holds; tests that start large
processes of their own come where there is least beside them. Whoever is free first takes the part that is next.
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
ASIDE, LAST = ("core/test_live_session.py",), ("core/test_batch.py", "cli/test_processes.py")
FIRST = ("core/test_kernels.py", "cli/test_commands.py")
FRUGAL = {"MALLOC_ARENA_MAX": "2"}  # what threads free is used again by others
OUTCOME = re.compile(r"(\d+) (passed|failed|skipped|error|errors|xfailed|xpassed)\b")
Part = tuple[str, ...]


def parts() -> list[Part]:
    """Files of tests, each in one part, in the order in which they are begun; the first waits more than it works."""
    names = sorted(str(path.relative_to(TESTS)) for path in TESTS.rglob("test_*.py"))
    left = [name for name in names if name not in (*ASIDE, *FIRST, *LAST)]
    core = _halves([FIRST[0], *(name for name in left if name.startswith("core/"))])
    app, other = _halves([name for name in left if name.startswith("app/")])
    commands = tuple(name for name in (*FIRST, *left) if name.startswith("cli/"))
    # Two with windows beside each other would need most memory.
    return [ASIDE, commands, core[0], app, core[1], other, *((name,) for name in LAST)]


def _halves(names: list[str]) -> list[Part]:
    return [tuple(names[: len(names) // 2]), tuple(names[len(names) // 2 :])]


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
    begun, chosen = time.monotonic(), parts()
    with ThreadPoolExecutor(1) as aside, ThreadPoolExecutor(2) as pool:
        ended = [aside.submit(run, chosen[0]), *(pool.submit(run, part) for part in chosen[1:])]
        ended = [one.result() for one in ended]
    counts, took = sum((counts for _, counts in ended), Counter[str]()), time.monotonic() - begun
    told = ", ".join(f"{number} {word}" for word, number in sorted(counts.items())) or "no test ran"
    print(f"{told} in {took:.2f}s ({int(took) // 60}:{int(took) % 60:02d})")
    return next((code for code, _ in ended if code), 0)


if __name__ == "__main__":
    raise SystemExit(main())
