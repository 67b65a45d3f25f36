"""Surveys made lately, so that a clip worked through again with other settings is not looked over again first."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock

from drover.core.survey.survey import Survey

__all__ = ["KeptSurveys"]

MOST_BYTES = 40 << 20


class KeptSurveys:
    """The latest surveys by key, as far as they fit ``most_bytes``; safe from any thread.

    What is handed out is shared: nobody may write into its arrays.
    """

    def __init__(self, most_bytes: int = MOST_BYTES) -> None:
        self._most, self._lock = most_bytes, Lock()
        self._kept: OrderedDict[Hashable, Survey] = OrderedDict()

    def get(self, key: Hashable, make: Callable[[], Survey | None]) -> Survey | None:
        """The survey kept under a key, or the one that ``make`` makes."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        made = make()
        if made is None or _bytes_of(made) > self._most:
            return made
        with self._lock:
            self._kept[key] = made
            while sum(map(_bytes_of, self._kept.values())) > self._most:
                self._kept.popitem(last=False)
        return made


def _bytes_of(survey: Survey) -> int:
    """Bytes of its planes; all else is small."""
    empty = survey.empty
    planes = (empty.grey, empty.noise, empty.restless, empty.chroma, empty.chroma_noise)
    return sum(0 if plane is None else plane.nbytes for plane in planes)
