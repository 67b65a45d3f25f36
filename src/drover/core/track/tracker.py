"""The Track stage: one class, one ``step`` a frame; a whole clip is the fold of steps."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import NDArray

from drover.core.geometry import overlap_matrix
from drover.core.recipe import TrackSettings
from drover.core.track.matching import assign, match_costs, match_distances
from drover.core.track.motion import centre_and_size, forecast_boxes, new_filters, predict, update
from drover.core.track.rows import TrackRows
from drover.core.types import Tracks, TrackState

__all__ = ["VERSION", "Tracker"]

VERSION = 1
COVERED = 0.5  # a detection that covers this share of a living track's forecast starts no track of its own


@dataclass
class _Living:
    """The tracks now alive, a row each."""

    number: NDArray[np.int32]
    mean: NDArray[np.float64]
    cov: NDArray[np.float64]
    hits: NDArray[np.int32]
    confirmed: NDArray[np.bool_]
    unseen_since: NDArray[np.float64]
    class_id: NDArray[np.int16]

    @staticmethod
    def none() -> _Living:
        mean, cov = new_filters(np.zeros((0, 4)), 1.0)
        return _Living(
            np.zeros(0, np.int32),
            mean,
            cov,
            np.zeros(0, np.int32),
            np.zeros(0, np.bool_),
            np.zeros(0),
            np.zeros(0, np.int16),
        )

    def keep(self, rows: NDArray[np.bool_]) -> _Living:
        return _Living(*(getattr(self, field.name)[rows] for field in fields(self)))

    def plus(self, other: _Living) -> _Living:
        return _Living(*(np.concatenate([getattr(self, f.name), getattr(other, f.name)]) for f in fields(self)))


class Tracker:
    """Links detections, frame after frame.

    Parameters
    ----------
    settings : TrackSettings
    size : (width, height) px
        A coasting track that has left this frame is given up.
    rate : float, frames/s
        Nominal rate: turns elapsed seconds into the frames that the noise settings speak of.
    """

    def __init__(self, settings: TrackSettings, size: tuple[int, int], rate: float) -> None:
        self.settings = settings
        self.size = size
        self.rate = rate
        self._living = _Living.none()
        self._rows = TrackRows()
        self._born = 0
        self._time: float | None = None

    def step(
        self,
        time: float,
        box: NDArray[np.float32],
        confidence: NDArray[np.float32],
        class_id: NDArray[np.int16],
        *,
        first_row: int = 0,
    ) -> None:
        """Take in the detections of the next frame.

        Parameters
        ----------
        time : float, s
        box : (n, 4) float32, px
        confidence : (n,) float32
        class_id : (n,) int16
        first_row : int
            Row of the first of them in the whole table, for tracing a link back.
        """
        settings = self.settings
        measured = centre_and_size(box)
        self._predict(time)
        living = self._living
        forecast = forecast_boxes(living.mean)
        distance = match_distances(living.mean, living.cov, measured, settings.motion.box_noise)
        track, detection = self._match(distance, overlap_matrix(forecast, box), time)
        motion = settings.motion
        chosen = np.ascontiguousarray(measured[detection])
        update(living.mean, living.cov, track, chosen, motion.box_noise, motion.size_doubt)
        living.hits[track] += 1
        living.unseen_since[track] = time
        living.confirmed |= living.hits >= settings.life.hits_to_confirm
        self._note(distance, track, detection, confidence, first_row)
        self._bury(time, track)
        free = np.ones(len(box), np.bool_)
        free[detection] = False
        self._bear(box, measured, confidence, class_id, free, time, first_row)
        self._rows.end_frame()

    def tracks(self, class_names: tuple[str, ...] = ("animal",)) -> Tracks:
        """Everything linked so far; tracks that were never believed are left out."""
        return self._rows.tracks(self.size, class_names)

    # --- one step in parts ------------------------------------------------------------------------------------

    def _predict(self, time: float) -> None:
        frames = 0.0 if self._time is None else max(0.0, time - self._time) * self.rate
        self._time = time
        motion = self.settings.motion
        predict(self._living.mean, self._living.cov, frames, motion.jumpiness, motion.size_noise)

    def _match(
        self, distance: NDArray[np.float64], overlap: NDArray[np.float64], time: float
    ) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Believed tracks choose first, tentative ones from what is left."""
        living, match = self._living, self.settings.match
        wait = np.clip((time - living.unseen_since) / max(self.settings.life.longest_gap, 1e-6), 0, 1)
        cost = match_costs(distance, overlap, wait, gate=match.gate, overlap_weight=match.overlap_weight)
        believed = np.flatnonzero(living.confirmed)
        rows, columns = assign(cost[believed])
        rows = believed[rows]
        tentative = np.flatnonzero(~living.confirmed)
        if len(tentative) == 0:
            return rows, columns
        left = np.setdiff1d(np.arange(distance.shape[1]), columns)
        more, at = assign(cost[np.ix_(tentative, left)])
        return np.concatenate([rows, tentative[more]]), np.concatenate([columns, left[at]])

    def _note(
        self,
        distance: NDArray[np.float64],
        track: NDArray[np.int64],
        detection: NDArray[np.int64],
        confidence: NDArray[np.float32],
        first_row: int,
    ) -> None:
        """Write this frame's rows: matched tracks as seen, believed ones without a match as coasting."""
        living = self._living
        n = len(living.number)
        matched = np.full(n, -1, np.int64)
        matched[track] = detection
        found = matched >= 0
        believed = living.confirmed
        state = np.where(found, np.where(believed, TrackState.CONFIRMED, TrackState.TENTATIVE), TrackState.COASTING)
        shown = found | believed
        sure, gap = np.zeros(n, np.float32), np.full(n, np.nan, np.float32)
        sure[track], gap[track] = confidence[detection], distance[track, detection]
        self._rows.add(
            number=living.number[shown],
            box=forecast_boxes(living.mean[shown]),
            state=state[shown].astype(np.int8),
            detection=np.where(found, matched + first_row, -1)[shown].astype(np.int32),
            confidence=sure[shown],
            class_id=living.class_id[shown],
            distance=gap[shown],
        )
        self._rows.believe(living.number[believed])
        missed = believed & ~found
        if distance.shape[1] and missed.any():
            self._rows.refuse(distance[missed].min(axis=1).astype(np.float32))

    def _bury(self, time: float, track: NDArray[np.int64]) -> None:
        """Give up tentative tracks that missed a frame, and coasting ones past their gap or out of the picture."""
        living = self._living
        seen = np.zeros(len(living.number), np.bool_)
        seen[track] = True
        width, height = self.size
        x, y = living.mean[:, 0], living.mean[:, 1]
        inside = (x > 0) & (x < width) & (y > 0) & (y < height)
        patient = time - living.unseen_since <= self.settings.life.longest_gap + 1e-9
        self._living = living.keep(seen | (living.confirmed & patient & inside))

    def _bear(
        self,
        box: NDArray[np.float32],
        measured: NDArray[np.float64],
        confidence: NDArray[np.float32],
        class_id: NDArray[np.int16],
        free: NDArray[np.bool_],
        time: float,
        first_row: int,
    ) -> None:
        """Start a tentative track on every free detection that does not cover a believed track."""
        living = self._living
        believed = living.confirmed
        if free.any() and believed.any():
            free = free & ~_covers(box, forecast_boxes(living.mean[believed]))
        rows = np.flatnonzero(free)
        if len(rows) == 0:
            return
        mean, cov = new_filters(measured[rows], self.settings.motion.box_noise)
        number = self._born + np.arange(len(rows), dtype=np.int32)
        self._born += len(rows)
        confirmed = np.full(len(rows), self.settings.life.hits_to_confirm <= 1)
        newborn = _Living(
            number,
            mean,
            cov,
            np.ones(len(rows), np.int32),
            confirmed,
            np.full(len(rows), time),
            class_id[rows].astype(np.int16),
        )
        self._living = living.plus(newborn)
        self._rows.add(
            number=number,
            box=np.ascontiguousarray(box[rows], np.float32),
            state=np.where(confirmed, TrackState.CONFIRMED, TrackState.TENTATIVE).astype(np.int8),
            detection=(rows + first_row).astype(np.int32),
            confidence=confidence[rows],
            class_id=newborn.class_id,
            distance=np.full(len(rows), np.nan, np.float32),
        )
        self._rows.believe(number[confirmed])


def _covers(box: NDArray[np.float32], forecast: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Which boxes cover at least ``COVERED`` of some forecast."""
    low = np.maximum(box[:, None, :2], forecast[None, :, :2])
    high = np.minimum(box[:, None, 2:], forecast[None, :, 2:])
    shared = np.clip(high - low, 0, None).prod(axis=2)
    area = np.maximum((forecast[:, 2:] - forecast[:, :2]).prod(axis=1), 1.0)
    return np.asarray((shared / area[None, :]).max(axis=1) >= COVERED)
