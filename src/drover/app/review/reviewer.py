"""The review: which moment is looked at, and what is said of it; every answer is a step that can be undone."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal

from drover.app.moment_watch import MomentWatch
from drover.app.playback import Playback
from drover.app.session import Session
from drover.core.doubt.futures import partner_of
from drover.core.doubt.moments import Moment
from drover.core.doubt.review import LEAST_DOUBT, NEAR, Worked, errors_left
from drover.core.edits.edit import Edit
from drover.core.edits.making import (
    box_edit,
    cut_edit,
    drop_edit,
    fill_edit,
    join_edit,
    said_edit,
    seen_edit,
    swap_edit,
)
from drover.core.edits.truth import truth_of_tracks
from drover.core.errors import DroverError
from drover.core.types import LOOK, Tracks

__all__ = ["Reviewer"]

AROUND = 1.0  # s before and after a moment that are played over and over
LEAST_LISTED = 10


class Reviewer(QObject):
    """What can be said of the moment shown, or of the identities chosen where none is.

    ``changed`` tells of another moment, of answers and of how far the review has come.
    """

    changed = Signal()

    def __init__(self, session: Session, watch: MomentWatch, playback: Playback) -> None:
        super().__init__(session)
        self.session, self.watch, self.playback = session, watch, playback
        self.current: Moment | None = None
        self.partner = 0
        self._go_on = False
        watch.changed.connect(self._on_ranked)
        session.clip_changed.connect(self.leave)
        session.edits_changed.connect(self.changed)

    # --- where the review is -------------------------------------------------------------------------------

    @property
    def worked(self) -> NDArray[np.int8]:
        """What was said of each moment."""
        return self.watch.worked

    @property
    def listed(self) -> int:
        """How many moments are worth a look, the most doubtful first."""
        found = self.watch.found
        return min(len(found), max(LEAST_LISTED, int((found.doubt >= LEAST_DOUBT).sum())))

    @property
    def done(self) -> int:
        """How many of these were worked off."""
        return int((self.worked[: self.listed] != Worked.OPEN).sum())

    @property
    def left(self) -> float:
        """How many errors are to be expected among those that were not."""
        return errors_left(self.watch.found, self.worked)

    def visit(self, way: int) -> Moment | None:
        """The next open moment in order of doubt (1), or the one before this in rank (-1)."""
        place, found = self.watch.place, self.watch.found
        if way < 0:
            return self.go_to(max(place - 1, 0)) if len(found) else None
        open_ = np.flatnonzero(self.worked == Worked.OPEN)
        later = open_[open_ > place]
        if not len(open_):
            return None
        return self.go_to(int(later[0] if len(later) else open_[0]))

    def go_to(self, place: int) -> Moment | None:
        """Show a moment by its rank, from 0, and play what is around it over and over."""
        moment, clip = self.watch.go_to(place), self.session.clip
        if moment is None or clip is None or self.session.tracks is None:
            return None
        self.current = moment
        found = self.session.linked_detections
        look = np.zeros((0, LOOK), np.uint8) if found is None else found.look
        self.partner = partner_of(self.session.tracks, clip.times, look, moment.kind, moment.frame, moment.identities)
        self.session.select(moment.identities[0], self.partner or None)
        if not self.session.clip_missing:
            first, last = (clip.frame_at(float(clip.times[f]) + way * AROUND) for f, way in self._span(moment))
            self.playback.play_loop(first, last)
        self.changed.emit()
        return moment

    @staticmethod
    def _span(moment: Moment) -> tuple[tuple[int, int], tuple[int, int]]:
        return (moment.first, -1), (moment.last, 1)

    def leave(self) -> None:
        """No moment is looked at any more."""
        self.current, self.partner, self._go_on = None, 0, False
        self.playback.loop = None
        self.changed.emit()

    def _on_ranked(self) -> None:
        shown = self.current
        if self._go_on:
            self._go_on = False
            if self.visit(1) is None:
                self.leave()
                self.playback.pause()
        elif shown is not None:
            self._find_again(shown)
        self.changed.emit()

    def _find_again(self, shown: Moment) -> None:
        """Ranked anew, the moment that is looked at stands elsewhere; where it is gone none is shown."""
        found, clip = self.watch.found, self.session.clip
        assert clip is not None
        away = np.abs(clip.times[found.frames[:, 0]] - clip.times[shown.frame])
        away[~np.isin(found.identities, shown.identities).any(axis=1)] = np.inf
        if len(away) and away.min() <= NEAR:
            self.watch.place = int(np.argmin(away))
            self.current = found[self.watch.place]
        else:
            self.leave()

    # --- what is said --------------------------------------------------------------------------------------

    @property
    def who(self) -> tuple[int, int]:
        """The identities that an answer is about, 0 for none."""
        view = self.session.view
        return view.selected or 0, view.beside or 0

    @property
    def frame(self) -> int:
        """The frame from which an answer holds: the one shown where somebody stopped there, else the moment's."""
        moment, shown, clip = self.current, self.session.frame, self.session.clip
        if moment is None or clip is None:
            return shown
        first, last = (clip.frame_at(float(clip.times[f]) + way * AROUND) for f, way in self._span(moment))
        return shown if not self.playback.playing and first <= shown <= last else moment.frame

    def right(self) -> None:
        """It is right as it is."""
        self._look_at("right", "right as it is")

    def unsure(self) -> None:
        """It cannot be told."""
        self._look_at("unsure", "not sure")

    def swap(self) -> None:
        """From here on each of the two goes on as the other."""
        a, b = self.who
        self._correct(lambda t, times: swap_edit(t, times, a, b, self.frame), f"swap {a} and {b}", two=True)

    def join(self) -> None:
        """The two are one."""
        a, b = self.who
        self._correct(lambda t, times: join_edit(t, times, a, b), f"join {a} and {b}", two=True)

    def cut(self) -> None:
        """From here on it is another."""
        a, _ = self.who
        self._correct(lambda t, times: cut_edit(t, times, a, self.frame), f"cut {a}")

    def drop(self) -> None:
        """It is nothing."""
        a, _ = self.who
        self._correct(lambda t, times: drop_edit(t, times, a), f"drop {a}")

    def say(self, kind: str, text: str) -> None:
        """It is of a class, or is called something."""
        a, _ = self.who
        what = f"{a} is of class {text}" if kind == "class" else f"{a} is called {text}"
        frame = self.session.frame
        self._correct(lambda t, times: said_edit(t, times, a, frame, kind, text), what, goes_on=False)

    def paint(self, identities: Iterable[int], tint: str) -> None:
        """They are shown in a colour, "#rrggbb"; empty: in their own again."""
        tracks, clip = self.session.tracks, self.session.clip
        if tracks is not None and clip is not None:
            made = (said_edit(tracks, clip.times, who, self.session.frame, "colour", tint) for who in identities)
            self.session.correct((*self.session.edits, *made), "another colour")

    def fill(self) -> None:
        """In the next gap it went straight."""
        a, _ = self.who
        self._correct(lambda t, times: fill_edit(t, times, a, self.frame), f"fill a gap of {a}", goes_on=False)

    def box(self, sides: list[float]) -> None:
        """On the frame shown the identity chosen has this box (fractions); with none chosen something new has."""
        clip, frame = self.session.clip, self.session.frame
        if clip is None:
            return
        box = np.array(sides) * (clip.width, clip.height, clip.width, clip.height)
        a, _ = self.who
        what = f"draw the box of {a}" if a else "draw one that was not found"
        self._correct(lambda t, times: box_edit(t, times, a or None, frame, box), what, goes_on=False, none=True)

    def take_back(self, place: int) -> None:
        """One correction less, wherever in the order it stands."""
        edits = self.session.edits
        self.session.correct((*edits[:place], *edits[place + 1 :]), "take back a correction")

    def save_as_truth(self) -> None:
        """The tracks as they are now are what was really there."""
        document, tracks = self.session.document, self.session.tracks
        if document is not None and tracks is not None:
            made = replace(document, truth=truth_of_tracks(tracks), true_crossings=self.session.crossings)
            self.session.change(made, "take the tracks for the truth")

    def _look_at(self, kind: str, what: str) -> None:
        who = tuple(identity for identity in self.who if identity)
        moment = self.current
        who = moment.identities if moment is not None else who
        frame = self.frame if moment is None else moment.frame
        self._correct(lambda t, times: seen_edit(t, times, who, frame, kind), what)

    def _correct(
        self,
        make: Callable[[Tracks, NDArray[np.float64]], Edit],
        what: str,
        *,
        two: bool = False,
        goes_on: bool = True,
        none: bool = False,
    ) -> None:
        session, tracks, clip = self.session, self.session.tracks, self.session.clip
        if tracks is None or clip is None:
            return
        lacking = (not self.who[0] and not none) or (two and not self.who[1])
        try:
            if lacking:
                one = "two" if two else "one"
                raise DroverError(f"choose {one} first: click on the field or in the lanes, Ctrl+click for a second")
            edit = make(tracks, clip.times)
        except DroverError as error:
            session.message_raised.emit(str(error))
            return
        self._go_on = goes_on and self.current is not None
        session.correct((*session.edits, edit), what)
