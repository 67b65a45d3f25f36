"""The Track stage: one class, one ``step`` a frame; a whole clip is the fold of steps."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.recipe import TrackSettings
from drover.core.track.candidates import find_candidates
from drover.core.track.filters import (
    FRAME_RATE,
    centre_and_size,
    forecast_boxes,
    new_filters,
    predict,
    scale_of,
    update,
)
from drover.core.track.groups import assign_greedy, assign_groups, margins
from drover.core.track.living import Living
from drover.core.track.measuring import measure
from drover.core.track.rows import TrackRows, write_rows
from drover.core.track.sharing import LEAST_FIRMNESS, MOST_SHARERS, fit_boxes, pixel_table, sharers
from drover.core.types import Tracks

__all__ = ["VERSION", "FrameBoxes", "LookAhead", "Tracker"]

VERSION = 2
COVERED = 0.5  # a detection that covers this share of a living track's forecast starts no track of its own
HIDDEN_PATIENCE = 2.0  # times the longest gap that an animal may be wholly hidden in a blob that covers it
LEAST_HITS = 3
LEAST_PATIENCE = 0.5  # s more than the longest gap within which the next picture may come
GUEST_AFTER = 12.0  # frames unseen in the open after which a track is no longer taken to be in a blob it meets

Float = NDArray[np.float64]
_NO_RUNS = np.zeros((0, 3), np.int16)


@dataclass(frozen=True)
class FrameBoxes:
    """The detections of one frame.

    ``box`` (n, 4) float32 px, ``confidence`` (n,) float32, ``class_id`` (n,) int16; ``run_start`` (n + 1,) int64 and
    ``runs`` the blobs, empty where there are none; ``first_row`` is the row of the first of them in the whole table.
    """

    box: NDArray[np.float32]
    confidence: NDArray[np.float32]
    class_id: NDArray[np.int16]
    run_start: NDArray[np.int64]
    runs: NDArray[np.int16]
    first_row: int = 0


@dataclass(frozen=True)
class LookAhead:
    """One frame's forecasts, candidate pairs and match; see :meth:`Tracker.look_ahead`."""

    living: Living
    count: int
    found: FrameBoxes
    unseen: Float
    forecast: NDArray[np.float32]
    track: NDArray[np.int64]
    detection: NDArray[np.int64]
    cost: Float
    match: NDArray[np.int64]
    margin: Float


