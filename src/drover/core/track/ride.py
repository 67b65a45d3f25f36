"""One identity's filter ridden along its detections: what it expected, what it made of it, how far off it was.

The filter is the tracker's own, step by step the same; noises and model may be others, and faults may be put into the
detections, to see what it would make of them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.recipe import MotionSettings, is_auto
from drover.core.track.correcting import correct_alone, regrow
from drover.core.track.filters import FRAME_RATE, REFERENCE_SIZE, centre_and_size, new_filters, predict, scale_of
from drover.core.track.smoothing import START_SPEED, measured_boxes, smooth_line
from drover.core.track.turning import new_modes, predict_turning
from drover.core.types import Detections, Tracks, TrackState

__all__ = ["FAULTS", "Fault", "Measured", "Ride", "Trade", "forecast", "measured_of", "ride", "trade", "with_fault"]

Float = NDArray[np.float64]
Fault = Literal["none", "light noise", "heavy noise", "no detections", "blackout"]
FAULTS: tuple[Fault, ...] = ("none", "light noise", "heavy noise", "no detections", "blackout")
NOISE = {"light noise": 0.05, "heavy noise": 0.3}  # sizes, one standard deviation
HORIZON = 25  # frames ahead that forecasts are judged at
MOST_JUDGED = 500  # frames that forecasts are judged from, evenly spread: those beside each other say the same
TRADE = np.geomspace(0.01, 20.0, 25)  # px/frame²: jumpiness tried for the trade


@dataclass(frozen=True)
class Measured:
    """What was measured of one identity in each frame of its life.

    ``frame`` (n,) int64, ``time`` (n,) s, ``box`` (n, 4) float32 px, ``seen`` (n,) whether it was, ``confidence`` (n,)
    float32; ``there`` (n,) whether there was a picture at all; ``size`` of the picture, px.
    """

    frame: NDArray[np.int64]
    time: Float
    box: NDArray[np.float32]
    seen: NDArray[np.bool_]
    confidence: NDArray[np.float32]
    there: NDArray[np.bool_]
    size: tuple[int, int]

    def __len__(self) -> int:
        return len(self.frame)

    @property
    def centre(self) -> Float:
        """(n, 2) px, NaN where it was not seen."""
        out = centre_and_size(self.box)[:, :2]
        out[~(self.seen & self.there)] = np.nan
        return out


@dataclass(frozen=True)
class Ride:
    """What a filter made of it, frame by frame; NaN where there is nothing to say.

    ``expected`` and ``filtered`` (n, 2) px with their standard deviations ``expected_spread`` and ``spread``; ``speed``
    (n, 2) px/s; ``off`` (n, 2) px what the measurement was away from what was expected, ``off_spread`` what is usual;
    ``nis`` (n,) its normalised square; ``smooth`` (n, 2) px with what came after; ``ahead`` (n, HORIZON) px how far
    forecasts were from what then happened, of at most MOST_JUDGED frames; ``states`` of the filter after each frame.
    """

    expected: Float
    expected_spread: Float
    filtered: Float
    spread: Float
    speed: Float
    off: Float
    off_spread: Float
    nis: Float
    smooth: Float
    ahead: NDArray[np.float32]
    states: tuple[Float, Float, Float]

    def errors_ahead(self) -> tuple[Float, Float]:
        """Mean error at each horizon, px, and that which nine in ten stay under; NaN where nothing happened then."""
        known = np.isfinite(self.ahead).sum(axis=0)
        some = np.maximum(known, 1)
        mean = np.nansum(self.ahead, axis=0, dtype=np.float64) / some
        ranked = np.sort(self.ahead, axis=0)  # what is not known comes last
        most = ranked[np.ceil(0.9 * some).astype(np.int64) - 1, np.arange(self.ahead.shape[1])].astype(np.float64)
        return np.where(known > 0, mean, np.nan), np.where(known > 0, most, np.nan)


@dataclass(frozen=True)
class Trade:
    """Jumpiness tried, and for each how rough the way is (px/frame²), its error against a reference (px) and its lag
    (s); ``best`` is the place of the least error.
    """

    jumpiness: Float
    rough: Float
    error: Float
    lag: Float
    best: int


def measured_of(tracks: Tracks, detections: Detections, times: Float, identity: int) -> Measured | None:
    """What was measured of an identity; None where there is none, or it was never seen."""
    path = tracks.path_of(identity)
    seen = path[tracks.state[path] != TrackState.COASTING]
    if not len(seen):
        return None
    first, last = int(tracks.frame[seen[0]]), int(tracks.frame[seen[-1]])
    frame = np.arange(first, last + 1)
    box = np.zeros((len(frame), 4), np.float32)
    sure, there = np.zeros(len(frame), np.float32), np.zeros(len(frame), np.bool_)
    at = tracks.frame[seen] - first
    box[at], sure[at], there[at] = measured_boxes(tracks, detections)[seen], tracks.confidence[seen], True
    return Measured(frame, times[frame], box, there, sure, np.ones(len(frame), np.bool_), tracks.size)


def with_fault(measured: Measured, fault: Fault, span: tuple[float, float], seed: int = 1) -> Measured:
    """The same with a fault between two times, s; what begins the track stays as it is."""
    mine = (measured.time >= span[0]) & (measured.time <= span[1])
    mine[0] = False
    if fault == "none" or not mine.any():
        return measured
    if fault in NOISE:
        side = np.sqrt(np.maximum((measured.box[:, 2:] - measured.box[:, :2]).prod(axis=1), 1.0))
        shift = np.random.default_rng(seed).normal(0.0, NOISE[fault], (len(measured), 2)) * side[:, None]
        shift[~mine] = 0.0
        return replace(measured, box=(measured.box + np.tile(shift, 2)).astype(np.float32))
    if fault == "no detections":
        return replace(measured, seen=measured.seen & ~mine)
    return replace(measured, there=measured.there & ~mine)


def ride(measured: Measured, settings: MotionSettings, jumpiness: float | None = None) -> Ride:
    """The filter of these settings along the measurements; ``jumpiness`` px/frame² stands in for the settings' own."""
    push = jumpiness if jumpiness is not None else settings.jumpiness
    if is_auto(push) or is_auto(settings.box_noise):
        raise ValueError("a noise that is left to the clip has to be worked out first")
    first = centre_and_size(measured.box[:1])
    mean, cov = new_filters(first, settings.box_noise, settings.size_scaling)
    turning = settings.model == "turning"
    mode = new_modes(cov) if turning else np.zeros((1, 0))
    n = len(measured)
    states = np.zeros((n, mean.shape[1])), np.zeros((n, cov.shape[1])), np.zeros((n, mode.shape[1]))
    expected, nis, ahead = np.full((n, 4), np.nan), np.full(n, np.nan), np.full((n, HORIZON), np.nan, np.float32)
    kind = 2 if turning else 1 if settings.model == "pushed" else 0
    ride_along(
        measured.time, measured.box, measured.confidence, measured.seen, measured.there, mean, cov, mode, kind, push,
        settings.size_noise, settings.size_scaling, np.radians(settings.turn_rate) / FRAME_RATE,
        settings.fade * FRAME_RATE, settings.box_noise, settings.size_doubt, settings.weak_doubt,
        float(measured.size[0]), float(measured.size[1]), *states, expected, nis, ahead,
    )  # fmt: skip
    return _as_ride(measured, settings, push, states, expected, nis, ahead)


