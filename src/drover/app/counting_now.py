"""Counting while the user waits: what need not be counted again is kept from the last time."""

from __future__ import annotations

from drover.app.engine_work import Fitted, Place
from drover.core.count.ground import Ground
from drover.core.count.paths import TrackPaths
from drover.core.count.whole_clip import Counted, count_all
from drover.core.graph import Subject
from drover.core.recipe import CountSettings
from drover.core.types import Tracks

__all__ = ["CountingNow"]


class CountingNow:
    """Counts of one clip; visits to zones stay while neither tracks nor zones change, grounds once they are fitted."""

    def __init__(self) -> None:
        self._grounds: dict[Place, Ground | None] = {}
        self._last: tuple[str, object, Counted] | None = None

    def count(
        self, subject: Subject, tracks: Tracks, key: str, settings: CountSettings, paths: dict[str, TrackPaths]
    ) -> Counted:
        """Everything counted; ``key`` is that of the tracks, empty where they are partial."""
        visits = None
        if self._last is not None and key and self._last[:2] == (key, settings.zone):
            visits = self._last[2].visits
        counted = count_all(
            tracks, subject.clip.times, settings, paths=paths, visits=visits,
            ground=self._grounds.get(self._place(subject, settings)), fit_ground=False,
        )  # fmt: skip
        self._last = key, settings.zone, counted
        return counted

    def wanting(self, subject: Subject, settings: CountSettings) -> Place | None:
        """The ground that is yet to be fitted, if any."""
        place = self._place(subject, settings)
        return place if settings.ground.points and place not in self._grounds else None

    def take_ground(self, fitted: Fitted) -> None:
        """A ground was fitted, or cannot be."""
        self._grounds[fitted.place] = fitted.ground

    @staticmethod
    def _place(subject: Subject, settings: CountSettings) -> Place:
        return settings.ground, (subject.clip.width, subject.clip.height)
