"""Memory that was freed, given back to the system: what threads free is else kept for them, and adds up over days."""

from __future__ import annotations

import ctypes

__all__ = ["give_memory_back", "share_one_heap"]

_trim = getattr(ctypes.CDLL(None), "malloc_trim", None)  # of the GNU C library
_tell = getattr(ctypes.CDLL(None), "mallopt", None)
MOST_HEAPS = -8  # M_ARENA_MAX of malloc.h


def share_one_heap() -> None:
    """Let threads that begin from now on take memory from one heap: of their own ones each keeps what it freed."""
    if _tell is not None:
        _tell(MOST_HEAPS, 1)


def give_memory_back() -> None:
    """Give back what was freed, where the system's allocator can; some ms."""
    if _trim is not None:
        _trim(0)
