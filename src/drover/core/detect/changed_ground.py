"""A picture that is all movement: not things, but a ground that is no longer the one that is known.

A lamp that is switched on, or another setting of the camera, changes colours and contrasts in a way that no factor of
light undoes. What would be found then is one thing as large as the picture.
"""

from __future__ import annotations

__all__ = ["GroundWatch"]

FLOODED = 0.6  # of the picture that moves, beyond which nothing of it is a thing
LASTS = 0.4  # s of that, after which the ground is looked at anew: a flash is shorter
AGAIN = 5.0  # s before that is done again; twice as long each time, since it does not seem to help


class GroundWatch:
    """Says of each picture whether it is flooded, and when the ground is to be looked at anew."""

    def __init__(self) -> None:
        self._since: float | None = None
        self._not_before, self._wait = float("-inf"), AGAIN

    def look(self, share: float, time: float) -> bool:
        """Take in what share of a picture moves, at a time in s; whether that is too much to be things."""
        flooded = share > FLOODED
        if not flooded:
            self._since = None
        elif self._since is None:
            self._since = time
        return flooded

    def lasts(self, time: float) -> bool:
        """Whether it has lasted so long that the ground is to be looked at anew; asked at a time in s."""
        if self._since is None or time - self._since < LASTS - 1e-9 or time < self._not_before - 1e-9:
            return False
        self._since, self._not_before, self._wait = None, time + self._wait, 2.0 * self._wait
        return True