class Tracker:
    """Links detections, frame after frame.

    Parameters
    ----------
    settings : TrackSettings
    size : (width, height) px
        A coasting track that has left this frame is given up.
    rate : float, frames/s
        Nominal rate of the footage: says how many pictures a new track must be seen in.
    """

    def __init__(self, settings: TrackSettings, size: tuple[int, int], rate: float) -> None:
        self.settings = settings
        self.size = size
        wanted = settings.life.hits_to_confirm
        self._hits = max(min(LEAST_HITS, wanted), round(wanted * min(1.0, rate / FRAME_RATE)))
        match = settings.match
        self._weights = np.array(
            [match.distance_weight, match.overlap_weight, match.direction_weight, match.size_weight]
        )
        if self._weights.sum() <= 0:
            self._weights[0] = 1.0
        self._living = Living()
        self._rows = TrackRows()
        self._born = 0
        self._time: float | None = None
        self._before = 0.0

    def step(self, time: float, found: FrameBoxes) -> None:
        """Take in the detections of the next frame, at ``time`` s."""
        living, settings = self._living, self.settings
        self._expire(time)
        n = living.count
        unseen = self._predict(time)
        forecast = forecast_boxes(living.mean[:n])
        track, detection, cost, distance, nearest = self._candidates(found, forecast, unseen)
        match = self._match(track, detection, cost, found)
        room = margins(track, detection, cost, match, len(found.box))
        link, seen, hidden = match.copy(), match >= 0, np.zeros(n, np.bool_)
        apart, nis = np.full(n, np.nan), np.full(n, np.nan)
        _own_distance(track, detection, distance, match, apart)
        alone = np.ones(n, np.bool_)
        if settings.blobs.share and n:
            self._share(found, forecast, unseen, match, link, seen, hidden, alone, nis)
        self._correct(found, match, alone, nis)
        if settings.motion.size_doubt > 0:
            regrow(living.mean, living.usual, seen | hidden, living.seen_at, self._before)
        living.hits[:n] += seen
        living.seen_at[:n][seen] = time
        living.seen[:n][seen] = living.mean[:n][seen][:, [0, 1, 4, 5]]
        living.hidden[:n] = hidden
        mark_edges(living.mean, seen, living.at_edge, *map(float, self.size))
        newly = ~living.believed[:n] & (living.hits[:n] >= self._hits)
        if newly.any():
            living.believed[:n] |= newly
            self._rows.believe(living.number[:n][newly])
        self._note(found, link, seen, apart, room, nis)
        missed = living.believed[:n] & ~seen & np.isfinite(nearest)
        if missed.any():
            self._rows.refuse(nearest[missed])
        self._bury(time, seen, hidden)
        self._bear(found, match, time)
        self._rows.end_frame()

    def look_ahead(self, time: float, found: FrameBoxes) -> LookAhead:
        """What the next frame's detections are up against: forecasts, pairs within the gate and the match.

        The filters are moved on by this, so a tracker that was asked is not to be stepped any more.
        """
        self._expire(time)
        unseen = self._predict(time)
        forecast = forecast_boxes(self._living.mean[: self._living.count])
        track, detection, cost, _, _ = self._candidates(found, forecast, unseen)
        match = self._match(track, detection, cost, found)
        room = margins(track, detection, cost, match, len(found.box))
        return LookAhead(self._living, self._living.count, found, unseen, forecast, track, detection, cost, match, room)

    def tracks(self, class_names: tuple[str, ...] = ("animal",)) -> Tracks:
        """Everything linked so far; tracks that were never believed are left out."""
        return self._rows.tracks(self.size, class_names)

    # --- one step in parts ------------------------------------------------------------------------------------

    def _expire(self, time: float) -> None:
        """Give up what has been unseen for too long by now: after a hole in the footage nothing goes on."""
        living = self._living
        patience = self.settings.life.longest_gap * np.where(living.hidden[: living.count], HIDDEN_PATIENCE, 1.0)
        waited = time - living.seen_at[: living.count]
        if (waited > patience + LEAST_PATIENCE).any():
            living.keep(waited <= patience + LEAST_PATIENCE)

    def _predict(self, time: float) -> Float:
        """Move all filters on; returns the frames since each was last seen."""
        living, motion = self._living, self.settings.motion
        frames = 0.0 if self._time is None else max(0.0, time - self._time) * FRAME_RATE
        self._before = time if self._time is None else self._time
        self._time = time if self._time is None else max(time, self._time)
        unseen = np.maximum(time - living.seen_at[: living.count], 0.0) * FRAME_RATE
        fading = np.where(living.hidden[: living.count], 0.0, unseen / max(frames, 1.0))
        predict(
            living.mean, living.cov, living.count, frames, motion.jumpiness, motion.size_noise, motion.size_scaling,
            motion.model == "pushed", fading, motion.fade * FRAME_RATE,
        )  # fmt: skip
        return unseen

    def _candidates(self, found: FrameBoxes, forecast: NDArray[np.float32], unseen: Float):  # type: ignore[no-untyped-def]
        living, settings = self._living, self.settings
        match = settings.match
        wait = np.minimum(unseen / max(settings.life.longest_gap * FRAME_RATE, 1e-6), 1.0)
        return find_candidates(
            living.mean, living.cov, living.seen, living.count, forecast, found.box, living.class_id, found.class_id,
            match.same_class, unseen, wait, settings.motion.box_noise,
            settings.motion.size_scaling, match.gate, match.farthest, match.overlap == "generalised", self._weights,
        )  # fmt: skip

    def _match(
        self, track: NDArray[np.int64], detection: NDArray[np.int64], cost: Float, found: FrameBoxes
    ) -> NDArray[np.int64]:
        """Believed tracks choose first among sure detections, then among weak ones; tentative ones take the rest."""
        n, m = self._living.count, len(found.box)
        match = np.full(n, -1, np.int64)
        if len(track) == 0:
            return match
        believed = self._living.believed[:n][track]
        sure = (found.confidence >= self.settings.match.sure_from)[detection]
        free = np.ones(m, np.bool_)
        for use in (believed & sure, believed & ~sure, ~believed):
            if not use.any():
                continue
            use = use & (match[track] < 0) & free[detection]
            if self.settings.match.assignment == "greedy":
                assign_greedy(track, detection, cost, use, m, match)
            else:
                assign_groups(track, detection, cost, use, n, m, match)
            free[match[match >= 0]] = False
        return match

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
        """Share blobs among the animals expected in them, and correct their filters by what was seen of each."""
        living, n = self._living, self._living.count
        lonely = living.believed[:n] & ~seen & (living.hidden[:n] | (unseen <= GUEST_AFTER))
        if not lonely.any():
            return
        guest = sharers(forecast, found.box, lonely, match, self.settings.blobs.least_cover)
        for d in np.unique(guest[guest >= 0]).tolist():
            members = np.flatnonzero((guest == d) | (match == d))
            if len(members) == 1:
                # Nobody has the blob: it is too far from the forecast's middle, yet it covers it. Believe in hiding.
                hidden[members] = True
                continue
            members = members[:MOST_SHARERS]
            runs = found.runs[int(found.run_start[d]) : int(found.run_start[d + 1])]
            firm = share_blob(
                living.mean, living.cov, members, runs, found.box[d], self.settings.motion.box_noise,
                self.settings.motion.size_scaling, nis,
            )  # fmt: skip
            alone[members] = False
            link[members] = d
            seen[members] = firm
            hidden[members] = True

    def _correct(self, found: FrameBoxes, match: NDArray[np.int64], alone: NDArray[np.bool_], nis: Float) -> None:
        living, motion = self._living, self.settings.motion
        width, height = self.size
        correct_alone(
            living.mean, living.cov, living.usual, match, alone, found.box, found.confidence, motion.box_noise,
            motion.size_scaling, motion.size_doubt, motion.weak_doubt, float(width), float(height), nis,
        )  # fmt: skip

    def _note(
        self,
        found: FrameBoxes,
        link: NDArray[np.int64],
        seen: NDArray[np.bool_],
        apart: Float,
        room: Float,
        nis: Float,
    ) -> None:
        """Write this frame's rows: those seen, and believed ones that are not, as coasting."""
        living, rows = self._living, self._rows
        rows.room_for(living.count)
        wrote = write_rows(
            rows.count, living.count, living.number, living.mean, living.believed, living.class_id, link, seen,
            found.confidence, apart, room, nis, found.first_row, *rows.columns.values(),
        )  # fmt: skip
        rows.wrote(wrote)

    def _bury(self, time: float, seen: NDArray[np.bool_], hidden: NDArray[np.bool_]) -> None:
        """Give up tentative tracks that missed a frame, and coasting ones past their gap or out of the picture."""
        living = self._living
        n = living.count
        inside = hold_inside(living.mean, n, living.at_edge, *map(float, self.size))
        patience = self.settings.life.longest_gap * np.where(hidden, HIDDEN_PATIENCE, 1.0)
        patient = time - living.seen_at[:n] <= patience + 1e-9
        living.keep(seen | (living.believed[:n] & patient & inside))

    def _bear(self, found: FrameBoxes, match: NDArray[np.int64], time: float) -> None:
        """Start a tentative track on every free, sure detection that does not cover a believed track."""
        living, rows = self._living, self._rows
        free = found.confidence >= self.settings.match.sure_from
        free[match[match >= 0]] = False
        if free.any() and living.count:
            believed = living.believed[: living.count]
            refuse_covered(found.box, forecast_boxes(living.mean[: living.count][believed]), COVERED, free)
        at = np.flatnonzero(free)
        if len(at) == 0:
            return
        measured = centre_and_size(found.box[at])
        mean, cov = new_filters(measured, self.settings.motion.box_noise, self.settings.motion.size_scaling)
        first = living.count
        living.add(
            number=self._born + np.arange(len(at), dtype=np.int32), mean=mean, cov=cov,
            hits=np.ones(len(at), np.int32), believed=np.full(len(at), self._hits <= 1),
            seen_at=np.full(len(at), time), class_id=found.class_id[at],
            usual=measured[:, 2:], seen=mean[:, [0, 1, 4, 5]], hidden=np.zeros(len(at), np.bool_),
            at_edge=np.ones(len(at), np.bool_),
        )  # fmt: skip
        self._born += len(at)
        born = slice(first, living.count)
        if self._hits <= 1:
            rows.believe(living.number[born])
        rows.room_for(len(at))
        none = np.full(len(at), np.nan)
        wrote = write_rows(
            rows.count, len(at), living.number[born], living.mean[born], living.believed[born], living.class_id[born],
            at, np.ones(len(at), np.bool_), found.confidence, none, none, none, found.first_row,
            *rows.columns.values(),
        )  # fmt: skip
        rows.wrote(wrote)


