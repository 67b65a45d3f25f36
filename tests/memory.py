"""Memory that tests have done with: two workers are to fit a small machine."""

from __future__ import annotations

import gc
import os
from multiprocessing import forkserver
from pathlib import Path

from drover.core import memory

__all__ = ["end_fork_server", "give_memory_back", "give_some_back"]

MUCH = 330 << 20  # bytes in use from which it is worth looking for what was left in circles
SOME = 160 << 20  # bytes in use from which freed ones are given back after every test


def give_memory_back() -> None:
    """All that was freed, and what was left in circles, goes back to the system, where there is much of it."""
    if _in_use() > MUCH:
        gc.collect()
        give_some_back()


def give_some_back() -> None:
    """What was freed goes back, where there is much of it."""
    if _in_use() > SOME:
        memory.give_memory_back()


def end_fork_server() -> None:
    """The process from which others were forked goes too, where there is one."""
    forkserver._forkserver._stop()  # type: ignore[attr-defined]


def _in_use() -> int:
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")
