"""Work on both cores: what lets go of the interpreter lock is done by two threads at once."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import Any, TypeVar

__all__ = ["at_once", "each_of", "in_bands", "in_halves", "in_halves_from", "in_shares", "work_alone"]

BANDS = 8  # more than two, since what moves is seldom spread evenly from top to bottom
SHARES = 6  # nor is what is odd, from start to end

_here = threading.local()


def work_alone() -> None:
    """From now on this thread makes all alone: what has time does not keep the helper from who has none."""
    _here.is_helper = True


def _hired() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(1, thread_name_prefix="drover-helper", initializer=work_alone)


def _hire_anew() -> None:
    """A process that was forked has none of its parent's threads: who asked the helper would wait for ever."""
    global _helper
    _helper = _hired()
    _here.is_helper = False


_helper = _hired()
os.register_at_fork(after_in_child=_hire_anew)
One = TypeVar("One")
Other = TypeVar("Other")


def at_once(one: Callable[[], One], other: Callable[[], Other]) -> tuple[One, Other]:
    """What two calls give, the first made here and the second by the helper; the helper itself makes both alone."""
    if getattr(_here, "is_helper", False):
        return one(), other()
    second = _helper.submit(other)
    return one(), second.result()


def in_halves(kernel: Callable[..., Any], count: int, *arguments: Any, cut: int | None = None) -> tuple[Any, Any]:
    """A kernel that ends in (first, past), over 0 .. ``cut`` (the middle) and from there to ``count``; both results."""
    middle = count // 2 if cut is None else cut
    return at_once(lambda: kernel(*arguments, 0, middle), lambda: kernel(*arguments, middle, count))


def in_halves_from(worth: int, kernel: Callable[..., Any], count: int, *arguments: Any) -> list[Any]:
    """As :func:`in_halves` from a count of ``worth`` on, where two threads are faster; else in one go. One or two."""
    return list(in_halves(kernel, count, *arguments)) if count >= worth else [kernel(*arguments, 0, count)]


def each_of(*calls: Callable[[], One]) -> list[One]:
    """What each of some calls gives, in their order: two threads take the next one as soon as they are free.

    None of them may use the helper itself.
    """
    found: list[Any] = [None] * len(calls)
    left = iter(enumerate(calls))  # asked by both threads

    def take() -> None:
        for place, call in left:
            found[place] = call()

    at_once(take, take)
    return found


def in_shares(work: Callable[[int, int], One], count: int) -> list[One]:
    """What ``work(first, past)`` gives over each share of 0 .. ``count``, in order, from two threads."""
    edges = [count * k // SHARES for k in range(SHARES + 1)]
    return each_of(*(lambda first=first, past=past: work(first, past) for first, past in pairwise(edges)))


def in_bands(kernel: Callable[..., object], height: int, *arguments: Any) -> None:
    """Call a kernel that ends in (first row, past row) on band after band, shared between this thread and a second.

    The kernel must let go of the interpreter lock and touch no row outside its band.
    """
    edges = [height * k // BANDS for k in range(BANDS + 1)]
    each_of(*(lambda first=first, past=past: kernel(*arguments, first, past) for first, past in pairwise(edges)))