# --- kernels -----------------------------------------------------------------------------------------------


@njit(cache=True, nogil=True)
def _own_distance(
    track: NDArray[np.int64], detection: NDArray[np.int64], distance: Float, match: NDArray[np.int64], out: Float
) -> None:  # pragma: no cover
    for e in range(track.shape[0]):
        if match[track[e]] == detection[e]:
            out[track[e]] = distance[e]


@njit(cache=True, nogil=True)
def correct_alone(
    mean: Float,
    cov: Float,
    usual: Float,
    match: NDArray[np.int64],
    alone: NDArray[np.bool_],
    box: NDArray[np.float32],
    confidence: NDArray[np.float32],
    box_noise: float,
    scaling: float,
    doubt: float,
    weak_doubt: float,
    width: float,
    height: float,
    nis: Float,
) -> None:  # pragma: no cover
    """Correct each track that has a detection to itself."""
    measured, spread = np.empty(4), np.empty(4)
    for k in range(match.shape[0]):
        if match[k] < 0 or not alone[k]:
            continue
        noise = box_noise * scale_of(mean[k, 2], mean[k, 3], scaling)
        weakness = weak_doubt * (1.0 - min(max(float(confidence[match[k]]), 0.0), 1.0))
        measure(mean, usual, k, box, match[k], noise, doubt, weakness, width, height, measured, spread)
        nis[k] = update(mean, cov, k, measured, spread)