def _as_ride(
    measured: Measured,
    settings: MotionSettings,
    push: float,
    states: tuple[Float, Float, Float],
    expected: Float,
    nis: Float,
    ahead: NDArray[np.float32],
) -> Ride:
    mean, cov, _ = states
    gone = ~measured.there
    filtered, spread, speed = mean[:, :2].copy(), np.sqrt(cov[:, [0, 6]]), mean[:, 4:6] * FRAME_RATE
    for column in (filtered, spread, speed):
        column[gone] = np.nan
    off = measured.centre - expected[:, :2]
    sides = np.sqrt(np.maximum(mean[:, 2:4], 1.0).prod(axis=1)) / REFERENCE_SIZE
    scale = np.clip(sides, 0.2, 5.0) ** settings.size_scaling  # as scale_of has it
    off_spread = np.sqrt(expected[:, 2:] ** 2 + (settings.box_noise * scale[:, None]) ** 2)
    return Ride(
        expected[:, :2], expected[:, 2:], filtered, spread, speed, off, off_spread, nis,
        _smooth(measured, settings, push), ahead, states,
    )  # fmt: skip


def _smooth(measured: Measured, settings: MotionSettings, push: float) -> Float:
    """The way with what came after as well, as finished tracks are smoothed."""
    whole = centre_and_size(measured.box)
    seen = measured.seen & measured.there
    width, height = np.median(whole[seen, 2:], axis=0)
    scale, speed = scale_of(width, height, settings.size_scaling), START_SPEED * np.sqrt(max(width * height, 1.0))
    at = measured.time * FRAME_RATE
    lines = [smooth_line(at, whole[:, c], seen, push * scale, settings.box_noise * scale, speed) for c in range(2)]
    return np.column_stack(lines)


