"""Which identities of footage without end are objects so far, and which flicker or never left their place.

A whole clip's tracks are judged once they are over. Live the same is asked ever anew, of the last seconds. Whose odds
of being an object are good is shown from then on, until they are clearly bad; who has travelled besides is counted for
good: what was told is not taken back.
"""

from __future__ import annotations

from collections import deque
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from drover.core.settings.track import AfterSettings
from drover.core.track.rows import NewestRows
from drover.core.track.travel import odds_of, part_distances
from drover.core.types import TrackState

__all__ = ["Judged", "LiveObjects"]

EVERY = 0.2  # s between two looks
BACK = 10.0  # s that are judged by
MOST_ROWS = 100_000  # in all of them: a flood is judged by less
DOUBTFUL = -1.0  # log odds under which one that was shown is not any more


class _Frame(NamedTuple):
    time: float
    rows: NewestRows


class Judged(NamedTuple):
    """Of each row of a frame whether what it belongs to is to be ``shown``, and whether it is ``counted``."""

    shown: NDArray[np.bool_]
    counted: NDArray[np.bool_]


class LiveObjects:
    """Sees the believed rows of every frame, and says which belong to objects.

    Parameters
    ----------
    settings : AfterSettings
        ``least_travel`` and ``drop_flicker`` of it.
    forget_after : float, s
        How long after it was last seen an identity cannot come back any more.
    """

    def __init__(self, settings: AfterSettings, forget_after: float) -> None:
        self._least, self._odds, self._forget_after = settings.least_travel, settings.drop_flicker, forget_after
        self._frames: deque[_Frame] = deque()
        self._count, self._looked, self._total = 0, -np.inf, 0
        self._seen: dict[int, float] = {}  # of each identity, when last
        self._travelled: set[int] = set()
        self._steady: set[int] = set()
        self._counted: set[int] = set()  # ever

    @property
    def total(self) -> int:
        """How many identities were counted so far."""
        return self._total

    def step(self, time: float, rows: NewestRows) -> Judged:
        """Take in a frame at ``time`` s, and say what its rows are by now."""
        who = rows.identity.tolist()
        self._seen.update(dict.fromkeys(who, time))
        if self._least <= 0 and not self._odds:
            self._steady.update(who)
        else:
            self._frames.append(_Frame(time, rows))
            self._count += len(who)
            while self._frames[0].time < time - BACK or (self._count > MOST_ROWS and len(self._frames) > 1):
                self._count -= len(self._frames.popleft().rows.identity)
            if time - self._looked >= EVERY:
                self._looked = time
                self._judge()
        new = {one for one in who if one in self._steady and (self._least <= 0 or one in self._travelled)}
        new -= self._counted
        self._counted |= new
        self._total += len(new)
        self._forget(time)
        shown, counted = (np.array([one in known for one in who], np.bool_) for known in (self._steady, self._counted))
        return Judged(shown, counted)

    def _judge(self) -> None:
        """Look at the last seconds of all that are in them."""
        tables = [frame.rows for frame in self._frames]
        identity = np.concatenate([rows.identity for rows in tables])
        if len(identity) == 0:
            return
        frame = np.repeat(np.arange(len(tables)), [len(rows.identity) for rows in tables])
        row = np.argsort(identity, kind="stable")
        who, first = np.unique(identity[row], return_index=True)
        start = np.append(first, len(row)).astype(np.int64)
        box, found = (np.concatenate([getattr(rows, name) for rows in tables]) for name in ("box", "found"))
        seen = np.concatenate([rows.state for rows in tables]) != TrackState.COASTING
        if self._least > 0:
            self._travelled |= self._known(who[part_distances(start, row, box, seen) >= self._least])
        if not self._odds:
            self._steady |= self._known(who)
            return
        confidence = np.concatenate([rows.confidence for rows in tables])
        times = np.array([one.time for one in self._frames])
        odds = odds_of(start, row, frame, found, seen, confidence, times)
        self._steady |= self._known(who[odds > 0])
        self._steady -= self._known(who[odds < DOUBTFUL])

    def _known(self, who: NDArray[np.int32]) -> set[int]:
        """Those that were not forgotten yet, though rows of them are still there."""
        return {one for one in who.tolist() if one in self._seen}

    def _forget(self, now: float) -> None:
        gone = [one for one, when in self._seen.items() if now - when > self._forget_after]
        for one in gone:
            del self._seen[one]
            for known in (self._travelled, self._steady, self._counted):
                known.discard(one)
