"""The survey of footage that has no end: of its first seconds, then of the last minute, ever anew.

Pictures are kept evenly over the time since the first; after each survey every second one goes, until they reach back a
minute, from where on the oldest goes. A survey is made on a thread of its own while pictures go on, and
holds from a moment of the footage that was fixed before: the same footage gives the same, however fast it is read.
"""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from drover.core.both_cores import work_alone
from drover.core.footage_types import Frame
from drover.core.memory import give_memory_back
from drover.core.survey.samples import Samples
from drover.core.survey.survey import Survey, survey_of

__all__ = ["LiveSurvey"]

FIRST = 4.0  # s after which the first survey is made; the next one each time that twice as long was looked at
LONGEST = 64.0  # s looked back on; from there on the next one is made after that time
MOST, LEAST = 32, 12  # pictures that are kept; the fewer the larger they are
MEMORY = 32 << 20  # bytes of pictures from which they are fewer
MANY = 1.25  # times as many from which there are too many, survey or not
ENOUGH = 8  # pictures under which nothing robust can be said
WORK = 3.0  # s that a survey has until it is to hold
JITTER = 0.01  # s by which the times of one picture may differ, as come and as recorded

Picture = tuple[NDArray[np.uint8], NDArray[np.uint8] | None, float]


class LiveSurvey:
    """Sees every picture, keeps a few of them, and has a survey ready when it is to hold.

    Parameters
    ----------
    after : float, s
        How long to look at least before the first survey.
    """

    def __init__(self, after: float = 0.0) -> None:
        self._after = max(FIRST, after)
        self._worker = ThreadPoolExecutor(1, thread_name_prefix="drover-survey", initializer=work_alone)
        self.begin_anew()

    def begin_anew(self) -> None:
        """Another scene begins with the next picture: what was seen so far says nothing of it."""
        self._kept: list[Picture] = []
        self._begun, self._next, self._wanted, self._apart = 0.0, 0.0, 0.0, 0.0
        self._made: Future[Survey] | None = None
        self._holds = np.inf

    def due(self, time: float) -> Survey | None:
        """The survey that is to hold from the picture of ``time`` s on, if one is; waits for it where it must."""
        if self._made is None or time < self._holds - JITTER:
            return None
        made, self._made = self._made, None
        return made.result()

    def note(self, frame: Frame) -> None:
        """Keep a picture where one is due, and have a survey begun when its time has come."""
        now, most = frame.time, int(np.clip(MEMORY // (frame.grey.size * 3 // 2), LEAST, MOST))
        if not self._kept:
            self._begun = self._wanted = now
            self._next, self._apart = now + self._after, self._after / most
        if now >= self._wanted - JITTER:
            chroma = frame.chroma
            self._kept.append((frame.grey.copy(), None if chroma is None else chroma.copy(), now))
            self._wanted += self._apart * (1 + (now + JITTER - self._wanted) // self._apart)
        if now >= self._next - JITTER and self._made is None and self._begin(now) and self._apart * most < LONGEST:
            self._thin()
        elif self._apart * most >= LONGEST:
            self._kept = self._kept[-most - 1 :]
        elif len(self._kept) > MANY * most:
            self._thin()

    def _thin(self) -> None:
        self._kept, self._apart = self._kept[::2], 2 * self._apart

    def _begin(self, now: float) -> bool:
        """Have what is kept of the last minute surveyed; False where that is not enough."""
        kept = [one for one in self._kept if now - one[2] <= LONGEST + self._apart]
        if len(kept) < ENOUGH:
            return False
        self._made = self._worker.submit(_surveyed, kept)
        wait = min(self._next - self._begun, LONGEST)
        self._holds, self._next = now + WORK, max(self._next + wait, now + wait / 2)  # the last after a break
        return True

    def close(self) -> None:
        """End the thread that makes surveys."""
        self._worker.shutdown(wait=False, cancel_futures=True)


def _surveyed(kept: list[Picture]) -> Survey:
    """What some pictures say; the memory that it took is given back."""
    greys, chromas, times = zip(*kept, strict=True)
    coloured = all(chroma is not None for chroma in chromas)
    survey = survey_of(Samples(np.stack(greys), np.stack(chromas) if coloured else None, np.array(times)))
    give_memory_back()
    return survey