@njit(cache=True, nogil=True)
def ride_along(
    time: Float, box: NDArray[np.float32], confidence: NDArray[np.float32], seen: NDArray[np.bool_],
    there: NDArray[np.bool_], mean: Float, cov: Float, mode: Float, kind: int, jumpiness: float, size_noise: float,
    scaling: float, turn: float, fade: float, box_noise: float, doubt: float, weak_doubt: float, right: float,
    bottom: float, means: Float, covs: Float, modes: Float, expected: Float, nis: Float,
    ahead: NDArray[np.float32],
) -> None:  # pragma: no cover  # fmt: skip
    """Step one filter through all frames, in place: its state after each, what it expected, and its forecasts."""
    usual, match, alone = np.empty((1, 2)), np.zeros(1, np.int64), np.ones(1, np.bool_)
    usual[0, 0], usual[0, 1] = mean[0, 2], mean[0, 3]
    one, seen_at, fading, sees = np.zeros(1), np.array([time[0]]), np.zeros(1, np.bool_), np.ones(1, np.bool_)
    before, every = time[0], 1 + time.shape[0] // MOST_JUDGED
    for k in range(time.shape[0]):
        if not there[k]:
            continue
        if k > 0:
            frames = (time[k] - before) * FRAME_RATE
            fading[0] = seen_at[0] < before - 1e-9
            _move(mean, cov, mode, kind, frames, jumpiness, size_noise, scaling, turn, fading, fade)
            for axis in range(2):
                expected[k, axis], expected[k, 2 + axis] = mean[0, axis], np.sqrt(cov[0, 6 * axis])
            sees[0] = seen[k]
            if seen[k]:
                match[0], one[0] = k, np.nan
                correct_alone(
                    mean,
                    cov,
                    mode,
                    usual,
                    match,
                    alone,
                    box,
                    confidence,
                    box_noise,
                    scaling,
                    doubt,
                    weak_doubt,
                    0.0,
                    0.0,
                    right,
                    bottom,
                    frames,
                    one,
                    0,
                    1,
                )
                nis[k] = one[0]
            if doubt > 0:
                regrow(mean, usual, sees, seen_at, before)
            if seen[k]:
                seen_at[0] = time[k]
            before = time[k]
        means[k], covs[k], modes[k] = mean[0], cov[0], mode[0]
        if k % every == 0:
            _look_ahead(
                k, time, box, seen, mean, cov, mode, kind, jumpiness, size_noise, scaling, turn, fade, seen_at[0], ahead
            )


@njit(cache=True, nogil=True)
def _move(
    mean: Float, cov: Float, mode: Float, kind: int, frames: float, jumpiness: float, size_noise: float,
    scaling: float, turn: float, fading: NDArray[np.bool_], fade: float,
) -> None:  # pragma: no cover  # fmt: skip
    if kind == 2:
        predict_turning(mean, cov, mode, 1, frames, jumpiness, size_noise, scaling, turn, fading, fade)
    else:
        predict(mean, cov, 1, frames, jumpiness, size_noise, scaling, kind == 1, fading, fade)