@njit(cache=True, nogil=True)
def share_blob(
    mean: Float,
    cov: Float,
    members: NDArray[np.int64],
    runs: NDArray[np.int16],
    box: NDArray[np.float32],
    box_noise: float,
    scaling: float,
    nis: Float,
) -> NDArray[np.bool_]:  # pragma: no cover
    """Share a blob among its members and correct their centres; which of them were seen at all."""
    table, x0, y0 = pixel_table(runs, box)
    n = members.shape[0]
    expected, size, spread = np.empty((n, 2)), np.empty((n, 2)), np.empty((n, 2))
    for i in range(n):
        k = members[i]
        noise = box_noise * scale_of(mean[k, 2], mean[k, 3], scaling)
        for axis in range(2):
            expected[i, axis] = mean[k, axis] - (x0 if axis == 0 else y0)
            size[i, axis] = max(mean[k, 2 + axis], 2.0)
            spread[i, axis] = np.sqrt(cov[k, 6 * axis] + noise * noise)
    at, firmness = fit_boxes(table, expected, size, spread)
    firm = np.zeros(n, np.bool_)
    measured, noises = np.empty(4), np.full(4, np.inf)
    for i in range(n):
        k = members[i]
        noise = box_noise * scale_of(mean[k, 2], mean[k, 3], scaling)
        for axis in range(2):
            measured[axis] = at[i, axis] + (x0 if axis == 0 else y0)
            sits = firmness[i, axis] >= LEAST_FIRMNESS
            noises[axis] = 1.2 * noise / np.sqrt(firmness[i, axis]) if sits else np.inf
            firm[i] |= sits
        if firm[i]:
            nis[k] = update(mean, cov, k, measured, noises)
    return firm


@njit(cache=True, nogil=True)
def regrow(
    mean: Float, usual: Float, seen: NDArray[np.bool_], seen_at: Float, before: float
) -> None:  # pragma: no cover
    """Give a track that has just gone out of sight its usual size again.

    It went behind something: what was seen last was its rear part, so the rear side stays where it is.
    """
    for k in range(seen.shape[0]):
        if seen[k] or seen_at[k] < before - 1e-9:
            continue
        for axis in range(2):
            more = usual[k, axis] - mean[k, 2 + axis]
            if more > 0:
                mean[k, 2 + axis] = usual[k, axis]
                mean[k, axis] += 0.5 * more * np.sign(mean[k, 4 + axis])


@njit(cache=True, nogil=True)
def mark_edges(
    mean: Float, seen: NDArray[np.bool_], at_edge: NDArray[np.bool_], width: float, height: float
) -> None:  # pragma: no cover
    """Note of each track that is seen whether it is within its own size of the picture's edge."""
    for k in range(seen.shape[0]):
        if seen[k]:
            x, y, w, h = mean[k, 0], mean[k, 1], mean[k, 2], mean[k, 3]
            at_edge[k] = x < 1.5 * w or x > width - 1.5 * w or y < 1.5 * h or y > height - 1.5 * h


@njit(cache=True, nogil=True)
def hold_inside(
    mean: Float, count: int, at_edge: NDArray[np.bool_], width: float, height: float
) -> NDArray[np.bool_]:  # pragma: no cover
    """Which tracks are inside the picture; one that was last seen well inside is held there, standing."""
    out = np.ones(count, np.bool_)
    for k in range(count):
        for axis in range(2):
            most = width if axis == 0 else height
            if 0.0 < mean[k, axis] < most:
                continue
            if at_edge[k]:
                out[k] = False
            else:
                mean[k, axis] = min(max(mean[k, axis], 1.0), most - 1.0)
                mean[k, 4 + axis] = 0.0
    return out


@njit(cache=True, nogil=True)
def refuse_covered(
    box: NDArray[np.float32], forecast: NDArray[np.float32], share: float, free: NDArray[np.bool_]
) -> None:  # pragma: no cover
    """Take those boxes from the free ones that cover at least ``share`` of some forecast, in place."""
    for d in range(box.shape[0]):
        if not free[d]:
            continue
        for k in range(forecast.shape[0]):
            width = min(forecast[k, 2], box[d, 2]) - max(forecast[k, 0], box[d, 0])
            height = min(forecast[k, 3], box[d, 3]) - max(forecast[k, 1], box[d, 1])
            area = max((forecast[k, 2] - forecast[k, 0]) * (forecast[k, 3] - forecast[k, 1]), 1.0)
            if width > 0 and height > 0 and width * height >= share * area:
                free[d] = False
                break
