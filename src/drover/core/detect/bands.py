"""Pixel loops on both cores: the picture in bands, taken in turn by two threads."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import Any

__all__ = ["in_bands"]

BANDS = 8  # more than two, since what moves is seldom spread evenly from top to bottom

_helper = ThreadPoolExecutor(1, thread_name_prefix="drover-band")


def in_bands(kernel: Callable[..., None], height: int, *arguments: Any) -> None:
    """Call a kernel that ends in (first row, past row) on every other band here and on the rest in a second thread.

    The kernel must let go of the interpreter lock and touch no row outside its band.
    """
    edges = [height * k // BANDS for k in range(BANDS + 1)]
    bands = list(pairwise(edges))

    def take(chosen: list[tuple[int, int]]) -> None:
        for first, past in chosen:
            kernel(*arguments, first, past)

    others = _helper.submit(take, bands[::2])
    take(bands[1::2])
    others.result()
