"""The Track stage: one class, one ``step`` a frame; a whole clip is the fold of steps."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.both_cores import in_halves, in_halves_from
from drover.core.recipe import TrackSettings
from drover.core.track.candidates import find_candidates, weights_of
from drover.core.track.correcting import correct_alone, share_blobs
from drover.core.track.exits import in_exits
from drover.core.track.filters import FRAME_RATE, forecast_boxes, set_speeds
from drover.core.track.frame_boxes import FrameBoxes
from drover.core.track.living import Living
from drover.core.track.look_ahead import LookAhead
from drover.core.track.looks import learn_looks
from drover.core.track.lost import LostOnes
from drover.core.track.pace import USUAL, with_pace
from drover.core.track.rebound import LastStep, begin_anew, find_lost
from drover.core.track.rows import NewestRows, TrackRows, write_rows
from drover.core.track.sharing import MOST_SHARERS, guests
from drover.core.track.step_kernels import bear_tracks, choose_links, move_on, note_frame, share_out
from drover.core.track.turning import new_modes, predict_turning
from drover.core.track.upkeep import free_to_begin, survivors, waits
from drover.core.types import DEFAULT_CLASS, Tracks

__all__ = ["VERSION", "Tracker"]

VERSION = 10
MANY = 1500  # tracks from which two threads share the work of a step
COVERED = 0.5  # a detection that covers this share of a living track's forecast starts no track of its own
HIDDEN_PATIENCE = 2.0  # times the longest gap that an object may be wholly hidden in a blob that covers it
LEAST_HITS = 3
LEAST_PATIENCE = 0.5  # s more than the longest gap within which the next picture may come
GONE_AFTER = 0.5  # s unseen after which one last seen in an exit has left
GUEST_AFTER = 12.0  # frames unseen in the open after which a track is no longer taken to be in a blob it meets

Float = NDArray[np.float64]


class Tracker:
    """Links detections, frame after frame.

    Parameters
    ----------
    settings : TrackSettings
    size : (width, height) px
        A coasting track that has left this frame is given up.
    rate : float, frames/s
        Nominal rate of the footage: says how many pictures a new track must be seen in.
    speed_doubt : float, sizes per 1/25 s
        How far first guesses of speed may be off, where detections bring any.
    """

    def __init__(
        self, settings: TrackSettings, size: tuple[int, int], rate: float, *, speed_doubt: float = 0.0
    ) -> None:
        self._speed_doubt = speed_doubt
        self.settings = settings = with_pace(settings, USUAL)  # what is on auto still, nobody has measured
        self.size = size
        wanted = settings.life.hits_to_confirm
        self._hits = max(min(LEAST_HITS, wanted), round(wanted * min(1.0, rate / FRAME_RATE)))
        self._weights = {looks: weights_of(settings.match, looks=looks) for looks in (False, True)}
        self._edges = 0.0, 0.0, float(size[0]), float(size[1])
        self._turning = settings.motion.model == "turning"
        self._living = Living(turning=self._turning)
        self._lost = LostOnes(settings.life.return_within, settings.match.look_weight)
        self._rows = TrackRows()
        self._born = 0
        self._time: float | None = None
        self._before, self._interval = 0.0, 1.0
        self._oldest = np.inf  # s: no living track was last seen before that
        self._last = LastStep()

    def step(self, time: float, found: FrameBoxes) -> None:
        """Take in the detections of the next frame, at ``time`` s."""
        living = self._living
        if found.view is not None:
            self._edges = found.view
        self._expire(time)
        unseen, forecast = self._predict(time)
        track, detection, cost, distance, nearest = self._candidates(found, forecast, unseen)
        match, room, link, seen, hidden, apart, nis, alone = self._choose(track, detection, cost, distance, found)
        bounced = self._rebound(found, forecast, unseen, match, link, seen, alone)
        if self.settings.blobs.share and living.count:
            self._share(found, forecast, unseen, match, link, seen, hidden, alone, nis)
        self._correct(found, match, alone, nis)
        if len(bounced):
            nis[bounced] = np.nan  # no forecast was ever held against what was found there
        if len(found.look):
            learn_looks(living.look, match, alone, found.look)
        self._last = LastStep(living.number[: living.count].copy(), np.where(alone, link, -1), found.box)
        newly = self._note(time, found, link, seen, hidden, nearest, apart, room, nis)
        if self.settings.life.exits:
            self._mark_exits(seen)
        if len(newly):
            self._believe(newly, time)
        self._bury(time, seen, hidden)
        self._bear(found, match, time)
        self._rows.end_frame()

    def look_ahead(self, time: float, found: FrameBoxes) -> LookAhead:
        """What the next frame's detections are up against: forecasts, pairs within the gate and the match.

        The filters are moved on by this, so a tracker that was asked is not to be stepped any more.
        """
        self._expire(time)
        unseen, forecast = self._predict(time)
        track, detection, cost, distance, _ = self._candidates(found, forecast, unseen)
        match, room, *_ = self._choose(track, detection, cost, distance, found)
        return LookAhead(self._living, self._living.count, found, unseen, forecast, track, detection, cost, match, room)

    def links_of(self, k: int, most: int) -> NDArray[np.int32]:
        """The detections that the ``k``-th living track was linked to last, the newest at the end."""
        return self._rows.links_of(int(self._living.number[k]), most)

    def tracks(self, class_names: tuple[str, ...] = (DEFAULT_CLASS,)) -> Tracks:
        """Everything linked so far, with the filters' boxes; tracks that were never believed are left out."""
        return self._rows.tracks(self.size, class_names)

    def short_lives(self) -> NDArray[np.int64]:
        """In how many pictures each track was seen that was not believed."""
        return self._rows.short_lives()

    def now(self) -> NewestRows:
        """Every believed track in the frame stepped last."""
        return self._rows.newest(measured=self.settings.motion.boxes == "measured")

    def forget(self) -> None:
        """Keep no rows of what was linked so far: for footage without end, of which only ``now`` is asked."""
        living = self._living
        self._rows.forget(lambda: {*living.number[: living.count].tolist(), *self._lost.numbers})

    # --- one step in parts ------------------------------------------------------------------------------------

    def _expire(self, time: float) -> None:
        """Give up what has been unseen for too long by now: after a hole in the footage nothing goes on."""
        living, gap = self._living, self.settings.life.longest_gap
        if time - self._oldest <= gap + LEAST_PATIENCE:
            return
        waited = time - living.seen_at[: living.count]
        patience = gap * np.where(living.hidden[: living.count], HIDDEN_PATIENCE, 1.0) + LEAST_PATIENCE
        self._lost.lose(living, waited > patience)
        living.keep(waited <= patience)

    def _predict(self, time: float) -> tuple[Float, NDArray[np.float32]]:
        """Move all filters on; the frames since each was last seen, and the forecast boxes."""
        living, motion = self._living, self.settings.motion
        frames = 0.0 if self._time is None else max(0.0, time - self._time) * FRAME_RATE
        self._before = time if self._time is None else self._time
        self._time = time if self._time is None else max(time, self._time)
        self._interval = frames if frames > 0 else 1.0
        noises = motion.jumpiness, motion.size_noise, motion.size_scaling
        if not self._turning:
            return move_on(
                living.mean, living.cov, living.count, living.seen_at, living.hidden, time, self._before, FRAME_RATE,
                frames, *noises, motion.model == "pushed", motion.fade * FRAME_RATE,
            )  # fmt: skip
        unseen, fading = waits(living.seen_at, living.hidden, living.count, time, self._before, FRAME_RATE)
        turn = np.radians(motion.turn_rate) / FRAME_RATE
        predict_turning(
            living.mean, living.cov, living.mode, living.count, frames, *noises, turn, fading, motion.fade * FRAME_RATE
        )
        return unseen, forecast_boxes(living.mean[: living.count])

    def _candidates(self, found: FrameBoxes, forecast: NDArray[np.float32], unseen: Float):  # type: ignore[no-untyped-def]
        living, settings = self._living, self.settings
        if len(found.look):
            living.with_looks()
        match = settings.match
        wait = np.minimum(unseen / max(settings.life.longest_gap * FRAME_RATE, 1e-6), 1.0)
        parts = in_halves_from(
            MANY, find_candidates, living.count, living.mean, living.cov, living.seen, forecast, found.box,
            living.class_id, found.class_id, match.same_class, unseen, wait, settings.motion.box_noise,
            settings.motion.size_scaling, match.gate, match.farthest, match.overlap == "generalised",
            living.look, found.look, self._weights[len(found.look) > 0],
        )  # fmt: skip
        return parts[0] if len(parts) == 1 else tuple(np.concatenate(part) for part in zip(*parts, strict=True))

    def _choose(
        self,
        track: NDArray[np.int64],
        detection: NDArray[np.int64],
        cost: Float,
        distance: Float,
        found: FrameBoxes,
    ):  # type: ignore[no-untyped-def]
        """Who takes which detection, see :func:`choose_links`."""
        living, settings = self._living, self.settings.match
        return choose_links(
            track, detection, cost, distance, living.believed, found.confidence, settings.sure_from,
            settings.assignment == "greedy", living.count, len(found.box),
        )  # fmt: skip

    def _rebound(
        self, found: FrameBoxes, forecast: NDArray[np.float32], unseen: Float, match: NDArray[np.int64],
        link: NDArray[np.int64], seen: NDArray[np.bool_], alone: NDArray[np.bool_],
    ) -> NDArray[np.int64]:  # fmt: skip
        """Link those that bounced, or are found again, to what they are now, in place; which they are."""
        living = self._living
        if not (living.believed[: living.count] & (match < 0)).any():
            return np.zeros(0, np.int64)
        farthest = self.settings.match.farthest
        who, detection, last = find_lost(
            living, self._last, forecast, unseen, match, found.box, self._interval, farthest
        )
        if self.settings.match.same_class:
            own = living.class_id[who] == found.class_id[detection]
            who, detection = who[own], detection[own]
        if len(who):
            begin_anew(living.mean, living.cov, last, who, found.box[detection], unseen)
            if self._turning:
                living.mode[who] = new_modes(living.cov[who])
            match[who] = link[who] = detection
            seen[who] = alone[who] = True
        return who

    def _share(
        self,
        found: FrameBoxes,
        forecast: NDArray[np.float32],
        unseen: Float,
        match: NDArray[np.int64],
        link: NDArray[np.int64],
        seen: NDArray[np.bool_],
        hidden: NDArray[np.bool_],
        alone: NDArray[np.bool_],
        nis: Float,
    ) -> None:
        """Share blobs among the objects expected in them, and correct their filters by what was seen of each."""
        living, motion, least = self._living, self.settings.motion, self.settings.blobs.least_cover
        blobs = match, found.run_start, found.runs, found.box, motion.box_noise, motion.size_scaling, MOST_SHARERS
        filters, told = (living.mean, living.cov, living.mode), (link, seen, hidden, alone, nis)
        if living.count < MANY:
            share_out(forecast, living.believed, living.hidden, unseen, GUEST_AFTER, least, *filters, *blobs, *told)
            return
        guest, some = guests(
            forecast, found.box, living.believed, seen, living.hidden, unseen, GUEST_AFTER, match, least
        )
        if some:
            in_halves(share_blobs, len(found.box), *filters, guest, *blobs, *told)

    def _correct(self, found: FrameBoxes, match: NDArray[np.int64], alone: NDArray[np.bool_], nis: Float) -> None:
        living, motion = self._living, self.settings.motion
        in_halves_from(
            MANY, correct_alone, len(match), living.mean, living.cov, living.mode, living.usual, match, alone,
            found.box, found.confidence, motion.box_noise, motion.size_scaling, motion.size_doubt, motion.weak_doubt,
            *self._edges, self._interval, nis,
        )  # fmt: skip

    def _note(
        self,
        time: float,
        found: FrameBoxes,
        link: NDArray[np.int64],
        seen: NDArray[np.bool_],
        hidden: NDArray[np.bool_],
        nearest: Float,
        apart: Float,
        room: Float,
        nis: Float,
    ) -> NDArray[np.int64]:
        """Note who was seen; this frame's rows are those, and believed ones that are not, as coasting.

        The tracks that are believed from now on.
        """
        living, rows = self._living, self._rows
        rows.room_for(living.count)
        newly, wrote, missed = note_frame(
            self.settings.motion.size_doubt > 0, self._before, time, self._hits, self._edges, living.number,
            living.mean, living.usual, living.hits, living.seen_at, living.seen, living.hidden, living.at_edge,
            living.believed, living.class_id, link, seen, hidden, nearest, found.box, found.confidence, apart, room,
            nis, found.first_row, rows.count, *rows.columns.values(),
        )  # fmt: skip
        rows.wrote(wrote)
        if len(missed):
            rows.refuse(missed)
        return newly

    def _bury(self, time: float, seen: NDArray[np.bool_], hidden: NDArray[np.bool_]) -> None:
        """Give up tentative tracks that missed a frame, and coasting ones past their gap or out of the picture."""
        living = self._living
        keep, every, self._oldest = survivors(
            living.mean, living.at_edge, *self._edges, seen, living.believed, hidden, living.in_exit, living.seen_at,
            time, self.settings.life.longest_gap, HIDDEN_PATIENCE, GONE_AFTER,
        )  # fmt: skip
        if not every:
            self._lost.lose(living, ~keep)
            living.keep(keep)

    def _mark_exits(self, seen: NDArray[np.bool_]) -> None:
        """Note of each track that is seen whether it stands where objects leave: there it may go for good."""
        living, rows = self._living, np.flatnonzero(seen)
        living.in_exit[rows] = in_exits(living.mean[rows, :2], self.settings.life.exits, self.size)
        living.at_edge[rows] |= living.in_exit[rows]

    def _believe(self, rows: NDArray[np.int64], time: float) -> None:
        """Give an identity to tracks seen often enough: that of a lost one that has come back, or a new one."""
        for k in rows.tolist():
            number = int(self._living.number[k])
            before = self._lost.returned(self._living, k, time)
            if before is None:
                self._rows.believe(self._living.number[k : k + 1])
            else:
                self._rows.take_up(number, before)

    def _bear(self, found: FrameBoxes, match: NDArray[np.int64], time: float) -> None:
        """Start a tentative track on every free, sure detection that does not cover a believed track."""
        living = self._living
        at = free_to_begin(
            found.confidence, self.settings.match.sure_from, match, found.box, living.mean, living.believed,
            living.count, COVERED,
        )  # fmt: skip
        if len(at) == 0:
            return
        motion, first, once = self.settings.motion, living.count, self._hits <= 1
        living.room_for(len(at))
        bear_tracks(
            at, first, self._born, once, time, motion.box_noise, motion.size_scaling, found.box,
            found.class_id, living.number, living.mean, living.cov, living.hits, living.believed, living.seen_at,
            living.class_id, living.usual, living.seen, living.hidden, living.at_edge, living.in_exit, living.born_at,
        )  # fmt: skip
        living.count += len(at)
        self._born += len(at)
        self._oldest = min(self._oldest, time)
        born = slice(first, living.count)
        if len(found.velocity):
            set_speeds(living.mean[born], living.cov[born], found.velocity[at], self._speed_doubt)
            living.seen[born, 2:] = living.mean[born, 4:6]
        if len(found.look):
            living.look[born] = found.look[at]
        elif living.look.shape[1]:
            living.look[born] = 0.0
        if self._turning:
            living.mode[born] = new_modes(living.cov[born])
        if once:
            self._believe(np.arange(first, living.count), time)
        self._write_born(found, at, born)

    def _write_born(self, found: FrameBoxes, at: NDArray[np.int64], born: slice) -> None:
        living, rows = self._living, self._rows
        rows.room_for(len(at))
        none = np.full(len(at), np.nan)
        wrote = write_rows(
            rows.count, len(at), living.number[born], living.mean[born], living.believed[born], living.class_id[born],
            at, np.ones(len(at), np.bool_), found.box, found.confidence, none, none, none, found.first_row,
            *rows.columns.values(),
        )  # fmt: skip
        rows.wrote(wrote)
