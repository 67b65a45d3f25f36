"""Memory that was freed goes back to the system."""

from __future__ import annotations

import ctypes
import os
import subprocess
import sys
from pathlib import Path

import pytest

from drover.core import memory

BLOCKS, SIZE = 10_000, 4096


def in_use() -> int:
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


@pytest.mark.skipif(memory._trim is None, reason="another allocator")
def test_what_was_freed_is_no_longer_this_process_s():
    library = ctypes.CDLL(None)
    library.malloc.restype, library.free.argtypes = ctypes.c_void_p, (ctypes.c_void_p,)
    memory.give_memory_back()
    blocks = [library.malloc(SIZE) for _ in range(BLOCKS)]
    for block in blocks:
        ctypes.memset(block, 1, SIZE)
    for block in blocks[:-1]:  # the last one holds the end of it
        library.free(block)
    freed = in_use()
    memory.give_memory_back()
    gained = freed - in_use()
    library.free(blocks[-1])
    assert gained > 0.8 * BLOCKS * SIZE


THREADS = """
import ctypes, sys, threading
from drover.core import memory
if sys.argv[1] == "one":
    memory.share_one_heap()
library = ctypes.CDLL(None)
library.malloc.restype, library.free.argtypes = ctypes.c_void_p, (ctypes.c_void_p,)
together = threading.Barrier(4)

def take():
    together.wait()
    library.free(library.malloc(40_000))
    together.wait()

threads = [threading.Thread(target=take) for _ in range(4)]
for thread in threads:
    thread.start()
for thread in threads:
    thread.join()
library.malloc_stats()
"""


@pytest.mark.skipif(memory._tell is None, reason="another allocator")
def test_threads_take_from_one_heap_once_they_are_told_to():
    def heaps(how: str) -> int:
        ended = subprocess.run([sys.executable, "-c", THREADS, how], capture_output=True, text=True, check=True)
        return ended.stderr.count("Arena ")

    assert heaps("one") == 1 < heaps("own")
