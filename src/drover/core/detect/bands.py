"""Pixel loops on both cores: the picture in bands, a thread each."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

__all__ = ["in_bands"]

_helper = ThreadPoolExecutor(1, thread_name_prefix="drover-band")


def in_bands(kernel: Callable[..., None], height: int, *arguments: Any) -> None:
    """Call a kernel that ends in (first row, past row) on the upper and the lower half at once.

    The kernel must let go of the interpreter lock and touch no row outside its band.
    """
    middle = height // 2
    lower = _helper.submit(kernel, *arguments, middle, height)
    kernel(*arguments, 0, middle)
    lower.result()
