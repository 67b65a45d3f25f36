"""Memory that was freed, given back to the system: what threads free is else kept for them, and adds up over days."""

from __future__ import annotations

import ctypes

__all__ = ["give_memory_back"]

_trim = getattr(ctypes.CDLL(None), "malloc_trim", None)  # of the GNU C library


def give_memory_back() -> None:
    """Give back what was freed, where the system's allocator can; some ms."""
    if _trim is not None:
        _trim(0)
