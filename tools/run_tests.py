"""The whole suite in two processes side by side: the core, without windows, and the windows with the commands.

What starts many processes of its own comes last in the one and early in the other, so that a small machine holds both.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from pathlib import Path
from threading import Thread

TESTS = Path(__file__).resolve().parent.parent / "tests"
LAST = ("test_batch.py",)
# What tests free goes back to the system at once.
FRUGAL = {"MALLOC_ARENA_MAX": "2", "MALLOC_MMAP_THRESHOLD_": "1048576", "MALLOC_TRIM_THRESHOLD_": "4194304"}
OUTCOME = re.compile(r"(\d+) (passed|failed|skipped|error|errors|xfailed|xpassed)\b")


def files_of(folder: str) -> list[str]:
    """The test files of a folder in the order in which they are to run."""
    return [str(path) for path in sorted((TESTS / folder).glob("test_*.py"), key=lambda p: (p.name in LAST, p.name))]


def relay(process: subprocess.Popen[str], counts: dict[str, int]) -> None:
    """Print what a process says, and add up what came of its tests."""
    assert process.stdout is not None
    with process.stdout:
        for line in process.stdout:
            if re.match(r"=* ?\d+ \w+.* in [\d.]+s", line):
                for number, word in OUTCOME.findall(line):
                    counts[word] = counts.get(word, 0) + int(number)
            else:
                sys.stdout.write(line)
                sys.stdout.flush()


def main() -> int:
    """Run both, and say in one line what came of them."""
    begun, counts = time.monotonic(), dict[str, int]()
    environment = {**os.environ, **FRUGAL, "QT_QPA_PLATFORM": "offscreen"}
    parts = [files_of("core"), [*files_of("cli"), *files_of("app")]]
    processes = [
        subprocess.Popen(
            [sys.executable, "-m", "pytest", *sys.argv[1:], *part], env=environment, cwd=TESTS.parent, text=True,
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        )
        for part in parts
    ]  # fmt: skip
    threads = [Thread(target=relay, args=(process, counts)) for process in processes]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    codes = [process.wait() for process in processes]
    took = time.monotonic() - begun
    told = ", ".join(f"{number} {word}" for word, number in sorted(counts.items())) or "no test ran"
    print(f"{told} in {took:.2f}s ({int(took) // 60}:{int(took) % 60:02d})")
    return next((code for code in codes if code), 0)


if __name__ == "__main__":
    raise SystemExit(main())