@njit(cache=True, nogil=True)
def _look_ahead(
    k: int, time: Float, box: NDArray[np.float32], seen: NDArray[np.bool_], mean: Float, cov: Float, mode: Float,
    kind: int, jumpiness: float, size_noise: float, scaling: float, turn: float, fade: float, seen_at: float,
    ahead: NDArray[np.float32],
) -> None:  # pragma: no cover  # fmt: skip
    """How far the forecast from frame ``k`` is from what was measured in each frame after it, px."""
    m, c, o = mean.copy(), cov.copy(), mode.copy()
    fading, before = np.zeros(1, np.bool_), time[k]
    for h in range(ahead.shape[1]):
        j = k + 1 + h
        if j >= time.shape[0]:
            return
        fading[0] = seen_at < before - 1e-9
        _move(m, c, o, kind, (time[j] - before) * FRAME_RATE, jumpiness, size_noise, scaling, turn, fading, fade)
        before = time[j]
        if seen[j]:
            x = 0.5 * (np.float64(box[j, 0]) + np.float64(box[j, 2])) - m[0, 0]
            y = 0.5 * (np.float64(box[j, 1]) + np.float64(box[j, 3])) - m[0, 1]
            ahead[k, h] = np.sqrt(x * x + y * y)


def forecast(
    measured: Measured, made: Ride, settings: MotionSettings, jumpiness: float, frame: int, frames: int
) -> Float:
    """Where the filter expects it in each of the next ``frames`` after a frame, (frames, 4): x, y and their spreads."""
    k = frame - int(measured.frame[0])
    if not 0 <= k < len(measured) or not measured.there[k]:
        return np.zeros((0, 4))
    mean, cov, mode = (column[k : k + 1].copy() for column in made.states)
    kind = 2 if settings.model == "turning" else 1 if settings.model == "pushed" else 0
    usual = float(np.median(np.diff(measured.time))) if len(measured) > 1 else 1.0 / FRAME_RATE
    out, fading = np.empty((frames, 4)), np.zeros(1, np.bool_)
    for h in range(frames):
        fading[0] = h > 0 or not bool(measured.seen[k])
        _move(
            mean, cov, mode, kind, usual * FRAME_RATE, jumpiness, settings.size_noise, settings.size_scaling,
            np.radians(settings.turn_rate) / FRAME_RATE, fading, settings.fade * FRAME_RATE,
        )  # fmt: skip
        out[h] = (*mean[0, :2], *np.sqrt(cov[0, [0, 6]]))
    return out


def trade(measured: Measured, settings: MotionSettings, reference: Float) -> Trade:
    """What calmness costs: each jumpiness with how rough its way is, how far it is from a reference, how much it lags.

    ``reference`` (n, 2) px, the true way or the smoothed one, NaN where nothing is known.
    """
    rough, error, lag = (np.full(len(TRADE), np.nan) for _ in range(3))
    speed = np.gradient(reference, measured.time, axis=0) if len(measured) > 2 else np.zeros_like(reference)
    fast = np.hypot(speed[:, 0], speed[:, 1])
    for place, push in enumerate(TRADE.tolist()):
        way = ride(measured, settings, push).filtered
        bend = way[2:] - 2 * way[1:-1] + way[:-2]
        off = reference - way
        known = np.isfinite(off).all(axis=1)
        if not known.any() or not np.isfinite(bend).any():
            continue
        rough[place] = np.sqrt(np.nanmean((bend**2).sum(axis=1)))
        error[place] = np.sqrt((off[known] ** 2).sum(axis=1).mean())
        moving = known & (fast > 0)
        along = (off[moving] * speed[moving]).sum(axis=1)
        lag[place] = along.sum() / max(float((fast[moving] ** 2).sum()), 1e-9)  # least squares: off = lag * speed
    best = int(np.nanargmin(error)) if np.isfinite(error).any() else 0
    return Trade(TRADE, rough, error, lag, best)
