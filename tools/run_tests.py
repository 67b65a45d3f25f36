"""The whole suite, two processes at a time: windows and commands, the core without windows, and its cameras aside.

What most tests need is loaded once, kernels included, and each process is forked from there: none of them loads it
again, and they share its memory. After each third of windows and of core a new process goes on, without what the one
before held; tests that start large processes of their own come last, beside few windows. Whoever is free first takes
the part that is next.
"""

from __future__ import annotations

import codecs
import ctypes
import gc
import importlib
import itertools
import json
import os
import re
import selectors
import sys
import time
from collections import Counter, deque
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import NoReturn

TESTS = Path(__file__).resolve().parent.parent / "tests"
ASIDE, FIRST = ("core/test_live_session.py",), ("cli/test_commands.py",)
LAST = (
    ("app/test_window.py",),
    ("core/test_kernels.py",),
    ("core/test_batch.py", "core/test_cluster.py"),
    ("app/test_batch_window.py", "cli/test_processes.py"),
)
AT_ONCE = 2
GO_ON = "--go-on"
NEEDED = (
    "drover.core.run",
    "drover.core.live_warming",
    "drover.cli.main",
    "drover.app.window",
    "drover.app.dials.plotting",
)
ARENAS = -8, 1  # what threads free is used again by others (M_ARENA_MAX of mallopt)
OUTCOME = re.compile(r"(\d+) (passed|failed|skipped|error|errors|xfailed|xpassed)\b")
Part = tuple[str, ...]


def parts() -> list[Part]:
    """Files of tests, each in one part, in the order in which they are begun; the first waits more than it works."""
    names = sorted(str(path.relative_to(TESTS)) for path in TESTS.rglob("test_*.py"))
    left = [name for name in names if name not in (*ASIDE, *FIRST, *itertools.chain(*LAST))]
    core = _thirds([name for name in left if name.startswith("core/")])
    app = _thirds([name for name in left if name.startswith("app/")])
    commands = tuple(name for name in (*FIRST, *left) if name.startswith("cli/"))
    # In turn: two with windows beside each other would need most memory.
    in_turn = [part for pair in zip(app, core, strict=True) for part in pair]
    return [ASIDE, commands, *in_turn, *LAST]


def _thirds(names: list[str]) -> list[Part]:
    cuts = [len(names) * k // 3 for k in range(4)]
    return [tuple(names[start:end]) for start, end in itertools.pairwise(cuts)]


def load() -> None:
    """Load what most tests need, and work through a clip: its kernels are there for all processes that are forked."""
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(*ARENAS)
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    for name in NEEDED:
        importlib.import_module(name)
    sys.path.insert(0, str(TESTS))
    import worked_example

    worked_example.short_work()
    gc.collect()
    gc.freeze()


def test(part: Part) -> int:
    """Run the tests of a part in this process: the exit code."""
    import pytest

    return int(pytest.main([*sys.argv[1:], *(str(TESTS / name) for name in part)]))


@dataclass
class Working:
    """A process at work: what it says line by line, and what came of its tests."""

    process: int
    end: int
    aside: bool
    rest: str = ""
    counts: Counter[str] = field(default_factory=Counter)
    letters: codecs.IncrementalDecoder = field(default_factory=lambda: codecs.getincrementaldecoder("utf-8")("replace"))

    def hear(self) -> bool:
        """Print what it has said since; whether it goes on."""
        data = os.read(self.end, 1 << 16)
        *lines, self.rest = (self.rest + self.letters.decode(data, not data)).split("\n")
        if not data and self.rest:
            lines.append(self.rest)
        for line in lines:
            if re.match(r"=* ?\d+ \w+.* in [\d.]+s", line):
                for number, word in OUTCOME.findall(line):
                    self.counts[word] += int(number)
            else:
                print(line, flush=True)
        return bool(data)

    def ended(self) -> int:
        """Its exit code."""
        os.close(self.end)
        return abs(os.waitstatus_to_exitcode(os.waitpid(self.process, 0)[1]))


def begin(part: Part, *, aside: bool) -> Working:
    """Fork a process for a part."""
    sys.stdout.flush()
    end, said = os.pipe()
    process = os.fork()
    if process == 0:
        os.close(end)
        _be_told(part, said)
    os.close(said)
    return Working(process, end, aside)


def _be_told(part: Part, said: int) -> NoReturn:
    for stream in (1, 2):
        os.dup2(said, stream)
    os.close(said)
    sys.stdout = sys.stderr = open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115 - for good
    os.chdir(TESTS.parent)
    code = 1
    try:
        code = test(part)
    finally:
        sys.stdout.flush()
        os._exit(code)


def attend(at_work: list[Working], waiting: deque[Part], done: Counter[str], codes: list[int], begun: float) -> int:
    """Hear all that are at work, and begin what waits as soon as one is free; the exit code of the whole."""
    with selectors.DefaultSelector() as heard:
        for one in at_work:
            heard.register(one.end, selectors.EVENT_READ, one)
        while at_work or waiting:  # two may end at once, and leave nobody at work
            while waiting and sum(not one.aside for one in at_work) < AT_ONCE:
                at_work.append(begin(waiting.popleft(), aside=False))
                heard.register(at_work[-1].end, selectors.EVENT_READ, at_work[-1])
                if not waiting:
                    go_on_small(at_work, done, codes, begun)
            for key, _ in heard.select():
                one = key.data
                if not one.hear():
                    heard.unregister(one.end)
                    at_work.remove(one)
                    codes.append(one.ended())
                    done += one.counts
    took = time.monotonic() - begun
    told = ", ".join(f"{number} {word}" for word, number in sorted(done.items())) or "no test ran"
    print(f"{told} in {took:.2f}s ({int(took) // 60}:{int(took) % 60:02d})")
    return next((code for code in codes if code), 0)


def go_on_small(at_work: list[Working], done: Counter[str], codes: list[int], begun: float) -> None:
    """Nobody is forked any more: what was loaded for them is let go of, by starting anew as the one who listens."""
    for one in at_work:
        os.set_inheritable(one.end, True)
    said = [(one.process, one.end, one.aside, one.rest, one.counts) for one in at_work]
    sys.stdout.flush()
    os.execv(sys.executable, [sys.executable, __file__, GO_ON, json.dumps([said, done, codes, begun])])


def main() -> int:
    """Run all parts, and say in one line what came of them."""
    if sys.argv[1:2] == [GO_ON]:
        said, done, codes, begun = json.loads(sys.argv[2])
        at_work = [Working(*one[:4], Counter(one[4])) for one in said]
        return attend(at_work, deque(), Counter(done), codes, begun)
    begun = time.monotonic()
    load()
    aside, *rest = parts()
    return attend([begin(aside, aside=True)], deque(rest), Counter(), [], begun)


if __name__ == "__main__":
    raise SystemExit(main())
