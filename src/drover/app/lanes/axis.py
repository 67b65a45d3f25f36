"""Where a frame lies along the lanes: the part of the clip that is shown, zoomed and moved."""

from __future__ import annotations

from dataclasses import dataclass, replace

__all__ = ["TimeAxis"]

LEAST = 10.0  # frames that are shown at least


@dataclass(frozen=True)
class TimeAxis:
    """``left`` px is where the frame ``first`` lies, ``left + width`` where ``last`` does, of ``frames`` in all."""

    left: float
    width: float
    frames: int
    first: float = 0.0
    last: float = 0.0

    @staticmethod
    def whole(left: float, width: float, frames: int) -> TimeAxis:
        """All of a clip."""
        return TimeAxis(left, max(1.0, width), max(1, frames), 0.0, float(max(1, frames - 1)))

    @property
    def zoomed(self) -> bool:
        """Whether only a part is shown."""
        return self.last - self.first < self.frames - 1

    def x_of(self, frame: float) -> float:
        """Widget x of a frame."""
        return self.left + self.width * (frame - self.first) / max(1e-9, self.last - self.first)

    def frame_at(self, x: float) -> int:
        """Frame under a widget x, inside the clip."""
        at = round(self.first + (x - self.left) / self.width * (self.last - self.first))
        return min(max(at, 0), self.frames - 1)

    def sized(self, width: float) -> TimeAxis:
        """The same part on another width."""
        return replace(self, width=max(1.0, width))

    def zoomed_by(self, factor: float, x: float) -> TimeAxis:
        """``factor`` times as wide, what is under ``x`` staying there."""
        share = min(max((x - self.left) / self.width, 0.0), 1.0)
        span = self.last - self.first
        wanted = min(max(span / factor, min(LEAST, self.frames - 1)), max(1.0, self.frames - 1))
        return self._at(self.first + share * (span - wanted), wanted)

    def moved_to(self, first: float) -> TimeAxis:
        """The same length from another frame on."""
        return self._at(first, self.last - self.first)

    def showing(self, frame: int) -> TimeAxis:
        """Moved on so that a frame is in sight, where it is not."""
        span = self.last - self.first
        return self if self.first <= frame <= self.last else self._at(frame - 0.1 * span, span)

    def _at(self, first: float, span: float) -> TimeAxis:
        first = min(max(first, 0.0), max(0.0, self.frames - 1 - span))
        return replace(self, first=first, last=first + span)
