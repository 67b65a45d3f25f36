"""How a live run does: rates, delays and losses, in memory that does not grow."""

from __future__ import annotations

from collections import deque
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

__all__ = ["LiveFacts", "Meter"]

LATELY = 60.0  # s over which rates and delays are told
MOST_KEPT = 10_000


@dataclass(frozen=True)
class LiveFacts:
    """Figures of a live run.

    ``latency`` and ``latency_worst`` are ms from a picture's arrival to its results being written, the median and the
    worst in a hundred of the last minute; ``crossing_latency`` the median of those pictures that settled a crossing,
    of all of the run. ``identities`` are objects: what flickers, or never left its place, is none. ``connection`` is
    "connected", "waiting for the source" or "ended"; ``survey`` what the newest survey said.
    """

    seconds: float = 0.0
    frames: int = 0
    dropped: int = 0
    broken: int = 0
    reconnects: int = 0
    clock_jumps: int = 0
    size: tuple[int, int] = (0, 0)
    sizes_seen: int = 1
    rate: float = 0.0
    latency: float = 0.0
    latency_worst: float = 0.0
    crossing_latency: float = 0.0
    crossings: int = 0
    identities: int = 0
    connection: str = "waiting for the source"
    last_trouble: str = ""
    survey: tuple[str, ...] = ()

    @property
    def drop_share(self) -> float:
        """Share of the pictures that came which were not looked at."""
        return self.dropped / max(1, self.dropped + self.frames)

    def as_dict(self) -> dict[str, Any]:
        """For ``live.json``."""
        return {**asdict(self), "drop_share": round(self.drop_share, 5)}


class Meter:
    """Delays of single pictures, of which those of the last minute are kept."""

    def __init__(self) -> None:
        self._done: deque[tuple[float, float]] = deque(maxlen=MOST_KEPT)
        self._crossing: deque[float] = deque(maxlen=MOST_KEPT)

    def note(self, arrived: float, written: float, *, crossed: bool) -> None:
        """One picture: when it came and when all that it brought was written, s of one clock."""
        self._done.append((written, 1000 * (written - arrived)))
        if crossed:
            self._crossing.append(1000 * (written - arrived))

    def figures(self, now: float) -> dict[str, float]:
        """Rate (frames/s) and delays (ms)."""
        while self._done and self._done[0][0] < now - LATELY:
            self._done.popleft()
        if not self._done:
            return {"rate": 0.0, "latency": 0.0, "latency_worst": 0.0, "crossing_latency": self._median_crossing()}
        delays = np.array([delay for _, delay in self._done])
        span = max(self._done[-1][0] - self._done[0][0], 1e-6)
        return {
            "rate": round((len(delays) - 1) / span, 2) if len(delays) > 1 else 0.0,
            "latency": round(float(np.median(delays)), 1),
            "latency_worst": round(float(np.quantile(delays, 0.99)), 1),
            "crossing_latency": self._median_crossing(),
        }

    def _median_crossing(self) -> float:
        return round(float(np.median(self._crossing)), 1) if self._crossing else 0.0
