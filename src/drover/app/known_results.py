"""Results kept in memory by their keys, so that undoing shows the one before at once."""

from __future__ import annotations

from collections import OrderedDict

from drover.core.graph import Result

__all__ = ["KnownResults"]

REMEMBERED = 24


class KnownResults(OrderedDict[str, Result]):
    """The results made last, the newest at the end."""

    def remember(self, *results: Result) -> None:
        """Keep results, and let go of the oldest."""
        for result in results:
            self[result.key] = result
            self.move_to_end(result.key)
        while len(self) > REMEMBERED:
            self.popitem(last=False)
